"""Routes and what belongs to them, over HTTP: the sentence saved and refused, rehearsals, effects, checks, runs,
suppressions, answers.
"""

import datetime as dt
import json
import re

import pytest

from angelon.core.specs import Store
from angelon.core.specs.stored import from_stored
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, MessageRow, StoreRow
from tests import made
from tests.web.test_pages import post, text

FRAGMENT = {"X-Fragment": "1"}


def route(bench, key="received"):
    with bench.database.reading() as session:
        return specs.current_spec(session, specs.by_key(session, specs.RouteRow, bench.store_id, key))


def team(bench, **changes):
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = from_stored(
            Store, row.spec | {"team": [{"name": "Nuala", "role": "owner", "email": "nuala@kites.example"}]} | changes
        ).plain()
        specs.touch(session, row.id)
    bench.services.setups.forget()


def save(client, **form):
    return client.post("/routes/received", data=form, headers=FRAGMENT)


def run(client, address):
    """The last line of a run, as HTML."""
    lines = client.get(address).get_data(as_text=True).strip().splitlines()
    return [json.loads(line) for line in lines]


def test_every_part_of_the_sentence_is_kept_and_read_back(client, bench):
    team(bench)
    post(client)
    condition = {"join": "all", "of": [{"kind": "compare", "of": "total", "op": "at_least", "value": "50"}]}
    assert save(client, only_if=json.dumps(condition)).status_code == 200
    save(
        client,
        **{
            "timing.there": "1",
            "timing.amount": "2",
            "timing.unit": "hours",
            "timing.anchor": "event",
            "timing.windowed": "1",
            "timing.window.start": "08:00",
            "timing.window.end": "20:00",
            "timing.window.weekdays": ["0", "1"],
        },
    )
    save(
        client,
        **{
            "to.there": "1",
            "to.customer": "1",
            "to.role": "owner",
            "to.addresses": "Packer, packer@kites.example",
            "to.paths": "$.buyer.email",
        },
    )
    save(
        client,
        **{
            "guards.there": "1",
            "cap.most": ["3", ""],
            "cap.per": ["customer", "customer"],
            "cap.days": ["7", "1"],
            "guards.skip_refunded": "1",
            "priority": "2",
        },
    )
    page = save(
        client,
        **{
            "fallback.there": "1",
            "fallback.gateway": ["", ""],
            "fallback.send": ["", ""],
            "fallback.within_minutes": "0",
            "fallback.tell": "owner",
        },
    ).get_data(as_text=True)
    said = " ".join(page.split())
    for part in (
        "total is at least 50",
        "2 hours after the event, between 08:00 and 20:00 on Mon, Tue there",
        "the customer, the owner, Packer and the address at $.buyer.email",
        "at most 3 messages per customer in 7 days, not for refunded orders",
        "tell the owner",
    ):
        assert part in said
    kept = route(bench)
    assert kept["priority"] == 2
    assert kept["only_if"]["of"][0]["value"] == "50"
    assert "Rehearsal: 3 sends would be sent" in said  # the customer and the path are one address


@pytest.mark.parametrize(
    ("form", "said"),
    [
        (
            {
                "timing.there": "1",
                "timing.windowed": "1",
                "timing.window.start": "08:00",
                "timing.window.end": "08:00",
                "timing.window.weekdays": "0",
            },
            "never opens",
        ),
        (
            {"timing.there": "1", "timing.windowed": "1"},
            "Timing: the window never opens: choose at least one weekday. It stays as it was.",
        ),
        (
            {"timing.there": "1", "timing.not_before": "2026-12-02", "timing.not_after": "2026-12-01"},
            "ends before it begins",
        ),
        ({"to.there": "1", "to.customer": "1", "to.paths": "$.buyer["}, "is no path"),
        (
            {"guards.there": "1", "cap.most": "lots", "cap.per": "order", "cap.days": "1"},
            "Limits: the most has to be a whole number. It was “lots”.",
        ),
        ({"only_if": "{"}, "can’t be read"),
        ({"only_if": json.dumps({"of": [{"of": "total", "op": "matches", "value": "["}]})}, "no regular expression"),
        ({"own_type": "Not dotted"}, "no event type"),
    ],
)
def test_what_makes_no_sense_is_said_and_loses_nothing(client, bench, form, said):
    before = route(bench)
    answer = save(client, **form)
    assert answer.status_code == 422
    assert said in answer.get_json()["detail"]
    assert route(bench) == before


