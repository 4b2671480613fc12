"""An empty installation: every page leads to naming the shop, and the overview from there to the first mail."""

import shutil

import pytest
from sqlmodel import select

from angelon.core.countries import countries
from angelon.db.database import Database
from angelon.db.setup import specs
from angelon.db.tables import ChangeRow, GatewayRow, MessageRow, RouteRow
from angelon.engine.clock import Clock
from angelon.settings import Settings
from angelon.web import services
from angelon.web.app import create_app
from tests import made
from tests.web.test_pages import text

GIVEN = {
    "name": "Größe & Söhne",
    "country": "de",
    "locale": "de",
    "currency": "eur",
    "timezone": "Europe/Berlin",
    "support_email": "hallo@lampen.example",
}


@pytest.fixture
def empty(tmp_path, migrated):
    """Pages over a database without a store, and that database."""
    settings = Settings(home=tmp_path, secret_key="a-key-for-tests-only")
    shutil.copyfile(migrated, tmp_path / "angelon.db")
    database = Database(settings.url)
    serving = services.make(settings, database, Clock())
    app = create_app(serving)
    app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
    yield app.test_client(), database
    serving.writer.close()
    database.close()


def stores(database):
    with database.reading() as session:
        return specs.stores(session)


def test_every_page_leads_to_naming_the_shop_and_none_is_a_closed_door(empty):
    client, _ = empty
    for address in (
        "/",
        "/orders",
        "/sends",
        "/sources",
        "/messages",
        "/routes",
        "/gateways",
        "/checks",
        "/letterhead",
        "/senders",
        "/settings",
        "/settings/team",
        "/settings/rules",
    ):
        answer = client.get(address, follow_redirects=True)
        assert (answer.status_code, answer.request.path) == (200, "/start"), address
    page = text(client.get("/start"))
    assert "Name your shop" in page
    assert "no worker is running" not in page
    assert client.post("/in/nobody", json={}).status_code == 404


def test_a_shop_is_named_and_the_overview_leads_on(empty):
    client, database = empty
    page = text(client.post("/start", data=GIVEN, follow_redirects=True))
    assert "0 of 8 steps done" in page
    assert "Connect a source" in page
    (row,) = stores(database)
    assert (row.key, row.spec["name"], row.spec["country"], row.spec["timezone"]) == (
        "groesse-soehne",
        "Größe & Söhne",
        "DE",
        "Europe/Berlin",
    )
    with database.reading() as session:
        changed = session.exec(select(ChangeRow)).one()
    assert (changed.action, changed.kind, changed.key) == ("created", "store", "groesse-soehne")
    client.post("/sources", data={"name": "Lamp shop"})
    page = text(client.get("/"))
    assert "1 of 8 steps done" in page
    assert "Watch for it" in page
    assert client.get("/start").status_code == 302, "there is one already"
    assert client.post("/start", data=GIVEN).headers["Location"] == "/stores", "another one is added there"
    assert len(stores(database)) == 1


@pytest.mark.parametrize(
    ("field", "value", "said"),
    [
        ("name", " ", "The shop has no name yet"),
        ("name", "x" * 300, "name"),
        ("timezone", "Mars/Olympus", "is no time zone"),
        ("currency", "EURO", "currency"),
        ("support_email", "a\nb", "support_email"),
    ],
)
def test_what_is_refused_is_told_and_the_rest_stays(empty, field, value, said):
    client, database = empty
    answer = client.post("/start", data=GIVEN | {field: value})
    assert answer.status_code == 422
    assert said in text(answer)
    if field != "name":
        assert "Größe &amp; Söhne" in answer.get_data(as_text=True)
    assert stores(database) == []


def test_a_name_in_any_script_makes_a_key(empty):
    client, database = empty
    client.post("/start", data=GIVEN | {"name": "凧の店"})
    assert stores(database)[0].key


def test_what_is_usual_in_a_country_is_known():
    by_code = {country.code: country for country in countries()}
    assert (by_code["IE"].language, by_code["IE"].currency, by_code["IE"].zones) == ("en", "EUR", ("Europe/Dublin",))
    assert by_code["JP"].currency == "JPY"
    assert len(by_code) > 200


def test_the_steps_are_all_done_once_a_mail_is_out_and_gone_a_day_later(client, bench, mailbox):
    page = text(client.get("/"))
    assert "steps done" in page
    assert "Watch for it" in page
    bench.deliver(made.body())
    assert "Deliveries come in." in text(client.get("/"))
    bench.plan()
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT state FROM send") == [("sent",)]
    page = text(client.get("/"))
    assert "all done" in page
    assert "steps done" not in page
    assert f"/sends/{bench.rows('SELECT id FROM send')[0][0]}" in client.get("/").get_data(as_text=True)
    with bench.database.connection() as connection:
        connection.exec_driver_sql(f"UPDATE send SET settled_at = settled_at - {25 * 3600 * 10**6}")
    assert "The first steps" not in text(client.get("/"))


def test_the_line_calls_twice_only_what_tells_the_same_news(client, bench):
    def live(spec, table):
        with bench.database.writing() as session:
            row = specs.save_draft(session, table, bench.store_id, spec, bench.clock.now())
            specs.publish(session, row, bench.clock.now())
            if table is RouteRow:
                specs.switch(session, row, True, bench.clock.now())
        bench.services.setups.forget()

    live(made.message(key="care", name="Care"), MessageRow)
    live(made.route(key="second", name="Second", send="care"), RouteRow)
    page = client.get("/").get_data(as_text=True)
    assert "Received and Second send at created" in page
    assert "twice-number" not in page
    live(made.route(key="second", name="Second", send="received"), RouteRow)
    page = client.get("/").get_data(as_text=True)
    assert "twice-number" in page
    assert "2 routes send the same at created" in page


def test_a_test_is_no_first_mail_and_a_server_without_a_verified_address_is_no_way_out(client, bench, mailbox):
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET test = true")
    page = text(client.get("/"))
    assert "steps done" in page, "a test was sent, and no customer has heard anything"
    assert "Have a code sent to the address that mails come from" not in page
    gateway = made.gateway()
    own = gateway.sender.model_copy(update={"verified": False})
    bench.change(gateway.model_copy(update={"sender": own}), GatewayRow)
    page = client.get("/").get_data(as_text=True)
    assert "Have a code sent to the address that mails come from" in page
    assert "/gateways/mailroom#verify" in page


def test_a_currency_is_one_that_is_paid_with_and_has_its_name(client):
    page = client.get("/settings").text
    assert "SEK Swedish Krona" in page
    assert '<option value="DEM"' not in page
