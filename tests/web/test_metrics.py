"""`/metrics`: what it counts, in a format that a parser reads; and who may ask."""

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
import yaml
from prometheus_client import generate_latest
from prometheus_client.parser import text_string_to_metric_families

from angelon.cli import holding
from angelon.core.specs import Bundle
from angelon.db.setup import bundles
from angelon.engine import counters as kept
from angelon.engine.operations import accounts, tokens
from angelon.engine.unit import unit
from tests import made
from tests.web.test_pages import post


def numbers(answer):
    assert answer.status_code == 200
    families = text_string_to_metric_families(answer.get_data(as_text=True))
    return {(one.name, tuple(sorted(one.labels.items()))): one.value for family in families for one in family.samples}


def test_it_counts_what_waits_and_how_tries_went(client, bench, mailbox):
    post(client)
    found = numbers(client.get("/metrics"))
    assert found["angelon_events_waiting", ()] == 1
    bench.plan()
    found = numbers(client.get("/metrics"))
    assert found["angelon_events_waiting", ()] == 0
    assert found["angelon_sends", (("gateway", "mailroom"), ("state", "scheduled"), ("store", "kites"))] == 1
    bench.dispatcher().run_batch()
    found = numbers(client.get("/metrics"))
    assert ("angelon_sends", (("gateway", "mailroom"), ("state", "scheduled"), ("store", "kites"))) not in found
    assert found["angelon_tries_last_hour", (("gateway", "mailroom"), ("outcome", "accepted"), ("store", "kites"))] == 1
    assert (
        found["angelon_try_seconds_last_hour_bucket", (("gateway", "mailroom"), ("le", "+Inf"), ("store", "kites"))]
        == 1
    )
    assert found["angelon_gateway_unreachable", (("gateway", "mailroom"), ("store", "kites"))] == 0


def test_gateways_of_two_stores_with_one_name_are_told_apart(client, bench):
    other = Bundle(store=made.store().model_copy(update={"key": "other"}), gateways=[made.gateway(2525)])
    with bench.database.writing() as session:
        bundles.apply(session, other, bench.clock.now())
    bench.services.setups.forget()
    text_ = client.get("/metrics").get_data(as_text=True)
    series = [line.split(" ")[0] for line in text_.splitlines() if line and not line.startswith("#")]
    assert len(series) == len(set(series)), "none twice"
    found = numbers(client.get("/metrics"))
    for store in ("kites", "other"):
        assert found["angelon_gateway_unreachable", (("gateway", "mailroom"), ("store", store))] == 0


def test_from_elsewhere_and_where_there_are_accounts_a_token_is_asked_for(client, bench):
    assert client.get("/metrics", headers={"X-Forwarded-For": "203.0.113.9"}).status_code == 401
    kept = accounts.hashed("three green lanterns", "n@example.com")
    with bench.database.writing() as session:
        accounts.create(session, "n@example.com", "N", kept, "owner", bench.clock.now())
    assert client.get("/metrics").status_code == 401
    with unit(bench.services.installation, bench.store_id) as work:
        right, wrong = tokens.create(work, "Monitoring", ["metrics"]), tokens.create(work, "Other", ["tests"])
    assert client.get("/metrics", headers={"Authorization": f"Bearer {wrong}"}).status_code == 401
    assert numbers(client.get("/metrics", headers={"Authorization": f"Bearer {right}"}))


def test_requests_are_counted_as_they_happen_by_part_and_status_and_room_is_told(client, bench):
    key = ("angelon_http_requests_total", (("part", "orders"), ("status", "2xx")))
    before = numbers(client.get("/metrics")).get(key, 0)
    for _ in range(3):
        client.get("/orders")
    client.get("/no/such/page")
    found = numbers(client.get("/metrics"))
    assert found[key] == before + 3
    assert found["angelon_http_seconds_bucket", (("le", "+Inf"), ("part", "orders"))] >= 3
    assert found["angelon_http_requests_total", (("part", "none"), ("status", "4xx"))] >= 1
    assert found["angelon_disk_free_bytes", ()] > 0
    assert found.get(("angelon_database_bytes", ()), 1) > 0


def test_names_that_strangers_make_up_are_no_names_of_their_own():
    kept._sources.clear()
    for number in range(50):
        kept.delivered(f"made-up-{number}", 404, 0.001)
    kept.delivered("shop", 202, 0.001)
    kept.delivered("shop", 401, 0.001)
    said = generate_latest(kept.KEPT).decode()
    assert "made-up" not in said
    assert 'angelon_deliveries_total{source="shop",status="401"} 1.0' in said


ROOT = Path(__file__).parents[2]
RULES = ROOT / "docs/monitoring/alert-rules.yml"


