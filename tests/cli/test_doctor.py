"""`angelon doctor` on installations that lack something: each is named, with what to do."""

import datetime as dt
import json

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from angelon.db.tables import GatewayRow, HeartbeatRow
from tests import made

ZONE = 'kites.example. 60 IN TXT "v=spf1 -all"\n'


def doctor(bench, *arguments, **environment):
    around = {"ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only", **environment}
    if not bench.database.sqlite:
        around["ANGELON_DATABASE_URL"] = bench.database.url
    done = CliRunner().invoke(main, ["doctor", *arguments], env=around)
    assert done.exception is None or isinstance(done.exception, SystemExit), done.output
    return done


@pytest.fixture
def well(bench):
    """Workers are alive, and the folder is its owner's alone."""
    bench.home.chmod(0o700)
    for file in bench.home.glob("*"):
        file.chmod(0o600)
    with bench.database.writing() as session:
        session.add(HeartbeatRow(worker="a", at=dt.datetime.now(dt.UTC), role="plan send"))
    return bench


def test_what_is_well_is_said_and_what_is_missing_with_what_to_do(well):
    done = doctor(well, "--offline", ANGELON_BASE_URL="https://angelon.example")
    assert done.exit_code == 0, done.output
    for said in ("A worker processes events", "Public address https://angelon.example", "up to date", "0 problems."):
        assert said in done.output
    assert "ANGELON_TRUSTED_PROXIES is not set" in done.output
    assert "Alerts are off" in done.output
    assert "Switch them on under Settings, Alerts." in done.output
    assert "There are no accounts" in done.output


@pytest.mark.sqlite
def test_a_file_that_others_may_read_a_missing_worker_and_a_wrong_clock_are_problems(well):
    (well.home / "angelon.db").chmod(0o644)
    with well.database.writing() as session:
        session.merge(HeartbeatRow(worker="a", at=dt.datetime.now(dt.UTC) - dt.timedelta(hours=1), role="plan send"))
    done = doctor(well, "--offline")
    assert done.exit_code == 1
    assert f"chmod go-rwx {well.home / 'angelon.db'}" in done.output
    assert "No worker delivers sends." in done.output
    with well.database.writing() as session:
        session.merge(HeartbeatRow(worker="a", at=dt.datetime.now(dt.UTC) + dt.timedelta(hours=1), role="plan send"))
    assert "a clock is wrong" in doctor(well, "--offline").output


def test_gateways_are_tried_and_domains_asked_about_and_nothing_is_sent(well, mailbox, tmp_path):
    zone = tmp_path / "zone"
    zone.write_text(ZONE)
    done = doctor(well, ANGELON_ZONE=str(zone))
    assert "Mailroom answers" in done.output
    assert "kites.example, SPF" in done.output
    assert well.box.mails() == []
    well.change(made.gateway(9), GatewayRow)
    done = doctor(well, ANGELON_ZONE=str(zone))
    assert done.exit_code == 1
    assert "Mailroom: port:" in done.output
    assert "Open /gateways/mailroom, Try the connection." in done.output


@pytest.mark.parametrize(
    ("environment", "said"),
    [
        ({"ANGELON_HOME": "/nowhere/at/all"}, "There is no folder /nowhere/at/all."),
        ({"ANGELON_SENDERS": "many"}, "senders"),
    ],
)
def test_settings_that_can_t_be_used_are_named(environment, said, tmp_path):
    done = CliRunner().invoke(main, ["doctor"], env={"ANGELON_HOME": str(tmp_path), **environment})
    assert done.exit_code == 1
    assert said in done.output.lower() if said == "senders" else said in done.output


@pytest.mark.sqlite
def test_another_key_than_the_credentials_were_sealed_under_is_named(well):
    with well.database.writing() as session:
        well.vault.put(session, "gateway", 1, "secret", well.clock.now())
    done = doctor(well, "--offline", ANGELON_SECRET_KEY="another-key-altogether")
    assert done.exit_code == 1
    assert "sealed under another secret key" in done.output


def test_it_is_told_as_json_too(well):
    done = doctor(well, "--offline", "--json")
    found = json.loads(done.output[done.output.index("{\n") :])["findings"]
    assert {"part": "Processes", "state": "ok", "found": "A worker processes events", "hint": ""} in found
    assert done.exit_code == 0


def test_a_nightly_export_is_looked_after(well, tmp_path):
    rows = tmp_path / "rows"
    at = {"ANGELON_EXPORTS": str(rows)}
    assert "was not written yet" in doctor(well, "--offline", **at).output
    old = rows / "kites" / "2026-01-05"
    old.mkdir(parents=True)
    assert "was not written yet" in doctor(well, "--offline", **at).output, "it is not whole"
    (old / "complete.json").write_text("{}")
    assert "The nightly export of kites was last written on 2026-01-05." in doctor(well, "--offline", **at).output
    today = rows / "kites" / str(dt.datetime.now(dt.UTC).date())
    today.mkdir()
    (today / "complete.json").write_text("{}")
    assert f"The nightly export is in {rows}, the newest of {today.name}" in doctor(well, "--offline", **at).output
    elsewhere = doctor(well, "--offline", ANGELON_EXPORTS="s3://rows/shop").output
    assert "Nightly export" not in elsewhere, "nobody elsewhere is asked"
