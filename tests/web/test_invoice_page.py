"""Customers get their invoice by themselves: with a link or by number and proof; the same again, or another instead."""

import datetime as dt
import io
import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pypdf
import pytest

from angelon.core.specs import Source
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.documents import confirming
from angelon.engine.feedback.preferences import Links
from angelon.web.customers import guesses, invoice_words, invoices, proofs
from tests.core.documents.made import NUMBERS
from tests.engine.test_documents import SETTINGS, order, shop  # noqa: F401 - a fixture
from tests.web.test_route_pages import text

PAGE = SETTINGS | {"page": True, "page_days": 3660, "questions": "books@kites.example"}
FORM = {"name": "Jo", "lines": "Slip 4", "city": "Cobh", "country": "IE", "email": "jo@home.example"}


@pytest.fixture
def opened(shop, monkeypatch):  # noqa: F811
    for limits in (proofs.by_asker, proofs.by_all, guesses.by_asker, guesses.by_all,
                   invoices.by_order, invoices.by_all):  # fmt: skip
        monkeypatch.setattr(limits, "spend", lambda *_: {})
        monkeypatch.setattr(limits, "spend_by", lambda *_: {}, raising=False)
    shop.store(documents=PAGE, locales=["de"])
    return shop


def link(shop, placed):  # noqa: F811
    return f"/i/{Links(shop.bench.vault).invoice_token(placed.id)}"


def names(shop):  # noqa: F811
    return [(row.kind, row.name, row.email) for row in shop.bench.rows("SELECT * FROM document ORDER BY id")]


def test_by_number_and_address_to_the_invoice_at_once(opened, client):
    order(opened)
    page = client.get("/invoice/kites")
    assert "Your invoice" in text(page)
    assert client.post("/invoice/kites", data={"number": "BK-1", "proof": "other@example.org"}).status_code == 422
    assert client.post("/invoice/kites", data={"number": "BK-9", "proof": "jo1@example.org"}).status_code == 422
    found = client.post("/invoice/kites", data={"number": "BK-1", "proof": "jo1@example.org"})
    assert found.status_code == 303
    assert "Rechnung zur Bestellung BK-1" in text(client.get(found.location))
    done = client.post(found.location, data=FORM)
    assert done.status_code == 303
    page = client.get(done.location).get_data(as_text=True)
    assert "Deine Rechnung 2026-0001 ist da" in page
    (where,) = re.findall(r'href="(/i/[^"]+\.pdf)"', page)
    answer = client.get(where)
    assert "Slip 4" in pypdf.PdfReader(io.BytesIO(answer.data)).pages[0].extract_text()
    assert answer.headers["Cache-Control"] == "private, no-store"
    types = [row.type for row in opened.bench.rows("SELECT type FROM event")]
    assert types.count("document.requested") == 1
    assert types.count("document.made") == 1
    assert names(opened) == [("invoice", "2026-0001", "jo@home.example")]


def test_the_same_request_is_the_same_invoice_and_another_address_another_as_often_as_the_shop_says(opened, client):
    opened.store(documents=PAGE | {"page_changes": 1})
    where = link(opened, order(opened))
    for _ in range(2):
        client.post(where, data=FORM)
    assert len(names(opened)) == 1
    client.post(where, data=FORM | {"company": "Harbour Ltd"})
    assert [kind for kind, *_ in names(opened)] == ["invoice", "credit", "invoice"]
    answer = client.post(where, data=FORM | {"company": "Quay Ltd"})
    assert answer.status_code == 422
    assert "so oft geändert" in text(answer)
    assert len(names(opened)) == 3
    assert "2026-0002" in text(client.get(where))


def test_two_at_once_make_one(opened, client):
    where, app = link(opened, order(opened)), client.application
    threads = [threading.Thread(target=lambda: app.test_client().post(where, data=FORM)) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert names(opened) == [("invoice", "2026-0001", "jo@home.example")]


def test_it_is_open_for_so_many_days(opened, client):
    opened.store(documents=PAGE | {"page_days": 1})
    placed = order(opened, placed_at=(opened.bench.clock.now() - dt.timedelta(days=3)).isoformat())
    answer = client.post(link(opened, placed), data=FORM)
    assert "ist für diese Bestellung vorbei" in text(answer)
    assert names(opened) == []


@pytest.mark.parametrize(
    ("form", "told"),
    [
        ({"email": "nobody"}, "keine Mailadresse"),
        ({"tax_number": "IE1"}, "kann für dieses Land nicht stimmen"),
        ({"tax_number": NUMBERS["DE"]}, "kann für dieses Land nicht stimmen"),
    ],
)
def test_what_is_typed_wrong_is_said_and_stays(opened, client, form, told):
    answer = client.post(link(opened, order(opened)), data=FORM | form)
    assert answer.status_code == 422
    assert told in text(answer)
    assert next(iter(form.values())) in answer.get_data(as_text=True)
    assert names(opened) == []


class Office(BaseHTTPRequestHandler):
    answer = b'{"valid": true, "name": "Cerf SARL", "reference": "R-1"}'

    def do_GET(self):
        self.server.asked.append(self.path)
        self.send_response(200)
        self.end_headers()
        self.wfile.write(self.answer)

    def log_message(self, *args):
        pass


@pytest.fixture
def office(opened):
    server = ThreadingHTTPServer(("127.0.0.1", 0), Office)
    server.asked = []
    confirming._SAID.clear()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}/{{country}}/{{number}}"
    opened.store(documents=PAGE | {"check_business": True, "check_url": url}, private_hosts=["127.0.0.1"])
    yield server
    server.shutdown()


