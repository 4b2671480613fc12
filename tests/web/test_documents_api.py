"""Invoices over the API, by its own client."""

import base64
import io

import pypdf
import pytest

from angelon.client import ApiError
from tests.core.documents.made import NUMBERS
from tests.engine.test_documents import order, shop  # noqa: F401 - a fixture
from tests.web.test_api import api, ask, token_for  # noqa: F401 - a fixture


def test_an_invoice_is_made_once_read_with_its_files_and_listed(shop, api):  # noqa: F811
    placed = order(shop)
    made = api.make_invoice(placed.id, email="books@harbour.example")
    assert (made.number, made.net, made.tax, made.gross) == ("2026-0001", "110.16", "25.34", "135.50")
    assert made.reasons[0].what == "Country of tax"
    assert "2026-0001" in pypdf.PdfReader(io.BytesIO(base64.b64decode(made.pdf))).pages[0].extract_text()
    assert "CrossIndustryInvoice" in made.xml
    assert api.make_invoice(placed.id).id == made.id
    other = api.make_invoice(placed.id, company="Cerf SARL", country="FR", tax_number=NUMBERS["FR"], replace=True)
    assert (other.rule, other.tax) == ("reverse_charge", "0.00")
    assert [one.number for one in api.documents()] == ["2026-0002", "C2026-0001", "2026-0001"]
    assert [one.number for one in api.documents(kind="credit")] == ["C2026-0001"]
    assert [one.taken_back for one in api.documents(words="2026-0001", kind="invoice")] == [True]
    assert list(api.documents(month="2020-01")) == []
    for number in range(2, 6):
        api.make_invoice(order(shop, number).id)
    assert len(list(api.documents(limit=2))) == 7
    assert api.document(made.id).order == "BK-1"


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"country": "NO"}, "no rule for buyers outside the union"),
        ({"country": "FR", "tax_number": "FR1"}, "does not have the form"),
        ({"email": "nobody"}, "is no email address"),
    ],
)
def test_what_cannot_be_made_says_why(shop, api, given, told):  # noqa: F811
    with pytest.raises(ApiError, match=told):
        api.make_invoice(order(shop).id, **given)
    assert shop.bench.rows("SELECT * FROM document") == []


def test_another_buyer_only_where_it_is_said(shop, api):  # noqa: F811
    placed = order(shop)
    api.make_invoice(placed.id)
    with pytest.raises(ApiError, match="2026-0001 already"):
        api.make_invoice(placed.id, company="Harbour Ltd")


def test_a_token_needs_the_scope_and_nothing_else_is_there(shop, client, bench):  # noqa: F811
    placed = order(shop)
    token = token_for(bench, "orders.read")
    assert ask(client, f"/orders/{placed.id}/invoice", token, "POST", json={}).status_code == 403
    assert ask(client, "/documents", token).status_code == 200
    assert ask(client, "/documents/99", token).status_code == 404
    assert ask(client, "/orders/99/invoice", token_for(bench, name="ERP"), "POST", json={}).status_code == 404
