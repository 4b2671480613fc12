"""Pages and addresses through the application itself: what they show, keep and refuse."""

import datetime as dt
import json
import re

import pytest

from angelon.core.states import State
from angelon.db.setup import specs
from angelon.db.tables import HeartbeatRow, MessageRow, RouteRow, SourceRow
from tests import made


def post(client, body=None, key="shop", **headers):
    return client.post(
        f"/in/{key}",
        data=body or made.body(),
        headers={"Content-Type": "application/json", "Store-Event": "placed"} | headers,
    )


def text(response):
    import html

    return html.unescape(re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", response.get_data(as_text=True))))


def test_intake_speaks_problem_json(client):
    assert post(client).status_code == 202
    for response, status in (
        (post(client, b"{"), 400),
        (post(client, key="nobody"), 404),
        (client.put("/in/shop"), 405),
        (post(client, **{"Content-Type": "text/xml"}), 415),
    ):
        assert response.status_code == status
        assert response.mimetype == "application/problem+json"
        assert {"type", "title", "status", "detail"} <= set(response.json)
    assert client.put("/in/shop").headers["Allow"] == "POST"


def test_health(client, bench):
    from angelon.db.log import sends

    assert client.get("/healthz").status_code == 200
    assert client.get("/readyz").status_code == 200, "it can take deliveries, whoever works on them"
    assert client.get("/readyz/work").status_code == 503
    with bench.database.connection() as connection:
        sends.heartbeat(connection, "w", bench.clock.now())
    told = client.get("/readyz/work")
    assert (told.status_code, told.json["workers"]) == (200, ["plan", "send"])


def test_every_page_says_that_the_installation_was_moved(client, bench):
    from angelon.db.log import sends
    from angelon.db.upkeep import installations

    assert "was moved to" not in text(client.get("/orders"))
    with bench.database.connection() as connection:
        sends.heartbeat(connection, "w", bench.clock.now() - dt.timedelta(minutes=1))
        installations.mark_moved(connection, "postgresql://shop@db.example/angelon")
    for path in ("/", "/orders", "/settings"):
        page = text(client.get(path))
        assert "This installation was moved to postgresql://shop@db.example/angelon." in page, path
        assert "moved away" in page


@pytest.mark.parametrize(
    "address",
    [
        "/",
        "/orders",
        "/sends",
        "/sources",
        "/sources/shop/connect",
        "/sources/shop/capture",
        "/sources/shop/read",
        "/messages",
        "/messages/received",
        "/routes",
        "/routes/received",
        "/gateways",
        "/gateways/mailroom",
        "/standins",
    ],
)
def test_every_page_opens_without_an_event_and_with_one(client, bench, address):
    assert client.get(address).status_code == 200
    post(client)
    bench.plan()
    page = client.get(address)
    assert page.status_code == 200
    assert "script-src 'self'" in page.headers["Content-Security-Policy"]
    assert not re.search(r"<script(?![^>]*(src=|application/json))", page.get_data(as_text=True))
    assert not re.search(r"\son\w+=", page.get_data(as_text=True))


def test_what_is_not_there_is_a_page_that_says_so(client):
    for address in (
        "/sources/x/connect",
        "/messages/x",
        "/routes/x",
        "/gateways/x",
        "/sends/x",
        "/orders/99",
        "/nothing",
    ):
        response = client.get(address)
        assert response.status_code == 404
        assert "Page not found" in text(response)


def test_forms_need_their_token(bench):
    from angelon.web.app import create_app

    app = create_app(bench.services)
    response = app.test_client().post("/sources", data={"name": "x"})
    assert response.status_code == 400
    assert "Reload it" in text(response)
    assert (
        app.test_client().post("/in/shop", data=made.body(), headers={"Content-Type": "application/json"}).status_code
        == 202
    )


def test_a_source_is_made_connected_and_its_names_mapped(client, bench):
    response = client.post("/sources", data={"name": "Harbour shop"}, follow_redirects=True)
    assert "/in/harbour-shop" in text(response)
    assert client.post("/sources", data={"name": "Harbour Shop"}, follow_redirects=True).status_code == 200
    assert post(client, key="harbour-shop").status_code == 401
    bench.services.writer.close()
    page = text(client.get("/sources/harbour-shop/capture"))
    assert "refused 401" in page
    assert "The header Store-Signature is missing." in page
    client.post(
        "/sources/harbour-shop/connect",
        data={
            "name": "Harbour",
            "signing.scheme": "none",
            "event_name.kind": "header",
            "event_name.text": "Store-Event",
            "theirs": ["placed", ""],
            "ours": ["order.created", ""],
        },
    )
    assert post(client, key="harbour-shop").status_code == 202
    assert post(client, made.body(id=3), key="harbour-shop", **{"Store-Event": "moved"}).status_code == 202
    assert "moved" in text(client.get("/sources/harbour-shop/connect"))
    bench.plan()
    said = client.post(
        "/sources/harbour-shop/names",
        data={"theirs": "moved", "ours": "order.created", "own_kind": "van.moved"},
        follow_redirects=True,
    )
    assert "1 kept deliveries are read so; nobody was written to about them" in text(said)
    assert bench.rows("SELECT type, planned_at IS NOT NULL FROM event WHERE name = 'moved'") == [("van.moved", 1)]
    assert "van.moved" in text(client.get("/routes/received")), "a route can wait for it"
    unsaid = client.post("/sources/harbour-shop/names", data={"theirs": "moved", "ours": ""}, follow_redirects=True)
    assert "Nothing says what “moved” means." in text(unsaid), "and nothing is chosen for whoever does not look"
    client.post("/sources/harbour-shop/names", data={"theirs": "moved", "ours": "order.updated"})
    with bench.database.reading() as session:
        assert specs.by_key(session, SourceRow, bench.store_id, "harbour-shop").spec["event_names"] == {
            "placed": "order.created",
            "moved": "order.updated",
        }


def test_what_is_wrong_on_connect_is_told_and_nothing_is_lost(client):
    response = client.post(
        "/sources/shop/connect",
        data={
            "name": "Shop",
            "signing.header": "X-My-Sig",
            "signing.tolerance_seconds": "soon",
            "event_name.kind": "path",
            "event_name.text": "$.a[",
            "theirs": ["x"],
            "ours": ["Bad Type"],
        },
    )
    assert response.status_code == 422
    said = text(response)
    assert "Not saved" in said
    assert "has to be a whole number" in said
    assert "X-My-Sig" in response.get_data(as_text=True)
    response = client.post(
        "/sources/shop/connect", data={"name": "Shop", "event_name.kind": "path", "event_name.text": "$.a["}
    )
    assert "is not a JSONPath" in text(response)


def bench_edit(client, **form):
    return client.post("/sources/shop/read", data=form, headers={"X-Fragment": "1"})


def publish_mapping(client, **form):
    """What the page says once the mapping's draft was to go live."""
    return client.post("/sources/shop/read/publish", data=form, follow_redirects=True)


def test_the_bench_maps_a_field_adds_steps_and_shows_each_value(client, bench):
    post(client)
    page = bench_edit(client, act="new_variable", name="Buyer phone", type="phone", path="$.buyer.phone")
    assert "buyer_phone" in text(page)
    assert "+493023125014" in text(page)
    page = bench_edit(
        client,
        act="add_step",
        field="recipes.buyer_phone",
        do="phone",
        **{"p.region": "$.buyer.country", "p.form": "national"},
    )
    assert "phone, region $.buyer.country" in text(page)
    page = bench_edit(client, act="set_step", field="recipes.buyer_phone", number="0", do="phone", **{"p.region": "FR"})
    page = bench_edit(client, act="drop_step", field="recipes.buyer_phone", number="0")
    assert "region" not in re.findall(r'<ol class="steps">.*?</ol>', page.get_data(as_text=True), re.S)[0]
    page = bench_edit(client, act="or_path", field="recipes.buyer_phone", path="$.x.y")
    assert "fallback $.x.y" in text(page)
    bench_edit(client, act="default", field="recipes.buyer_phone", default="+49301")
    assert "is live: the next delivery is read this way" in text(publish_mapping(client))
    with bench.database.reading() as session:
        recipe = specs.by_key(session, SourceRow, bench.store_id, "shop").spec["recipes"]["buyer_phone"]
    assert recipe == {"path": "$.buyer.phone", "or_paths": ["$.x.y"], "default": "+49301"}
    bench_edit(client, act="clear", field="recipes.buyer_phone")
    bench_edit(client, act="drop_variable", field="recipes.buyer_phone")
    assert "buyer_phone" not in text(client.get("/sources/shop/read"))


@pytest.mark.parametrize(
    ("form", "said"),
    [
        ({"act": "path", "field": "recipes.total", "path": "$.a["}, "is not a JSONPath"),
        ({"act": "path", "field": "recipes.total", "path": "total"}, "is not a JSONPath"),
        ({"act": "path", "field": "", "path": "$.a"}, "Choose a variable first"),
        ({"act": "new_variable", "name": "42"}, "starts with a letter"),
        ({"act": "new_variable", "name": "total"}, "There is a variable “total” already"),
        ({"act": "add_step", "field": "recipes.total", "do": "nosuch"}, "Choose a step"),
        ({"act": "drop_variable", "field": "recipes.total"}, "is used in Received"),
        ({"act": "dance", "field": "recipes.total"}, "nothing that can be done"),
    ],
)
def test_a_bad_edit_on_the_bench_says_what_to_do_and_changes_nothing(client, bench, form, said):
    before = bench.rows("SELECT spec FROM source")
    response = bench_edit(client, **form)
    assert response.status_code == 422
    assert said in response.json["detail"]
    assert bench.rows("SELECT spec FROM source") == before


def test_a_path_that_matches_nothing_is_shown_at_its_line(client):
    post(client)
    page = text(bench_edit(client, act="path", field="recipes.total", path="$.totals"))
    assert "$.totals: nothing is there." in page
    assert "Choose another path, or give a fallback text." in page


def test_a_large_payload_keeps_the_bench_usable(client):
    post(client, json.dumps(made.order(lines=[{"title": f"t{n}", "quantity": n} for n in range(9000)])).encode())
    page = client.get("/sources/shop/read")
    assert page.status_code == 200
    assert len(page.data) < 400_000
    assert "more field" in text(page)


def draft(client, **email):
    spec = made.message().model_dump(mode="json") | {
        "email": {"en": {"subject": "Hi {{ customer_name }}", "blocks": [{"kind": "text", "text": "x"}]} | email}
    }
    return client.post("/messages/received/draft", json={"spec": spec, "locale": "en"})


def test_a_draft_is_kept_and_previewed_with_the_event_in_hand(client):
    post(client)
    told = draft(client, blocks=[{"kind": "text", "text": "For {{ customer_name }}: {{ total }}"}]).json
    assert told["saved"]
    assert told["preview"]["subject"] == "Hi Jörg"
    assert "For Jörg: €135.50" in told["preview"]["html"].replace("\u00a0", " ")
    assert "Not live" not in text(client.get("/messages"))


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ("{{ customer_name", "never closed"),
        ("{{ custmer_name }}", "Did you mean customer_name?"),
        ("{% for i in range(10**9) %}{% endfor %}", "calls a function"),
        ("{% include 'x' %}", "includes another"),
    ],
)
def test_a_broken_text_is_kept_told_and_can_t_be_published(client, bench, body, said):
    told = draft(client, blocks=[{"kind": "text", "text": body}]).json
    assert told["saved"]
    assert said in json.dumps(told, ensure_ascii=False)
    response = client.post("/messages/received/publish", data={"locale": "en"}, follow_redirects=True)
    assert "Not published" in text(response)
    assert bench.rows("SELECT max(number) FROM revision WHERE kind = 'message'") == [(1,)]
    assert body in json.dumps(setup_spec(bench), ensure_ascii=False)


