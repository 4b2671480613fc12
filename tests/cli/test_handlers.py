"""Commands for handlers, and the tools for an author's own tests."""

import json
import subprocess
import sys
import textwrap

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from angelon.handlers import Money, Outbox, days, hours, on, registered
from angelon.handlers.testing import event, run
from tests import made

HTTP = b"Content-Type: application/json\nStore-Event: placed\n\n" + made.body()


@pytest.fixture
def shop(tmp_path, monkeypatch, bench):
    """A folder with a bundle and a captured delivery; the data folder is a bench's."""
    monkeypatch.setenv("ANGELON_HOME", str(bench.home))
    monkeypatch.setenv("ANGELON_SECRET_KEY", "a-key-for-tests-only")
    monkeypatch.setenv("ANGELON_HANDLERS", str(tmp_path / "handlers"))
    monkeypatch.chdir(tmp_path)
    (tmp_path / "delivery.http").write_bytes(HTTP)
    (tmp_path / "angelon.yaml").write_text(CliRunner().invoke(main, ["export"]).output)
    return tmp_path


def invoke(*arguments):
    return CliRunner().invoke(main, ["handlers", *arguments])


def test_a_start_is_written_and_its_own_test_passes(shop):
    told = invoke("new", "large_orders")
    assert told.exit_code == 0
    assert invoke("new", "large_orders").exit_code == 1
    assert "no name for a function" in invoke("new", "9-lives").output
    start, test = shop / "handlers/large_orders.py", shop / "handlers/test_large_orders.py"
    start.write_text(start.read_text().replace('"order-received"', '"received"'))
    test.write_text(
        test.read_text().replace('"order-received"', '"received"').replace('source="webshop"', 'source="shop"')
    )
    (shop / "handlers/delivery.http").write_bytes(HTTP)
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_large_orders.py"],
        cwd=shop / "handlers",
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert ran.returncode == 0, ran.stdout + ran.stderr
    listed = invoke("list")
    assert "large_orders  large_orders.py:6  order.created" in listed.output
    tried = invoke("try", "large_orders", "delivery.http")
    assert "handler  yes      large_orders.py:12" in tried.output, tried.output
    assert "scheduled: " in tried.output
    as_json = json.loads(invoke("try", "large_orders", "delivery.http", "--json").output)
    assert as_json["asked"]["sends"][0]["message"] == "received"
    assert as_json["decision"]["outcome"] == "send"


def test_what_is_wrong_is_said_and_exits_with_1(shop):
    (shop / "handlers").mkdir()
    (shop / "handlers/bad.py").write_text("from angelon.handlers import on\n@on('created')\ndef f(e, o): ...\n")
    listed = invoke("list")
    assert listed.exit_code == 1
    assert "is no event type" in listed.output
    assert "There is no handler “f”" in invoke("try", "f", "delivery.http").output
    (shop / "handlers/bad.py").write_text(
        textwrap.dedent(
            """
            from angelon.handlers import on

            @on("order.created")
            def f(event, outbox):
                raise RuntimeError("no " + event.order.number)
            """
        )
    )
    tried = invoke("try", "f", "delivery.http")
    assert tried.exit_code == 1
    assert "RuntimeError: no " in tried.output
    assert 'File "bad.py", line 6' in tried.output
    missing = invoke("list", "--folder", str(shop / "nowhere"))
    assert missing.output == ""


def test_an_event_in_a_test_is_read_as_the_bundle_maps_it(shop):
    happened = event("delivery.http", source="shop", orders=4, values={"gift_note": "hello"})
    assert happened.type == "order.created"
    assert happened.order.total == Money(happened.order.total.amount, "EUR")
    assert happened.order.lines[0]["sku"]
    assert happened.person.orders == 4
    assert happened.values["gift_note"] == "hello"
    assert happened.values["customer_name"] == happened.person.name
    with pytest.raises(ValueError, match="no source 'elsewhere'"):
        event("delivery.http", source="elsewhere")
    changed = event(made.order(), source="shop", type="order.status_changed", was="new")
    assert (changed.was, changed.now) == ("new", made.order()["state"])


def test_a_call_in_a_test_gives_what_is_asked_for(shop):
    def handler(event, outbox: Outbox):
        outbox.send("a", by="sms", after=hours(2), values={"total": event.order.total})
        outbox.send("b", to=event.person, after=days(1))
        outbox.derive("order.looked_at")

    asked = run(handler, event("delivery.http", source="shop"))
    assert [(send.message, send.by, send.to, send.after["unit"]) for send in asked.sends] == [
        ("a", "sms", "customer", "hours"),
        ("b", "email", "customer", "days"),
    ]
    assert isinstance(asked.sends[0].values["total"], Money)
    assert asked.derive == ["order.looked_at"]
    with pytest.raises(TypeError, match="a set can't stand in a message"):
        run(lambda e, o: o.send("a", values={"x": {1}}), event("delivery.http", source="shop"))


@pytest.mark.parametrize(
    ("arguments", "said"),
    [((), "at least one event type"), (("created",), "no event type"), ((3,), "no event type")],
)
def test_a_registration_that_can_t_be_says_why(arguments, said):
    with pytest.raises(ValueError, match=said):
        on(*arguments)
    with pytest.raises(ValueError, match=r"between 0\.1 and 30"):
        on("a.b", timeout=100)
    before = len(registered)
    on("a.b", source=("x", "y"), rank=3)(len)
    assert (registered[before].sources, registered[before].rank) == (("x", "y"), 3)
    del registered[before:]