def test_a_condition_on_a_deleted_variable_and_an_empty_to_keep_a_route_off(client, bench):
    save(client, only_if=json.dumps({"of": [{"kind": "compare", "of": "gone_thing", "op": "present"}]}))
    assert "looks at “gone_thing”, which is not there any more" in text(
        client.post("/routes/received/switch", data={"on": "yes"}, follow_redirects=True)
    )
    save(client, only_if=json.dumps({"of": []}))
    save(client, **{"to.there": "1"})
    assert "The route has no recipient." in text(
        client.post("/routes/received/switch", data={"on": "yes"}, follow_redirects=True)
    )


def test_a_route_is_copied_deleted_and_brought_back(client, bench):
    client.post("/upkeep/route/received/copy")
    assert "Received (copy)" in text(client.get("/routes"))
    page = text(client.post("/routes/received-2/delete", follow_redirects=True))
    assert "Undo" in page
    assert "Received (copy)" in page
    assert client.get("/routes/received-2").status_code == 404
    client.post("/routes/received-2/restore")
    assert client.get("/routes/received-2").status_code == 200


def test_pausing_holds_and_going_on_asks(client, bench):
    save(client, **{"timing.there": "1", "timing.amount": "60", "timing.unit": "minutes"})
    client.post("/routes/received/switch", data={"on": "yes"})
    post(client)
    bench.plan()
    assert "1 send of this route waits for its time" in text(client.get("/routes/received"))
    assert "1 of its sends are held" in text(
        client.post("/routes/received/switch", data={"on": "no", "scheduled": "hold"}, follow_redirects=True)
    )
    start = bench.clock.now
    bench.clock.now = lambda: start() + dt.timedelta(hours=2)
    assert "1 send is held since it was switched off, and the time of 1 has passed" in text(
        client.get("/routes/received")
    )
    assert "1 whose time had passed do not" in text(
        client.post("/routes/received/switch", data={"on": "yes", "late": "drop"}, follow_redirects=True)
    )
    assert bench.rows("SELECT state FROM send") == [("cancelled",)]


# ---- rehearsals


def test_a_rehearsal_over_a_span_shows_what_would_have_come_out_and_stores_nothing(client, bench):
    for number in (1, 2):
        post(client, made.body(id=number), **{"Store-Delivery": f"d{number}"})
    post(client, made.body(id=1, total="2.00"), **{"Store-Delivery": "again"})
    bench.plan()
    before = bench.rows("SELECT count(*) FROM send")
    save(client, only_if=json.dumps({"of": [{"kind": "compare", "of": "total", "op": "at_least", "value": "50"}]}))
    lines = run(client, "/rehearsals/received/run?span=7d")
    assert lines[0] == {"done": 3, "of": 3}
    page = " ".join(lines[-1]["html"].split())
    assert "Total is at least 50 does not hold." in page
    assert "joerg@example.org" in page
    assert bench.rows("SELECT count(*) FROM send") == before


def test_the_effect_of_a_change_is_told_before_it_is_live(client, bench):
    for number, total in ((1, "10.00"), (2, "90.00")):
        post(client, made.body(id=number, total=total), **{"Store-Delivery": f"d{number}"})
    bench.plan()
    assert "nothing to compare" in text(client.get("/rehearsals/received/effect", follow_redirects=True))
    save(client, only_if=json.dumps({"of": [{"kind": "compare", "of": "total", "op": "at_least", "value": "50"}]}))
    save(client, **{"timing.there": "1", "timing.amount": "30", "timing.unit": "minutes"})
    page = " ".join(run(client, "/rehearsals/received/run?kind=effect&span=100")[-1]["html"].split())
    for tally in (
        "<b>2</b><span>events looked at",
        '<b>0</b><span class="state mute">= the same',
        '<b>1</b><span class="state bad">− gone',
        '<b>1</b><span class="state wait">± changed',
    ):
        assert tally in page
    assert "± time" in page


def test_an_event_that_is_given_is_rehearsed_or_said_what_is_wrong_with(client, bench):
    good = f"Store-Event: placed\nContent-Type: application/json\n\n{made.body().decode()}"
    page = text(client.post("/rehearsals/received/given", data={"body": good}))
    assert "joerg@example.org by email, in de" in page
    assert bench.rows("SELECT count(*) FROM event") == [(0,)]
    assert "It can’t be read" in text(
        client.post("/rehearsals/received/given", data={"body": "{broken"}, follow_redirects=True)
    )
    assert "Paste a delivery" in text(
        client.post("/rehearsals/received/given", data={"body": " "}, follow_redirects=True)
    )