def setup_spec(bench):
    with bench.database.reading() as session:
        return specs.current_spec(session, specs.by_key(session, MessageRow, bench.store_id, "received"))


def test_something_that_is_no_message_is_refused_and_the_old_draft_stays(client):
    assert client.post("/messages/received/draft", json={"spec": 5}).status_code == 400
    response = draft(client, subject="a\nb")
    assert response.status_code == 422
    assert "line break" in response.json["problems"][0]["what"]


def test_publishing_makes_a_revision_and_dropping_goes_back(client, bench):
    draft(client, blocks=[{"kind": "text", "text": "new words"}])
    assert "Revision 2 is live" in text(client.post("/messages/received/publish", follow_redirects=True))
    draft(client, blocks=[{"kind": "text", "text": "newer words"}])
    client.post("/messages/received/discard")
    assert "new words" in json.dumps(setup_spec(bench))


def test_a_route_is_made_chosen_and_switched_on(client, bench):
    client.post("/routes", data={"name": "Second"})
    page = client.post(
        "/routes/second", data={"when.there": "1", "when": ["order.created", "order.paid"]}, headers={"X-Fragment": "1"}
    )
    assert "created or paid" in text(page)
    response = client.post("/routes/second/switch", data={"on": "yes"}, follow_redirects=True)
    assert "Not switched on: No message is chosen yet." in text(response)
    client.post("/routes/second", data={"sources.there": "1", "sources": ["shop"]})
    client.post("/routes/second", data={"send": "received"})
    post(client)
    page = text(client.get("/routes/second"))
    assert "1 send would be sent" in page
    assert "joerg@example.org" in page
    assert "Nothing was sent." in page
    assert "is live" in text(client.post("/routes/second/switch", data={"on": "yes"}, follow_redirects=True))
    bench.plan()
    assert bench.rows("SELECT count(*) FROM send") == [(1,)], "only the route that was on when the event came speaks"
    client.post("/routes/second/switch", data={"on": "no"})
    with bench.database.reading() as session:
        assert not specs.by_key(session, RouteRow, bench.store_id, "second").on


