"""The commands, against the running demo and on data folders of their own."""

import json
import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
import structlog
from click.testing import CliRunner

import angelon.demo

BUNDLE = Path(angelon.demo.__file__).with_name("bundle.yaml")
PAYLOADS = Path(__file__).parents[1] / "payloads"


def angelon_(home, *arguments, code=0, **environment):
    """One command in this process; `run_alone` is the same as a process of its own."""
    from angelon.cli.main import main

    done = CliRunner().invoke(main, arguments, env={"ANGELON_HOME": str(home), **environment})
    structlog.reset_defaults()  # the command logs to a stream that is closed by now
    assert done.exit_code == code, done.output
    return done.output


def printed(output):
    """What a command prints with --json, without the log beside it."""
    return json.loads(output[output.index("{\n") :])


def verified(home):
    """As if a code had been read at every sender's address: a bundle is not believed that it was."""
    with sqlite3.connect(home / "angelon.db") as plain:
        for key, spec in plain.execute("SELECT key, spec FROM gateway").fetchall():
            told = json.loads(spec)
            if "sender" in told:
                told["sender"]["verified"] = True
                plain.execute("UPDATE gateway SET spec = ? WHERE key = ?", (json.dumps(told), key))
        plain.execute("UPDATE store SET version = version + 1")