# ---- checks


def kept(client, bench):
    post(client)
    bench.plan()
    (event,) = bench.rows("SELECT id FROM event")[0]
    client.post("/checks/keep", data={"route": "received", "event": event})


def test_a_check_is_kept_green_and_red_blocks_the_route_with_a_way_through_that_is_logged(client, bench):
    kept(client, bench)
    assert "passed" in text(client.get("/checks/received-bk-7"))
    save(client, **{"timing.there": "1", "timing.amount": "30", "timing.unit": "minutes"})
    blocked = client.post("/routes/received/switch", data={"on": "yes"})
    assert blocked.status_code == 409
    assert "- send: due at once" in text(blocked)
    assert "+ send: due 30 minutes after the event" in text(blocked)
    assert bench.rows("SELECT count(*) FROM revision WHERE kind = 'route'") == [(1,)]
    client.post("/routes/received/switch", data={"on": "yes", "override": "yes"})
    assert bench.rows("SELECT note FROM revision WHERE kind = 'route' ORDER BY id DESC LIMIT 1") == [
        ("Went live although failed: Received: BK-7.",)
    ]
    assert "failed" in text(client.post("/checks/run", follow_redirects=True))
    client.post("/checks/received-bk-7/accept")
    assert "All 1 checks passed." in text(client.post("/checks/run", follow_redirects=True))


def test_a_red_check_blocks_a_message_and_parts_of_a_text_may_do(client, bench):
    kept(client, bench)
    client.post(
        "/checks/received-bk-7",
        data={"name": "First mail", "texts": "parts", "contains.0": "You ordered\n135,50", "values.0": "customer_name"},
    )
    assert "passed" in text(client.get("/checks/received-bk-7"))
    spec = made.message().model_dump(mode="json")
    spec["email"]["de"]["blocks"][1]["text"] = (
        "You bought {{ items }} for {{ total }}. It comes on **{{ expected_on }}**."
    )
    with bench.database.writing() as session:
        specs.save_draft(session, MessageRow, bench.store_id, made.Message.model_validate(spec), bench.clock.now())
    blocked = client.post("/messages/received/publish", data={})
    assert blocked.status_code == 409
    assert "“You ordered” does not stand in the text" in text(blocked)


# ---- by hand


def test_a_route_is_run_by_hand_on_orders_of_a_file_and_twice_is_asked_about(client, bench):
    client.post(
        "/routes/received",
        data={"asks.there": "1", "asks.variable": "gift_note", "asks.text": "A note"},
        headers=FRAGMENT,
    )
    client.post("/routes/received/switch", data={"on": "yes"})
    for number in (1, 2):
        post(client, made.body(id=number, reference=f"BK-{number}"), **{"Store-Delivery": f"d{number}"})
    bench.plan()
    assert "Choose at least one order" in text(
        client.post("/runs/look", data={"route": "received"}, follow_redirects=True)
    )
    file = (__import__("io").BytesIO(b"customer;number\nJo;BK-1\nJo;BK-2\nJo;BK-2\nJo;XX-9\n"), "orders.csv")
    page = text(client.post("/runs/look", data={"route": "received", "file": file}))
    for said in (
        "No order here has this number: XX-9",
        "Listed more than once, used once: BK-2",
        "A note",
        "It has sent for this order before",
        "0 messages would go out for 2 orders",
    ):
        assert said in page
    orders = [str(id_) for (id_,) in bench.rows('SELECT id FROM "order" ORDER BY id')]
    form = {"route": "received", "order": orders, "again": orders[0], "answer.gift_note": "Hooray"}
    assert "1 message would go out for 2 orders" in text(client.post("/runs/look", data=form))
    before = bench.rows("SELECT count(*) FROM send")[0][0]
    again = client.post("/runs", data={"route": "received", "order": orders, "answer.gift_note": "Hooray", "once": "a"})
    assert "Nothing would be sent, so nothing was started." in text(again)
    assert 'value="Hooray"' in again.get_data(as_text=True)
    assert bench.rows("SELECT count(*) FROM run")[0][0] == 0
    page = text(client.post("/runs", data=form | {"once": "b"}, follow_redirects=True))
    assert bench.rows("SELECT count(*) FROM send")[0][0] == before + 1
    assert "This run was started already" in text(
        client.post("/runs", data=form | {"once": "b"}, follow_redirects=True)
    )
    assert bench.rows("SELECT count(*) FROM send")[0][0] == before + 1, "a double click sends once"
    assert "0 of 1 send settled" in page
    assert "already sent for order BK-2" in page
    assert "Manual runs" in text(client.get(f"/orders/{orders[0]}"))
    assert "Manual runs" not in text(client.get(f"/orders/{orders[1]}"))


