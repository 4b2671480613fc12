"""Where a request comes from is told by its peer; what it says of itself can only take away."""

import base64
import datetime as dt
import json
import re
import threading

import pyotp
import pytest
from sqlmodel import select

from angelon.core.problems import Invalid
from angelon.core.specs import Gateway
from angelon.core.specs.bundle import bundle_of
from angelon.db.setup import bundles, specs
from angelon.db.tables import EventRow, GatewayRow, StoreRow
from angelon.engine.operations import accounts, gateways, tokens
from angelon.engine.operations import bundles as operations
from angelon.engine.unit import unit
from tests import made
from tests.web.test_pages import text

LOOPBACK, ELSEWHERE = "127.0.0.1", "192.0.2.9"
FORWARDING = ({}, {"X-Forwarded-For": "127.0.0.1"}, {"Forwarded": "for=127.0.0.1"}, {"X-Real-Ip": "127.0.0.1"})


@pytest.mark.parametrize("forwarded", FORWARDING, ids=["direct", "x-forwarded-for", "forwarded", "x-real-ip"])
@pytest.mark.parametrize("host", ["localhost", "127.0.0.1", "[::1]"])
@pytest.mark.parametrize("peer", [LOOPBACK, "::1", ELSEWHERE, "10.0.0.3", ""])
def test_only_this_machine_is_owner_where_there_is_no_account(client, peer, host, forwarded):
    here = peer in (LOOPBACK, "::1") and not forwarded
    around = {"environ_base": {"REMOTE_ADDR": peer}, "headers": {"Host": host, **forwarded}}
    page = client.get("/sources", **around)
    assert page.status_code == (200 if here else 302)
    if not here:
        assert page.headers["Location"] == "/sign-in/first"
    assert client.get("/metrics", **around).status_code == (200 if here else 401)


@pytest.mark.parametrize("host", ["localhost", "127.0.0.1"])
def test_a_stranger_who_calls_the_host_localhost_does_not_become_owner(client, bench, host):
    form = {"email": "mallory@example.org", "name": "Mallory", "password": "a long enough password"}
    around = {"environ_base": {"REMOTE_ADDR": ELSEWHERE}, "headers": {"Host": host}}
    client.post("/sign-in/first", data=form, **around)
    assert bench.rows("SELECT count(*) FROM account") == [(0,)]
    client.post("/sign-in/first", data=form, environ_base={"REMOTE_ADDR": LOOPBACK}, headers={"Host": host})
    assert bench.rows("SELECT role FROM account") == [("owner",)]


def test_who_may_only_look_gets_no_mail_as_it_went_out(client, bench, mailbox):
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch()
    ((id_,),) = bench.rows("SELECT id FROM send")
    assert b"joerg@example.org" in client.get(f"/sends/{id_}.eml").data
    kept = accounts.hashed("a long enough password", "w@example.org")
    with bench.database.writing() as session:
        accounts.create(session, "o@example.org", "O", kept, "owner", bench.clock.now())
        accounts.create(session, "w@example.org", "W", kept, "viewer", bench.clock.now())
    client.post("/sign-in", data={"email": "w@example.org", "password": "a long enough password"})
    page = client.get(f"/sends/{id_}")
    assert page.status_code == 200
    assert b"joerg@" not in page.data
    mail = client.get(f"/sends/{id_}.eml")
    assert mail.status_code == 403
    assert b"joerg@" not in mail.data


