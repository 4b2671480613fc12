"""The pages of invoices: set up, tried, made, taken back, found, given as files."""

import io
import zipfile

import pypdf

from tests.core.documents.made import NUMBERS
from tests.engine.test_documents import order, shop  # noqa: F401 - a fixture
from tests.web.test_route_pages import text

FORM = {
    "seller.name": "Kites", "seller.city": "Cobh", "seller.lines": "Slip 4", "home": "IE", "elsewhere": "one_stop",
    "reg.country": ["IE", "", ""], "reg.number": [NUMBERS["IE"], "", ""], "reg.since": ["2020-01-01", "", ""],
    "reg.until": ["", "", ""], "group.name": ["Books", ""], "group.skus": ["PAT-*, BOOK", ""],
    "group.kind": ["reduced", "reduced"], "group.by": ["GB zero, IE zero", ""], "reverse_charge": "yes", "on": "yes",
    "prices": "auto", "rounding": "line", "postage": "goods", "invoice_series": "{year}-{number:4}",
    "credit_series": "C{year}-{number:4}", "page_days": "90", "page_changes": "3",
}  # fmt: skip


def save(client, **changes):
    return client.post("/documents/settings", data=FORM | changes, follow_redirects=True)


def test_it_is_set_up_tried_and_made(shop, client):  # noqa: F811
    shop.store(documents={})
    placed = order(shop)
    assert "No invoice is made" in text(client.get("/documents"))
    page = text(client.get(f"/documents/try?order={placed.number}"))
    assert "Goods are sent within Ireland, where the shop has no registration" in page
    assert "Saved. It counts" in text(save(client))
    page = client.get(f"/documents/try?order={placed.number}")
    assert "Standard rate of Ireland since 2021" in text(page)
    assert "to a private buyer in France" in text(page)
    paper = client.get(f"/documents/try/page?order_id={placed.id}")
    assert "110.16" in text(paper) or "110,16" in text(paper)
    assert "default-src 'none'" in paper.headers["Content-Security-Policy"]
    assert shop.bench.rows("SELECT * FROM document") == []
    done = client.post("/documents/make", data={"order_id": placed.id, "email": "books@harbour.example"})
    assert done.status_code == 302
    page = text(client.get(done.location))
    assert "Invoice 2026-0001" in page
    assert "For books@harbour.example" in page
    again = client.post("/documents/make", data={"order_id": placed.id}, follow_redirects=True)
    assert "It is there already: 2026-0001" in text(again)
    assert "2026-0001" in text(client.get("/documents"))


def make(client, placed, **form):
    return client.post("/documents/make", data={"order_id": placed.id} | form)


def test_its_files_are_given(shop, client):  # noqa: F811
    where = make(client, order(shop)).location
    answer = client.get(f"{where}.pdf")
    assert "2026-0001.pdf" in answer.headers["Content-Disposition"]
    assert "2026-0001" in pypdf.PdfReader(io.BytesIO(answer.data)).pages[0].extract_text()
    assert b"CrossIndustryInvoice" in client.get(f"{where}.xml").data
    assert client.get(f"{where}.pdf").data == answer.data
    make(client, order(shop, 2))
    archive = zipfile.ZipFile(io.BytesIO(client.get("/documents/all.zip").data))
    assert archive.namelist() == ["2026-0001.pdf", "2026-0002.pdf"]
    today = shop.bench.clock.now().date()
    lines = client.get("/documents/all.csv").get_data(as_text=True).splitlines()
    assert lines[1].startswith(f"2026-0001,invoice,{today},BK-1,Jo,,IE,domestic,EUR,23,110.16,25.34,135.50")
    assert "There is no document" in text(client.get("/documents/all.zip?month=2020-01", follow_redirects=True))