# ---- suppressions, consent, segments


def test_suppressions_are_added_told_apart_and_taken_off(client, bench):
    page = text(
        client.post(
            "/suppressions",
            data={"addresses": "Joerg@Example.org\n+353 20 915 0001\nnonsense", "why": "bounced"},
            follow_redirects=True,
        )
    )
    assert "2 added" in page
    assert "Not understood as an address or number: nonsense" in page
    post(client)
    bench.plan()
    assert bench.rows("SELECT state, reason FROM send") == [
        ("skipped", "joerg@example.org must not be written to: bounced")
    ]
    (id_,) = bench.rows("SELECT id FROM suppression WHERE address_key LIKE 'email:%'")[0]
    assert "may be written to again" in text(client.post(f"/suppressions/{id_}/delete", follow_redirects=True))


def test_a_segment_is_made_asked_for_and_can_t_be_deleted_while_it_is(client, bench):
    client.post("/segments", data={"name": "Regulars"})
    save(client, only_if=json.dumps({"of": [{"kind": "compare", "of": "segment.regulars", "op": "yes"}]}))
    assert "Received" in text(client.get("/segments"))
    assert "used by Received" in text(client.post("/segments/regulars/delete", follow_redirects=True))
    changed = client.post(
        "/segments/regulars",
        data={
            "only_if": json.dumps({"of": [{"kind": "compare", "of": "contact.orders", "op": "at_least", "value": "1"}]})
        },
        headers=FRAGMENT,
    )
    assert "the customer’s number of orders is at least 1" in text(changed)


# ---- settings around routes


def test_a_provider_s_receipts_are_set_up_on_its_page_with_the_address_to_give_it(client, bench):
    from angelon.core.specs import Gateway
    from angelon.db.tables import GatewayRow

    bench.change(Gateway.model_validate(made.provider("sms", 9)), GatewayRow)
    page = client.get("/gateways/sms").get_data(as_text=True)
    assert "/receipts/sms/" in page
    form = {
        "name": "Line",
        "call.method": "POST",
        "call.url": "https://sms.example/send",
        "call.body": '{"text": {{ text | json }}}',
        "call.content_type": "application/json",
        "auth.scheme": "none",
        "receipts.on": "1",
    }
    form |= {
        "receipts.id_at": "$.message",
        "receipts.state_at": "$.status",
        "receipts.text_at": "$.why",
        "receipts.delivered": "DELIVRD, done",
        "receipts.read": "",
        "receipts.failed": "UNDELIV",
        "receipts.answered": "",
    }
    assert client.post("/gateways/sms", data=form).status_code == 302
    kept = bench.services.setups.get(bench.store_id).setup.gateways["sms"].receipts
    assert (kept.id_at, kept.delivered, kept.failed, kept.read) == ("$.message", ["DELIVRD", "done"], ["UNDELIV"], [])
    del form["receipts.on"]
    client.post("/gateways/sms", data=form)
    assert bench.services.setups.get(bench.store_id).setup.gateways["sms"].receipts is None


def test_consent_is_asked_for_by_a_variable_and_a_bad_one_is_refused(client, bench):
    client.post("/suppressions/consent", data={"email": "gift_note", "echo_minutes": "5"})
    store = bench.services.setups.get(bench.store_id).setup.store
    assert (store.consent, store.echo_minutes) == ({"email": "gift_note"}, 5)
    post(client)
    bench.plan()
    assert bench.rows("SELECT state FROM send") == [("skipped",)]
    assert "“email”" in text(client.post("/suppressions/consent", data={"email": "Not A Name"}, follow_redirects=True))
    assert bench.services.setups.get(bench.store_id).setup.store.consent == {"email": "gift_note"}


def test_the_list_switches_routes_and_names_their_first_problem(client, bench):
    client.post("/routes", data={"name": "Half made", "when": "order.paid"})
    page = text(client.get("/routes"))
    assert "No message is chosen yet." in page
    client.post("/routes/received/switch", data={"on": "no", "scheduled": "hold", "back": "/routes"})
    assert bench.rows("SELECT \"on\" FROM route WHERE key = 'received'") == [(0,)]
    answer = client.post("/routes/received/switch", data={"on": "yes", "back": "/routes"})
    assert answer.headers["Location"] == "/routes"
    assert "There is a route called “Received” already" in text(
        client.post("/routes", data={"name": "Received"}, follow_redirects=True)
    )


