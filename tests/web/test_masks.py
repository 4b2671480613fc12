"""Who may only look sees no customer's address on any page that they can come to."""

from __future__ import annotations

import json

import pytest

from angelon.core.masking import masked
from angelon.db.tables import SourceRow
from angelon.engine.feedback.preferences import Links
from tests import crawl, made
from tests.engine.test_documents import order, shop  # noqa: F401 - a fixture
from tests.web.test_access import account, other_browser, sign_in

EMAILS = (
    "zqmark@harbour.example",
    "zqmark.b+x@harbour.example",
    '"zqmark odd"@harbour.example',
    "zqmark@[192.0.2.7]",
    "zqmärk@hafen.example",
    "o'zqmark@harbour.example",
    "zqmark&sand/x=y@harbour.example",
    "a!zqmark#c@harbour.example",
    "zqmark" + "x" * 50 + "@harbour.example",
)
PHONES = ("+353209157777", "+49 30 5557 7771", "020 915 7772")
MARKS = ("zqm", "2091577", "5557 777", "55577", "915 7772")


@pytest.mark.parametrize("email", EMAILS)
def test_each_form_of_an_address_is_masked(email):
    written = (json.dumps(email), '"' + email.replace('"', '""') + '"')
    for text in (
        email,
        f"to {email}.",
        *written,
        email.replace("&", "&amp;").replace("'", "&#39;").replace('"', "&#34;"),
    ):
        assert "mark" not in masked(text).replace("mark.b", ""), masked(text)


@pytest.fixture
def marked(shop, client):  # noqa: F811
    """A shop whose customers can be told by their addresses, wherever they stand."""
    reading = made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}
    reading |= {"address": {"path": "$.ship", "default": "Slip 4\nP24 Cobh"}, "postage": {"default": "6.50"}}
    shop.bench.change(made.source(reading=reading), SourceRow)
    for number, email in enumerate(EMAILS):
        buyer = {"name": "Jo", "email": email, "phone": PHONES[number % 3]}
        placed = order(shop, number + 1, buyer=buyer)
        client.post("/documents/make", data={"order_id": placed.id, "email": email})
        client.post(f"/parcels/of/{placed.id}", data={"number": f"SW0000222{number}"})
        client.post(f"/orders/{placed.id}/note", data={"note": f"rang {PHONES[0]}, writes from {email}"})
    client.post("/suppressions", data={"addresses": "\n".join(EMAILS[:2]), "why": f"asked by {EMAILS[1]}"})
    shop.bench.plan()
    shop.bench.dispatcher().run_batch()
    return shop


def test_no_page_tells_who_may_only_look_how_a_customer_is_reached(marked, client):
    account(marked.bench)
    account(marked.bench, "viewer", "w@example.com", "W")
    sign_in(client)
    owner = {address: answer for address, answer in crawl.crawl(client, ["/", *crawl.addresses(client)], 4)}
    telling = {address for address, answer in owner.items() if crawl.told(answer.data, MARKS)}
    assert len(telling) > 20, "the crawl reaches what there is to be told"
    guest = other_browser(client)
    sign_in(guest, "w@example.com")
    looked = dict(crawl.crawl(guest, ["/", *owner], 4))
    assert {address: found for address, answer in looked.items() if (found := crawl.told(answer.data, MARKS))} == {}
    assert sum(answer.status_code == 200 for answer in looked.values()) > 30


def test_who_may_only_look_gets_no_link_of_a_customer_s(marked, client):
    marked.store(base_url="https://shop.example", pages={"follow": True})
    order(marked, 20, buyer={"name": "Jo", "email": "zqmark@harbour.example"})
    marked.bench.dispatcher().run_batch()
    (placed,) = marked.bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-20'")
    link = f"/f/{Links(marked.bench.vault).follow_token(placed.id)}"
    assert link in client.get(f"/orders/{placed.id}").get_data(as_text=True)
    account(marked.bench)
    account(marked.bench, "viewer", "w@example.com", "W")
    guest = other_browser(client)
    sign_in(guest, "w@example.com")
    page = guest.get(f"/orders/{placed.id}").get_data(as_text=True)
    assert "BK-20" in page
    assert link not in page
    assert "/f/…" in page
    assert client.get(link).status_code == 200
