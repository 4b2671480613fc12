"""Where a request comes from is told by its peer; what it says of itself can only take away."""

import threading

import pytest

from angelon.core.problems import Invalid
from angelon.core.specs import Gateway
from angelon.core.specs.bundle import bundle_of
from angelon.db import bundles, specs
from angelon.db.tables import GatewayRow
from angelon.engine.operations import accounts, gateways, tokens
from angelon.engine.operations import bundles as operations
from angelon.engine.unit import unit
from tests import made

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