def test_of_six_who_write_with_one_etag_one_wins(bench, client, application):
    with unit(bench.services.installation, bench.store_id) as work:
        token = tokens.create(work, "ci", ["setup.read", "setup.write"])
    around = {"Authorization": f"Bearer {token}"}
    read = client.get("/api/v1/setup", headers=around)
    etag, bundle = read.headers["ETag"], read.get_json()
    answers, at_once = [], threading.Barrier(6)

    def write(number):
        changed = bundle | {"store": bundle["store"] | {"name": f"Kites {number}"}}
        mine = application.test_client()
        at_once.wait(20)
        answers.append(mine.put("/api/v1/setup", json=changed, headers={**around, "If-Match": etag}).status_code)

    threads = [threading.Thread(target=write, args=(number,)) for number in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sorted(answers) == [200, 412, 412, 412, 412, 412]


def test_credentials_go_with_the_address_that_they_are_for(bench, client):
    """Whoever may write the set-up, and does not know them, can’t have them sent to a server of their own."""
    with bench.database.writing() as session:
        spec = made.provider("sms", 2580)
        specs.save_live(session, GatewayRow, bench.store_id, Gateway.model_validate(spec), bench.clock.now())
    bench.services.setups.forget()
    gateway_id = bench.services.setups.get(bench.store_id).gateway_ids[spec["key"]]

    def kept():
        with bench.database.reading() as session:
            return len(bench.vault.get(session, "gateway", gateway_id, bench.clock.now()))

    def keep():
        with bench.database.writing() as session:
            bench.vault.put(session, "gateway", gateway_id, "s3cret", bench.clock.now())

    keep()
    with bench.database.reading() as session:
        bundle = bundles.export(session, bench.store_id).plain()
    mine = next(one for one in bundle["gateways"] if one["key"] == spec["key"])
    mine["name"] = "Another name"
    operations.apply(bench.services.installation, bundle_of(bundle))
    assert kept() == 1, "a change that leaves the address leaves them"
    mine["call"]["url"] = mine["call"]["url"].replace("127.0.0.1", "evil.example")
    applied = operations.apply(bench.services.installation, bundle_of(bundle))
    assert kept() == 0
    assert any(spec["key"] in line for line in applied.lacking), "and it says what lacks now"
    keep()
    elsewhere = Gateway.model_validate({**mine, "call": {**mine["call"], "url": "https://another.example/send"}})
    with (
        pytest.raises(Invalid, match="belongs to the old one"),
        unit(bench.services.installation, bench.store_id) as work,
    ):
        gateways.save(work, elsewhere)
    assert kept() == 1
    with unit(bench.services.installation, bench.store_id) as work:
        gateways.save(work, elsewhere, "another")
    assert kept() == 1


@pytest.fixture
def around(bench):
    with unit(bench.services.installation, bench.store_id) as work:
        token = tokens.create(
            work, "ci", ["setup.read", "setup.write", "orders.read", "sends.read", "suppressions.write"]
        )
    return {"Authorization": f"Bearer {token}"}


@pytest.mark.parametrize(
    ("wanted", "status"),
    [
        ("*", 200),
        ("{}", 200),
        ('"other", {}', 200),
        ('"other"', 412),
        ("W/{}", 412),
        ("", 412),
        ("é", 412),
        (",", 412),
        ('"*"', 412),
    ],
)
def test_if_match_is_read_as_http_has_it(bench, client, around, wanted, status):
    read = client.get("/api/v1/setup", headers=around)
    sent = around | {"If-Match": wanted.format(read.headers["ETag"])}
    for query in ("?dry_run=true", ""):
        answer = client.put(f"/api/v1/setup{query}", json=read.get_json(), headers=sent)
        assert answer.status_code == status, (query, answer.get_json())
    one = client.get("/api/v1/setup/gateways/mailroom", headers=around)
    sent = around | {"If-Match": wanted.format(one.headers["ETag"])}
    assert client.put("/api/v1/setup/gateways/mailroom", json=one.get_json(), headers=sent).status_code == status


def test_whatever_is_there_is_not_there_where_nothing_is(bench, client, around):
    one = client.get("/api/v1/setup/gateways/mailroom", headers=around).get_json() | {"key": "new", "name": "New"}
    told = client.put("/api/v1/setup/gateways/new", json=one, headers=around | {"If-Match": "*"})
    assert told.status_code == 412
    assert client.put("/api/v1/setup/gateways/new", json=one, headers=around).status_code == 200


def test_a_token_is_good_at_the_address_of_its_own_store_alone(bench, client, around):
    with bench.database.writing() as session:
        session.add(StoreRow(key="other", spec={"key": "other", "name": "Other"}, version=1))
    assert client.get("/api/v1/orders", headers=around).status_code == 200
    assert client.get("/at/kites/api/v1/orders", headers=around).status_code == 200
    for path in ("/at/other/api/v1/orders", "/at/nobody/api/v1/orders"):
        assert client.get(path, headers=around).status_code in (403, 404)


LONE = "\ud800"


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("suppressions", {"addresses": [LONE]}),
        ("suppressions", {"addresses": ["a@example.org"], "why": LONE}),
        ("setup/gateways/mailroom", {"name": LONE}),
        ("setup", {LONE: 1}),
    ],
)
def test_text_that_can_t_be_encoded_is_refused_as_such(bench, client, around, path, body):
    method = client.put if path.startswith("setup") else client.post
    answer = method(f"/api/v1/{path}", data=json.dumps(body), content_type="application/json", headers=around)
    assert answer.status_code in (400, 422), answer.get_data(as_text=True)
    cursor = base64.urlsafe_b64encode(b'["2026-01-01T00:00:00+00:00", "\\ud800"]').decode()
    assert client.get(f"/api/v1/sends?cursor={cursor}", headers=around).status_code == 422