def test_it_is_taken_back_on_its_page(shop, client):  # noqa: F811
    where = make(client, order(shop)).location
    for form, told in (
        ({"what": "amount", "amount": "much"}, "is no amount"),
        ({"what": "amount", "amount": "500"}, "Only 135.50 EUR"),
        ({"what": "amount", "amount": "0"}, "nothing to credit"),
        ({"what": "lines", "pieces.1": "3"}, "2 of 2 are left"),
        ({"what": "lines"}, "nothing to credit"),
    ):
        answer = client.post(f"{where}/credit", data=form)
        assert answer.status_code == 422
        assert told in text(answer)
    note = client.post(f"{where}/credit", data={"what": "lines", "pieces.1": "1", "why": "came back"})
    assert "Credit note C2026-0001" in text(client.get(note.location))
    assert "130.50" in text(client.get(where))
    client.post(f"{where}/credit", data={"what": "all"})
    assert "All of it was credited" in text(client.get(where))
    csv = client.get("/documents/all.csv?kind=credit").get_data(as_text=True)
    assert "-5.00" in csv
    assert "2026-0001" in csv


def test_what_cannot_be_made_is_listed_until_it_can_be(shop, client):  # noqa: F811
    placed = order(shop)
    answer = make(client, placed, country="NO")
    assert answer.status_code == 422
    assert "no rule for buyers outside the union" in text(answer)
    page = text(client.get("/documents"))
    assert "Held: no invoice could be made" in page
    assert "BK-1" in page
    make(client, placed)
    assert "Held:" not in text(client.get("/documents"))
    make(client, order(shop, 2), country="NO")
    client.post(f"/documents/held/{order(shop, 2).id}/drop")
    assert "Held:" not in text(client.get("/documents"))


def test_another_buyer_replaces_it_only_where_that_was_ticked(shop, client):  # noqa: F811
    placed = order(shop)
    make(client, placed)
    other = {"company": "Harbour Ltd", "lines": "Quay 1", "city": "Cork", "country": "IE"}
    assert "There is the invoice 2026-0001 already" in text(make(client, placed, **other))
    done = make(client, placed, **other, change="yes")
    assert "Invoice 2026-0002" in text(client.get(done.location))


def test_what_is_typed_wrong_stays_and_is_said(shop, client):  # noqa: F811
    for change, told in (
        ({"reg.number": ["IE123", "", ""]}, "does not have the form of a tax number of IE"),
        ({"invoice_series": "2026"}, "has to hold {number} once"),
        ({"group.by": ["Great Britain", ""]}, "is no country with a kind of rate"),
        ({"page_days": "many"}, "has to be a whole number"),
        ({"check_business": "yes"}, "it is not said who is asked"),
        ({"seller.city": ""}, "names the shop and where it is"),
    ):
        answer = client.post("/documents/settings", data=FORM | change)
        assert answer.status_code == 422, change
        assert told in text(answer)
        assert "Slip 4" in answer.get_data(as_text=True)
    assert "2 rates were taken" in text(client.post("/documents/settings/rates", data={
        "file": (io.BytesIO(b"country,kind,percent,since\nIE,standard,20,2026-01-01\nFR,reduced,6,\n"), "r.csv")},
        follow_redirects=True))  # fmt: skip
    assert "no percentage" in text(client.post("/documents/settings/rates", data={
        "file": (io.BytesIO(b"country,percent\nIE,much\n"), "r.csv")}))  # fmt: skip
    assert "country,kind,percent" in client.get("/documents/settings/rates.csv").get_data(as_text=True)


def test_drawn_anew_each_time(shop, client):  # noqa: F811
    placed = order(shop)
    for kind, words in (("proforma", "Proforma"), ("delivery", "Lieferschein")):
        answer = client.get(f"/documents/try.pdf?order_id={placed.id}&kind={kind}")
        found = pypdf.PdfReader(io.BytesIO(answer.data)).pages[0].extract_text()
        assert words in found
        assert ("135" in found) == (kind == "proforma")
    assert shop.bench.rows("SELECT * FROM document") == []


def test_nothing_of_another_store_is_shown(shop, client):  # noqa: F811
    for address in ("/documents/77", "/documents/77.pdf", "/documents/77.xml", "/documents/77/page"):
        assert client.get(address).status_code == 404
    assert "There is no order “BK-99”" in text(client.get("/documents/try?order=BK-99"))