def test_an_order_s_page_says_when_a_route_will_speak_and_when_it_never_saw_it(client, bench):
    save(client, **{"timing.there": "1", "timing.amount": "60", "timing.unit": "minutes"})
    client.post("/routes/received/switch", data={"on": "yes"})
    post(client)
    bench.plan()
    client.post("/routes", data={"name": "Later", "when": "order.created"})
    for part in ({"sources.there": "1", "sources": ["shop"]}, {"send": "received"}):
        client.post("/routes/later", data=part)
    start = bench.clock.now
    bench.clock.now = lambda: start() + dt.timedelta(minutes=5)
    client.post("/routes/later/switch", data={"on": "yes"})
    page = text(client.get("/orders/1"))
    assert "scheduled" in page
    assert "“created” came before it was switched on" in page


def test_a_delivery_whose_name_means_nothing_yet_is_why_a_route_never_saw_an_order(client, bench):
    post(client, made.body(), **{"Store-Event": "order.new", "Store-Delivery": "n"})
    bench.plan()
    assert "A delivery called “order.new” is not mapped to an event yet." in text(client.get("/orders/1"))


def offered(client, bench, **changes):
    """The page of a message that is live, about an event and in no route."""
    with bench.database.writing() as session:
        message = made.message(key="shipped", name="Shipped", tells_of="order.shipped", **changes)
        specs.publish(
            session,
            specs.save_draft(session, MessageRow, bench.store_id, message, bench.clock.now()),
            bench.clock.now(),
        )
    bench.services.setups.forget()
    return client.get("/messages/shipped").get_data(as_text=True)


def test_a_message_s_page_offers_its_route_and_switches_it_on(client, bench):
    page = offered(client, bench)
    assert "no route sends it by email yet" in page
    given = {"message": "shipped", "channel": "email"}
    answer = client.post("/routes/-/of-message", data=given, follow_redirects=True)
    assert "The route is live." in answer.get_data(as_text=True)
    assert bench.rows("SELECT count(*) FROM route WHERE since IS NOT NULL") == [(2,)]
    assert "no route sends it by email yet" not in client.get("/messages/shipped").get_data(as_text=True)
    again = client.post("/routes/-/of-message", data=given, follow_redirects=True)  # clicked twice
    assert "does so already" in again.get_data(as_text=True)
    assert bench.rows("SELECT count(*) FROM route") == [(2,)]


@pytest.mark.parametrize("given", [{}, {"message": "no-such"}, {"message": "shipped", "channel": "sms"}])
def test_a_route_of_a_message_that_is_not_live_so_is_not_made(client, bench, given):
    offered(client, bench)
    answer = client.post("/routes/-/of-message", data=given, follow_redirects=True)
    assert "no longer live as it was" in answer.get_data(as_text=True)
    assert bench.rows("SELECT count(*) FROM route") == [(1,)]


def test_an_urgent_route_is_told_in_its_sentence_and_in_the_list(client, bench):
    edits = bench.rows("SELECT edits FROM route")[0][0]
    given = {"timing.there": "1", "timing.amount": "0", "timing.unit": "minutes", "urgent": "1", "edits": str(edits)}
    client.post("/routes/received", data=given)
    assert "at once, urgent" in client.get("/routes/received").get_data(as_text=True)
    assert '<span class="tag">urgent</span>' in client.get("/routes").get_data(as_text=True)


def test_a_code_is_sent_from_where_it_is_said_that_an_address_is_not_verified(client, bench, mailbox):
    with bench.database.reading() as session:
        port = specs.by_key(session, GatewayRow, bench.store_id, "mailroom").spec["port"]
    sender = made.gateway().sender.model_dump() | {"verified": False}
    bench.change(made.gateway(port, sender=sender), GatewayRow)
    bench.services.setups.forget()
    page = client.get("/routes/received").text
    assert "Send a code to orders@kites.example" in " ".join(page.split())
    at = re.search(r'action="([^"]*/verify)"', page)[1]
    answer = client.post(at, data={}, follow_redirects=True)
    assert "A code is on its way to orders@kites.example." in answer.text
    (mail,) = bench.box.mails()
    assert mail.rcpt_to == "orders@kites.example"
    bench.change(made.gateway(port), GatewayRow)
    bench.services.setups.forget()
    assert "Send a code" not in client.get("/routes/received").text