def test_alert_rules_ask_for_what_is_told(client, bench):
    """Every metric of the rules is one of `/metrics`, once something has happened that each is about."""
    post(client)
    bench.plan()
    client.get("/orders")
    told = {f"{one.name}_total" if one.type == "counter" else one.name
            for one in text_string_to_metric_families(client.get("/metrics").get_data(as_text=True))}  # fmt: skip
    rules = [rule for group in yaml.safe_load(RULES.read_text())["groups"] for rule in group["rules"]]
    asked = {name for rule in rules for name in re.findall(r"angelon_[a-z_]+", rule["expr"])}
    assert asked <= told, asked - told
    assert len(rules) >= 10
    assert all(rule["annotations"]["summary"].endswith(".") and rule["labels"]["severity"] for rule in rules)


@pytest.mark.skipif(shutil.which("promtool") is None, reason="Debian's package prometheus is not installed")
def test_alert_rules_fire_for_what_they_are_about():
    for command in (["check", "rules", RULES], ["test", "rules", ROOT / "tests/alert-rules-test.yml"]):
        done = subprocess.run(["promtool", *map(str, command)], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr


BOARD = ROOT / "docs/monitoring/dashboard.json"


@pytest.mark.sqlite
def test_every_metric_of_the_dashboard_is_told(client, bench, mailbox):
    post(client)
    bench.plan()
    told = {name for name, _ in numbers(client.get("/metrics"))}
    bench.dispatcher().run_batch()
    client.get("/orders")
    told |= {name for name, _ in numbers(client.get("/metrics"))}
    board = json.loads(BOARD.read_text())
    asked_for = [one["expr"] for panel in board["panels"] for one in panel["targets"]]
    asked = {name for expression in asked_for for name in re.findall(r"angelon_\w+", expression)}
    only_served = {"angelon_delivery_seconds_bucket", "angelon_deliveries_total"}
    assert asked - told - only_served == set()
    assert len(asked) > 12


def test_planning_and_tries_are_counted_as_they_happen(client, bench, mailbox):
    def one(name, **labels):
        return numbers(client.get("/metrics")).get((name, tuple(sorted(labels.items()))), 0)

    tries = {"gateway": "mailroom", "outcome": "accepted", "store": "kites"}
    before = one("angelon_events_planned_total"), one("angelon_tries_total", **tries)
    post(client)
    bench.plan()
    bench.dispatcher().run_batch()
    assert one("angelon_events_planned_total") == before[0] + 1
    assert one("angelon_tries_total", **tries) == before[1] + 1
    assert one("angelon_send_wait_seconds_count", gateway="mailroom", store="kites") >= 1


PROCESS = """
import sys
from pathlib import Path
from angelon.cli.holding import count_together, hold
home = Path(sys.argv[1])
count_together(home)
hold(home)
from angelon.engine import counters
counters.planned(int(sys.argv[2]), 1, 0.1)
if len(sys.argv) > 3:
    import os, shutil
    shutil.rmtree(os.environ["PROMETHEUS_MULTIPROC_DIR"])
    if os.fork():
        os.wait()
    counters.tried("shop", "new", "accepted", 1, None)
    counters.planned(1, 1, 0.1)
    counters.told()
print(counters.told().decode().count("angelon_events_planned_total 7.0"), flush=True)
sys.stdin.read()
"""


@pytest.mark.parametrize("there", ["a file", "a folder of all"])
def test_where_no_folder_can_be_shared_nothing_is_lost_and_each_counts_for_itself(tmp_path, monkeypatch, there):
    monkeypatch.setattr(holding, "MEMORY", tmp_path / "none")
    monkeypatch.delenv(holding.COUNTED, raising=False)
    (tmp_path / "angelon.db").write_text("everything")
    if there == "a file":
        (tmp_path / "metrics").write_text("")
    else:
        (tmp_path / "metrics").mkdir()
        (tmp_path / "metrics").chmod(0o777)
    holding.count_together(tmp_path)
    assert holding.COUNTED not in os.environ
    assert (tmp_path / "angelon.db").read_text() == "everything"


def test_processes_of_a_folder_count_together_and_begin_anew_when_none_is_left(tmp_path):
    def process(number):
        env = {name: value for name, value in os.environ.items() if name != "PROMETHEUS_MULTIPROC_DIR"}
        command = [sys.executable, "-c", PROCESS, str(tmp_path), str(number)]
        return subprocess.Popen(command, env=env, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    first = process(3)
    assert first.stdout.readline() == "0\n"
    second = process(4)
    assert second.stdout.readline() == "1\n", "three and four"
    for one in (first, second):
        one.communicate()
    third = process(7)
    assert third.stdout.readline() == "1\n", "what was before is gone"
    third.communicate()


def test_counting_whose_folder_is_taken_away_harms_nobody(tmp_path):
    env = {name: value for name, value in os.environ.items() if name != "PROMETHEUS_MULTIPROC_DIR"}
    command = [sys.executable, "-c", PROCESS, str(tmp_path), "3", "gone"]
    done = subprocess.run(command, env=env, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
