"""The pages of the shop's own tables: made, replaced, filled up, given out, deleted."""

import io

import pytest

from tests.web.test_route_pages import text

PRICES = "Sku,Net price,Shelf\nHER-180,99.00,B4\nSAN-POC,19.90,A1\n"


def make(client, name="Prices", data=PRICES, **form):
    file = (io.BytesIO(data.encode()), "t.csv")
    return client.post("/tables", data={"name": name, "file": file} | form, follow_redirects=True)


def fill(client, key, data):
    return client.post(f"/tables/{key}", data={"file": (io.BytesIO(data.encode()), "t.csv")}, follow_redirects=True)


def test_a_table_is_made_shown_replaced_and_given_back_as_a_file(client, bench):
    page = text(make(client))
    assert "prices.net_price" in page
    assert "HER-180" in page
    assert "1 new, 1 changed, 1 gone" in text(fill(client, "prices", "Sku,Net price,Shelf\nHER-180,101,B4\nNEW,1,Z\n"))
    assert client.get("/tables/prices.csv").get_data(as_text=True).splitlines() == [
        "sku,net_price,shelf", "HER-180,101,B4", "NEW,1,Z",
    ]  # fmt: skip
    assert "There is a table “prices” already" in text(make(client))
    assert "Prices" in text(client.get("/tables"))
    assert "/tables" in client.get("/files").get_data(as_text=True)
    assert "table filled" in text(client.get("/changes"))
    client.post("/tables/prices/delete")
    assert client.get("/tables/prices").status_code == 404
    assert bench.rows("SELECT * FROM shop_table_item") == []


@pytest.mark.parametrize(
    ("name", "data", "told"),
    [
        ("7", PRICES, "can’t name a table"),
        ("Prices", "", "The file is empty"),
        ("Prices", "a,b\n1,2\n1,3\n", "“1” occurs twice"),
    ],
)
def test_what_is_no_table_is_refused_in_words(client, bench, name, data, told):
    assert told in text(make(client, name, data))
    assert bench.rows("SELECT * FROM shop_table") == []


def test_a_table_that_is_given_out_is_filled_up_and_needs_attention_when_few_are_left(client, bench):
    page = text(make(client, "Codes", "Code\nA-1\nA-2\n", once="yes"))
    assert "{{ given.code }}" in page
    assert "Only a few rows are left" in page
    bench.services.setups.forget()
    assert "Codes: 2 rows are left" in text(client.get("/"))
    assert "1 new, 0 changed, 0 gone" in text(fill(client, "codes", "Code\nA-2\nA-3\n"))
    client.post("/tables/codes/low", data={"low": "1"})
    assert "Codes:" not in text(client.get("/"))
    assert "Give the rows the same columns" in text(fill(client, "codes", "Other\nX\n"))
    client.post("/tables/codes/empty")
    assert bench.rows("SELECT * FROM shop_table_item") == []
    assert "Codes: no row is left" in text(client.get("/"))