def test_a_bad_event_type_in_a_route_is_told(client):
    response = client.post("/routes/received", data={"own_type": "Not A Type"}, headers={"X-Fragment": "1"})
    assert response.status_code == 422
    assert "is no event type" in response.json["detail"]


def test_a_send_s_page_shows_mail_tries_and_reasons(client, bench, mailbox):
    post(client)
    bench.plan()
    bench.dispatcher().run_batch()
    (send_id,) = bench.rows("SELECT id FROM send")[0]
    page = client.get(f"/sends/{send_id}")
    for part in ("Danke, Jörg", "The gateway accepted it", "250 2.0.0 Taken", "first for BK-7", "customer_name"):
        assert part in text(page)
    assert 'sandbox="allow-same-origin"' in page.get_data(as_text=True)
    mail = client.get(f"/sends/{send_id}.eml")
    assert mail.mimetype == "message/rfc822"
    assert b"Message-ID: <" in mail.data
    assert "BK-7" in text(client.get("/sends?words=joerg&state=sent"))
    assert "No send matches" in text(client.get("/sends?words=nobody"))


def test_a_held_send_is_released_from_its_page(client, bench, mailbox):
    post(client, made.body(buyer={"name": "", "email": "jo@example.org"}))
    bench.plan()
    (send_id,) = bench.rows("SELECT id FROM send")[0]
    assert "customer_name has no value" in text(client.get(f"/sends/{send_id}"))
    bench.change(
        made.source(recipes=made.source().recipes | {"customer_name": {"path": "$.buyer.name", "default": "friend"}}),
        SourceRow,
    )
    client.post(f"/sends/{send_id}", data={"act": "release"})
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT state, subject FROM send") == [("sent", "Danke, friend")]
    assert "can no longer be done" in text(
        client.post(f"/sends/{send_id}", data={"act": "cancel"}, follow_redirects=True)
    )