def run_alone(home, *arguments, code=0, **environment):
    done = subprocess.run(
        [sys.executable, "-m", "angelon", *arguments],
        env={**os.environ, "ANGELON_HOME": str(home), **environment},
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_apply_and_export_are_byte_stable(tmp_path):
    assert "route order-received: new" in angelon_(tmp_path, "apply", str(BUNDLE))
    first = angelon_(tmp_path, "export")
    (tmp_path / "out.yaml").write_text(first)
    assert angelon_(tmp_path, "apply", str(tmp_path / "out.yaml")).startswith("nothing changed\n")
    assert angelon_(tmp_path, "export") == first


def test_a_bundle_with_a_fault_changes_nothing_and_says_where(tmp_path):
    angelon_(tmp_path, "apply", str(BUNDLE))
    before = angelon_(tmp_path, "export")
    (tmp_path / "bad.yaml").write_text(
        before.replace("send: packed", "send: parcelled").replace("port: 2525", "port: much")
    )
    said = angelon_(tmp_path, "apply", str(tmp_path / "bad.yaml"), code=1)
    assert "Nothing was changed" in said
    assert "gateways.1.port" in said
    assert angelon_(tmp_path, "export") == before


def test_settings_that_nobody_knows_are_named(tmp_path):
    assert "ANGELON_HOEM is no setting" in angelon_(tmp_path, "export", code=1, ANGELON_HOEM="x")
    assert "ANGELON_BASE_URL has to start with http" in run_alone(
        tmp_path, "export", code=1, ANGELON_BASE_URL="shop.example"
    )


def test_commands_without_what_they_need_say_what_to_do(tmp_path):
    assert "Apply a bundle first" in angelon_(tmp_path, "export", code=1)
    angelon_(tmp_path, "apply", str(BUNDLE))
    assert "does not run from this data folder" in angelon_(
        tmp_path, "emit", "webshop", str(PAYLOADS / "webshop-order-created.http"), code=1
    )
    assert "There is no route “x”" in angelon_(
        tmp_path, "rehearse", "x", str(PAYLOADS / "webshop-order-created.http"), code=1
    )


def test_a_sample_is_rehearsed_by_a_route_for_new_orders_however_long_ago_it_was_placed(tmp_path):
    bundle = tmp_path / "new-only.yaml"
    given = BUNDLE.read_text("utf-8")
    row = "- key: on-its-way\n  name: On its way\n  when: [parcel.picked_up]\n"
    assert row in given
    new = row.replace("parcel.picked_up", "order.updated") + "  only_new_orders: true\n"
    bundle.write_text(given.replace(row, new), "utf-8")
    angelon_(tmp_path, "apply", str(bundle))
    verified(tmp_path)
    sample = str(PAYLOADS / "webshop-order-updated.http")
    told = angelon_(tmp_path, "rehearse", "on-its-way", sample, "--at", "2026-12-03T10:00:00Z", "--json")
    assert json.loads(told)["outcome"] == "send"


def test_rehearse_and_render_show_real_values(tmp_path):
    angelon_(tmp_path, "apply", str(BUNDLE))
    verified(tmp_path)
    told = json.loads(
        angelon_(
            tmp_path,
            "rehearse",
            "order-received",
            str(PAYLOADS / "webshop-order-created.http"),
            "--at",
            "2026-11-03T10:00:00Z",
            "--json",
        )
    )
    assert told["outcome"] == "send"
    assert told["send"]["recipient"] == "joerg.ahlers@example.org"
    assert told["send"]["due_at"] == "2026-11-03T10:00:00+00:00"
    assert told["send"]["order"]["total"] == "135,50\u00a0€"
    assert told["send"]["values"]["expected_on"] == "Dienstag, 10. November"
    mail = json.loads(angelon_(tmp_path, "render", "order-received", str(PAYLOADS / "fairground-order.http"), "--json"))
    assert mail["subject"] == "Thank you, Ελένη! Order F-77-300912 is with us"
    assert "€64.90" in mail["text"]
    sms = json.loads(
        angelon_(
            tmp_path,
            "render",
            "order-received",
            str(PAYLOADS / "webshop-order-created.http"),
            "--channel",
            "sms",
            "--json",
        )
    )
    assert sms["text"] == (
        "Danke, Jörg! Bestellung BK-2041 ist da: 135,50 €. Am Dienstag, 10. November sollte sie bei dir sein. "
        "Brackwater Kites"
    )
    assert (sms["count"]["encoding"], sms["count"]["segments"]) == ("GSM-7", 1)
    chat = json.loads(
        angelon_(
            tmp_path,
            "render",
            "order-received",
            str(PAYLOADS / "webshop-order-created.http"),
            "--channel",
            "chat",
            "--json",
        )
    )
    assert chat["values"] == ["Jörg", "BK-2041", "135,50 €", "Dienstag, 10. November"]
    assert chat["buttons"][0] == {"kind": "reply", "text": "Etwas ändern"}
    assert "has no SMS part" in angelon_(
        tmp_path, "render", "packed", str(PAYLOADS / "webshop-order-created.http"), "--channel", "sms", code=1
    )


@pytest.mark.parametrize(
    ("source", "name", "to", "parts"),
    [
        (
            "webshop",
            "webshop-order-created",
            "joerg.ahlers@example.org",
            ("BK-2041", "135,50", "1 × Heron 1.8 m delta und 2 × 50 m braided line", "Alles Gute, Mika & Ole!"),
        ),
        (
            "webshop",
            "webshop-order-updated",
            "joerg.ahlers@example.org",
            ("Gannet Post", "Montag, 9. November", "RR123456785IE"),
        ),
        (
            "fairground",
            "fairground-order",
            "eleni@example.net",
            ("Ελένη", "€64.90", "1 × Ash reel", "Thursday 12 November"),
        ),
        (
            "workbench",
            "workbench-cloudevent",
            "aoife@example.com",
            ("WB-17", "Guillemot dual-line, repaired", "20 November"),
        ),
    ],
)
def test_each_shape_that_is_emitted_to_the_running_demo_becomes_a_mail(running, source, name, to, parts):
    if name == "webshop-order-updated":  # what changed is told from what the order was before
        running.cli("emit", source, str(PAYLOADS / "webshop-order-created.http"))
    said = running.cli("emit", source, str(PAYLOADS / f"{name}.http"))
    assert said.startswith("202 ")
    mail = running.wait_for(
        lambda: next(
            (
                m
                for m in running.mails(to)
                if all(p in (m["subject"] + m["text"]).replace("\u00a0", " ") for p in parts)
            ),
            None,
        )
    )
    assert mail["html"]
    assert running.cli("emit", source, str(PAYLOADS / f"{name}.http")).startswith("200 ")


def test_an_unsigned_delivery_to_the_demo_is_refused(running):
    import httpx

    answer = httpx.post(f"{running.url}/in/webshop", json={"id": 1})
    assert answer.status_code == 401
    assert answer.headers["content-type"] == "application/problem+json"
    chunked = httpx.post(
        f"{running.url}/in/webshop", content=iter([b"x" * 1000] * 1200), headers={"Content-Type": "application/json"}
    )
    assert chunked.status_code == 413


def test_checks_of_files_run_against_a_bundle_with_a_difference_to_read(tmp_path):
    payload = json.loads((PAYLOADS / "webshop-order-created.http").read_text().partition("\n\n")[2])
    kept = {
        "key": "first",
        "name": "First mail",
        "route": "order-received",
        "source": "webshop",
        "type": "order.created",
        "at": "2026-11-03T09:41:08+00:00",
        "payload": payload,
        "texts": "none",
        "sends": [{"recipient": "joerg.ahlers@example.org", "message": "order-received", "locale": "de"}],
    }
    folder = tmp_path / "checks"
    folder.mkdir()
    (folder / "first.yaml").write_text(json.dumps(kept))
    said = angelon_(tmp_path, "check", "--bundle", str(BUNDLE), str(folder))
    assert "passed First mail" in said
    (tmp_path / "slow.yaml").write_text(
        BUNDLE.read_text().replace(
            "send: order-received, gateway: mailroom, g",
            "send: order-received, gateway: mailroom, timing: {amount: 10}, g",
        )
    )
    said = angelon_(tmp_path, "check", "--bundle", str(tmp_path / "slow.yaml"), str(folder), code=1)
    assert "FAILED First mail" in said
    assert "- send: due at once" in said
    assert "+ send: due 10 minutes after the event" in said
    told = printed(angelon_(tmp_path, "check", "--json", "--bundle", str(tmp_path / "slow.yaml"), str(folder), code=1))
    assert [(one["key"], one["passed"]) for one in told["checks"]] == [("first", False)]
    assert "- send: due at once" in told["checks"][0]["differences"]
    (folder / "bad.yaml").write_text("- 1")
    assert "is no check" in angelon_(tmp_path, "check", "--bundle", str(BUNDLE), str(folder), code=1)


def test_the_store_s_checks_are_written_as_files_and_read_back(running, tmp_path):
    assert "checks written" in running.cli("check", "--save", str(tmp_path))


def test_a_set_up_goes_whole_into_a_folder_and_back(tmp_path):
    """Files, checks, suppressions and drafts too; what is lacking is listed, and what can't work yet is left off."""
    from angelon.db.database import Database
    from angelon.db.people import suppressions
    from angelon.db.setup import checks, files, live_setup, specs
    from angelon.db.tables import MessageRow
    from angelon.settings import Settings
    from tests import made

    here, there, out = tmp_path / "here", tmp_path / "there", tmp_path / "out"
    here.mkdir(), there.mkdir()
    angelon_(here, "apply", str(BUNDLE))
    database = Database(Settings(home=here, secret_key="a-key-for-tests-only").url)
    with database.writing() as session:
        now = made.NOON
        picture = live_setup.LibraryFile(0, "letterhead", "brackwater-kites.png", "image/png", 8)
        files.put(session, 1, picture, b"\x89PNG\r\n\x1a\n", now)
        files.put(
            session, 1, live_setup.LibraryFile(0, "care", "a.pdf", "application/pdf", 5, "sku", "X"), b"%PDF-", now
        )
        for match in ("Kite A", "kite-a"):  # two matches that are written alike
            files.put(
                session,
                1,
                live_setup.LibraryFile(0, "care", "b.pdf", "application/pdf", 6, "sku", match),
                b"%PDF-" + match[-1:].encode(),
                now,
            )
        suppressions.add(session, 1, "email:no@example.org", "asked, not to be, written to.", now)
        from angelon.core.specs.check import Check

        checks.save(session, 1, Check(key="c", name="C", route="order-received", source="webshop", at=now, payload={}))
        draft = specs.message(session, 1, "packed").spec.model_copy(update={"name": "Packed, drafted"})
        specs.save_draft(session, MessageRow, 1, draft, now)
    database.close()

    verified(here)
    tokens = {f"ANGELON_SECRET_GATEWAY_{key}": "a-token" for key in ("TEXT_LINE", "HARBOUR_CHAT")}
    assert "route order-received: switched on" in angelon_(here, "apply", str(BUNDLE), **tokens)

    told = angelon_(here, "export", "--to", str(out))
    assert "left out: signing secret of" in told
    assert (out / "files" / "care" / "x-a.pdf").read_bytes() == b"%PDF-"
    applied = angelon_(there, "apply", str(out), ANGELON_SECRET_GATEWAY_TEXT_LINE="a-token")
    assert "files: 4" in applied
    assert "drafts: 1" in applied
    assert "gateway text-line: secret set" in applied
    assert "lacking: gateway harbour-chat: no token" in applied
    assert "lacking: gateway mailroom: orders@brackwater.example is not verified." in applied, "it is not believed"
    assert "route order-received: left off. by: orders@brackwater.example is not verified yet" in applied
    assert "route order-received-text: switched on" in applied
    assert "route order-received-chat: left off" in applied
    alike = [file.read_bytes() for file in (out / "files" / "care").glob("*b.pdf")]
    assert sorted(alike) == [b"%PDF-A", b"%PDF-a"]
    again = tmp_path / "again"
    angelon_(there, "export", "--to", str(again))
    same = ("files.yaml", "suppressions.csv", "drafts.yaml", "checks/c.yaml", "files/care/x-a.pdf")
    assert [name for name in same if (out / name).read_bytes() != (again / name).read_bytes()] == []
    twice = angelon_(there, "apply", str(again))
    assert "new" not in twice.replace("new suppressions", "")


def test_a_folder_that_is_none_or_holds_what_can_not_be_changes_nothing(tmp_path):
    folder = tmp_path / "folder"
    folder.mkdir()
    assert "The folder has no bundle.yaml" in angelon_(tmp_path, "apply", str(folder), code=1)
    (folder / "bundle.yaml").write_text("store: {key: a, name: A}")
    (folder / "files.yaml").write_text("- {at: ../../etc/passwd, folder: x, name: y}")
    assert "There is no file “../../etc/passwd” in the folder." in angelon_(tmp_path, "apply", str(folder), code=1)
    (folder / "files.yaml").write_text("")
    (folder / "suppressions.csv").write_text("address,why\njo@example.org,no\n")
    assert "Write it like email:jo@example.org" in angelon_(tmp_path, "apply", str(folder), code=1)
    (folder / "suppressions.csv").write_bytes(b"address,why\nemail:jo@example.org,\xe4\n")
    assert "suppressions.csv: The file is not UTF-8 text." in angelon_(tmp_path, "apply", str(folder), code=1)
    (folder / "suppressions.csv").write_text("address,why,since\nemail:jo@example.org,no,soon\n")
    assert "Line 2: “soon” is no time." in angelon_(tmp_path, "apply", str(folder), code=1)
    (folder / "drafts.yaml").write_bytes(b"\xff\xfe")
    assert "drafts.yaml: The file is not UTF-8 text." in angelon_(tmp_path, "apply", str(folder), code=1)
    assert "Apply a bundle first" in angelon_(tmp_path, "export", code=1)
    (folder / "drafts.yaml").write_text("")
    (folder / "suppressions.csv").write_text("address,why,since\nemail:jo@example.org,no,2026-01-01T10:00:00\n")
    assert "new suppressions: 1" in angelon_(tmp_path, "apply", str(folder)), "a time without a zone is UTC"


def test_a_script_reads_what_apply_and_check_say(tmp_path):
    said = printed(angelon_(tmp_path, "apply", str(BUNDLE), "--json"))
    assert "route order-received: new" in said["changes"]
    assert said["dry_run"] is False
    assert said["lacking"]
    assert printed(angelon_(tmp_path, "apply", str(BUNDLE), "--dry-run", "--json"))["changes"] == []
    assert printed(angelon_(tmp_path, "check", "--json")) == {"passed": True, "checks": []}


def test_exit_codes_are_as_the_guide_says(tmp_path):
    angelon_(tmp_path, "apply", str(tmp_path / "none.yaml"), code=2)
    (tmp_path / "bad.yaml").write_text("routes: 7")
    angelon_(tmp_path, "apply", str(tmp_path / "bad.yaml"), code=1)
    angelon_(tmp_path, "segments", "Hello", code=0)


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_shell_completes_commands(tmp_path, shell):
    assert "_ANGELON_COMPLETE" in angelon_(tmp_path, "completion", shell)
    asked = {"_ANGELON_COMPLETE": f"{shell}_complete", "COMP_WORDS": "angelon reh", "COMP_CWORD": "1"}
    asked |= {"COMP_WORDS": "angelon reh", "COMP_CWORD": "reh"} if shell == "fish" else {}
    asked |= {"ANGELON_HOME": str(tmp_path), **os.environ}
    done = subprocess.run([Path(sys.executable).with_name("angelon")], env=asked, capture_output=True, text=True)
    assert "rehearse" in done.stdout