BUSINESS = FORM | {"company": "Cerf SARL", "country": "FR", "tax_number": NUMBERS["FR"]}


def test_a_business_is_confirmed_and_billed_without_tax_with_the_answer_as_proof(opened, office, client):
    where = link(opened, order(opened))
    client.post(where, data=BUSINESS)
    (row,) = opened.bench.rows("SELECT scheme, tax, gross, frozen FROM document")
    assert (row.scheme, row.tax, row.gross) == ("reverse_charge", 0, 13550)
    assert "held by Cerf SARL, reference R-1" in row.frozen
    assert office.asked == ["/FR/40303265045"]


def test_a_number_that_is_not_in_use_is_said(opened, office, client, monkeypatch):
    monkeypatch.setattr(Office, "answer", b'{"valid": false}')
    answer = client.post(link(opened, order(opened)), data=BUSINESS)
    assert answer.status_code == 422
    assert names(opened) == []


@pytest.mark.parametrize("answer", [b"no json", b"[]", b'{"valid": "yes"}', b'{"valid": null}'])
def test_where_nobody_can_say_it_is_held_and_the_shop_sees_it(opened, office, client, monkeypatch, answer):
    monkeypatch.setattr(Office, "answer", answer)
    placed = order(opened)
    done = client.post(link(opened, placed), data=BUSINESS, follow_redirects=True)
    assert "Wir sehen es uns an" in text(done)
    assert names(opened) == []
    assert "could not be asked" in text(client.get("/documents"))
    types = [row.type for row in opened.bench.rows("SELECT type FROM event")]
    assert types.count("document.held") == 1


def test_no_link_but_its_own_opens_it(opened, client):
    first, second = order(opened), order(opened, 2)
    client.post(link(opened, first), data=FORM)
    for wrong in ("/i/1-00000000", "/i/x", f"/i/{first.id:x}-", f"/i/{first.id:x}-{'é' * 12}"):
        assert client.get(wrong).status_code == 404
    token = link(opened, second)
    (row,) = opened.bench.rows("SELECT id FROM document")
    assert client.get(f"{token}/{row.id}.pdf").status_code == 404
    opened.store(documents=PAGE | {"page": False})
    assert client.get(link(opened, first)).status_code == 404
    assert client.get("/invoice/kites").status_code == 404
    assert client.get("/invoice/other").status_code == 404


def test_every_language_says_everything():
    for tag, words in invoice_words.INVOICE_WORDS.items():
        assert all(words), tag
        assert "{number}" in words.title
        assert "{number}" in words.there


def test_a_link_is_asked_so_often_and_no_more(shop, client):  # noqa: F811
    shop.store(documents=PAGE)
    where = link(shop, order(shop))
    answers = [client.post(where, data=FORM | {"email": "nobody"}).status_code for _ in range(14)]
    assert answers[:12] == [422] * 12
    assert answers[-1] == 429
    assert client.get(where).status_code == 200


def test_what_the_order_has_can_be_taken_out(opened, client):
    source = opened.bench.services.setups.get(opened.bench.store_id).setup.sources["shop"].model_dump(mode="json")
    reading = source["reading"] | {"company": {"default": "Harbour Ltd"}, "tax_number": {"default": NUMBERS["IE"]}}
    opened.bench.change(Source.model_validate(source | {"reading": reading}), SourceRow)
    where = link(opened, order(opened))
    assert "Harbour Ltd" in client.get(where).get_data(as_text=True)
    client.post(where, data=FORM | {"company": "", "tax_number": "", "postcode": ""})
    (row,) = opened.bench.rows("SELECT frozen, buyer FROM document")
    assert row.buyer == "Jo"
    assert "Harbour Ltd" not in row.frozen
    assert f'"tax_number":"{NUMBERS["IE"]}"' not in row.frozen.partition('"buyer"')[2].partition("}")[0]


def test_the_shop_tries_a_held_one_again_for_whom_it_was_asked(opened, office, client, monkeypatch):
    monkeypatch.setattr(Office, "answer", b"no json")
    client.post(link(opened, order(opened)), data=BUSINESS)
    (again,) = re.findall(r'href="(/documents/try\?[^"]+)"[^>]*>Try again', client.get("/documents").get_data(True))
    page = client.get(again.replace("&amp;", "&")).get_data(as_text=True)
    assert "Cerf SARL" in page
    assert NUMBERS["FR"] in page
    monkeypatch.setattr(Office, "answer", b'{"valid": true}')
    page = client.get(again.replace("&amp;", "&")).get_data(as_text=True)
    assert "reverse charge" in page
    assert 'value="jo@home.example"' in page


def test_on_trial_nothing_is_numbered(opened, client):
    with opened.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE store SET trial = 'team'")
    with opened.bench.database.writing() as session:
        specs.touch(session, opened.bench.store_id)
    opened.bench.services.setups.forget()
    done = client.post(link(opened, order(opened)), data=FORM, follow_redirects=True)
    assert "Wir sehen es uns an" in text(done)
    assert names(opened) == []
    assert "The store is on trial" in text(client.get("/documents"))