def test_an_order_s_page_says_why_for_every_route(client, bench):
    client.post("/routes", data={"name": "Paid", "when": "order.paid"})
    for part in ({"sources.there": "1", "sources": ["shop"]}, {"send": "received"}):
        client.post("/routes/paid", data=part)
    client.post("/routes/paid/switch", data={"on": "yes"})
    post(client)
    bench.plan()
    page = text(client.get("/orders/1"))
    assert "scheduled email to joerg@example.org" in page
    assert "No event of this order was what it waits for: paid." in page


def test_a_gateway_is_changed_paused_and_told_what_is_wrong(client, bench):
    form = {
        "name": "Mailroom",
        "host": "mail.example",
        "port": "99999",
        "sender.address": "no address",
        "retry.max_tries": "0",
    }
    response = client.post("/gateways/mailroom", data=form)
    assert response.status_code == 422
    for part in ("port", "email address", "max_tries", "mail.example"):
        assert part in response.get_data(as_text=True)
    form |= {
        "port": "2526",
        "sender.address": "orders@kites.example",
        "retry.max_tries": "5",
        "password": "very-secret",
    }
    assert client.post("/gateways/mailroom", data=form).status_code == 302
    assert "very-secret" not in client.get("/gateways/mailroom").get_data(as_text=True)
    client.post("/gateways/mailroom/pause", data={"paused": "yes"})
    assert "Paused" in text(client.get("/gateways/mailroom"))