def test_an_order_of_thousands_of_events_has_a_page_like_another(bench, client):
    for number in range(3):
        bench.deliver(made.body(), store_delivery=f"d-{number}")
    bench.plan()
    (order_id,) = {row.order_id for row in bench.rows("SELECT order_id FROM event")}
    with bench.database.reading() as session:
        (one,) = session.exec(select(EventRow).limit(1)).all()
        told = one.model_dump()
    with bench.database.writing() as session:
        for number in range(300):
            at = one.received_at - dt.timedelta(seconds=number + 1)
            session.add(
                EventRow(**told | {"id": f"{one.id}-{number}", "delivery_key": f"x{number}", "received_at": at})
            )
    page = client.get(f"/orders/{order_id}")
    assert page.status_code == 200
    assert len(page.data) < 400_000
    assert "200 events" in text(page)
    older = re.search(r'href="([^"]*before=[^"]*)"', page.get_data(as_text=True))[1].replace("&amp;", "&")
    page = client.get(older)
    assert "not the newest" in text(page)
    assert client.get(f"/orders/{order_id}?before=nonsense").status_code == 200


def test_another_second_step_signs_out_who_else_is_signed_in(bench, client):
    kept = accounts.hashed("a long enough password", "o@example.org")
    with bench.database.writing() as session:
        accounts.create(session, "o@example.org", "O", kept, "owner", bench.clock.now())
    form = {"email": "o@example.org", "password": "a long enough password"}
    other = client.application.test_client()
    for browser in (client, other):
        assert browser.post("/sign-in", data=form).status_code == 302
    client.post("/account/second-step", data={"password": form["password"]})
    secret = re.search(r"<code>([A-Z2-7]{32})</code>", client.get("/account").get_data(as_text=True))[1]
    client.post("/account/second-step/confirm", data={"code": pyotp.TOTP(secret).at(bench.clock.now())})
    assert client.get("/orders").status_code == 200
    assert other.get("/orders").status_code == 302


def test_everybody_signs_in_again_after_two_months(bench, client):
    kept = accounts.hashed("a long enough password", "o@example.org")
    with bench.database.writing() as session:
        accounts.create(session, "o@example.org", "O", kept, "owner", bench.clock.now())
    client.post("/sign-in", data={"email": "o@example.org", "password": "a long enough password"})
    began = bench.clock.now()
    for days, status in ((13, 200), (26, 200), (39, 200), (52, 200), (61, 302)):
        bench.clock.now = lambda days=days: began + dt.timedelta(days=days)
        assert client.get("/orders").status_code == status, days