def test_the_overview_shows_the_line_a_gap_and_what_needs_a_hand(client, bench):
    post(client, made.body(buyer={"name": "Jo", "email": "broken@"}))
    post(client, made.body(state="shipped", changed_at="2026-11-04T10:00:00Z"), **{"Store-Event": "changed"})
    bench.plan()
    page = text(client.get("/"))
    assert "Held: BK-7" in page
    assert "1 order went through here and nothing was sent" in page
    assert State.HELD in bench.rows("SELECT state FROM send")[0]


def test_the_mailbox_gives_its_mails_as_json(client, bench, mailbox):
    post(client)
    bench.plan()
    bench.dispatcher().run_batch()
    (mail,) = client.get("/standins/mail.json").json
    assert {"from", "to", "subject", "text", "html", "headers", "attachments", "received_at"} <= set(mail)


def test_the_counter_delivers_to_this_machine_only_and_says_what_is_missing(client):
    said = text(client.post("/standins/counter", data={"act": "test"}, follow_redirects=True))
    assert "does not know where to deliver" in said
    said = text(
        client.post(
            "/standins/counter", data={"act": "connect", "address": "https://shop.example/in/x"}, follow_redirects=True
        )
    )
    assert "this machine only" in said
    client.post("/standins/counter", data={"act": "connect", "address": "http://127.0.0.1:1/in/x", "secret": "s"})
    said = text(client.post("/standins/counter", data={"act": "test"}, follow_redirects=True))
    assert "was not taken (no answer)" in said
    assert "at least one product" in text(
        client.post("/standins/counter", data={"act": "place", "customer": "5512"}, follow_redirects=True)
    )


def test_the_overview_says_whose_events_wait_and_since_when(client, bench):
    for number in range(3):
        bench.deliver(made.body(id=number), store_delivery=f"d{number}")
    with bench.database.writing() as session:
        later = bench.clock.now() + dt.timedelta(minutes=5)
        session.add(HeartbeatRow(worker="a", at=later, role="plan send"))
    assert "events wait" not in text(client.get("/")), "for a moment is nothing to tell"
    bench.clock.now = lambda: later
    assert "Shop: 3 events wait" in text(client.get("/"))
    bench.plan()
    assert "events wait" not in text(client.get("/"))
