"""A save that is refused loses nothing that was typed, whichever field it is refused for."""

import pytest
from lxml import html
from werkzeug.datastructures import MultiDict

from angelon.core.specs import Gateway
from angelon.core.specs.carrier import Carrier
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow
from tests import made

CALL = {"url": "https://p.example/send", "body": "{}", "headers": {"X-A": "b"}, "refused": ["no", "never"]}
SMS = {"key": "line", "name": "Line", "kind": "sms", "call": CALL, "receipts": {}, "price": "0.05"}
CHAT = {"key": "chat", "name": "Chat", "kind": "chat", "call": CALL, "review": {"submit": CALL, "look": CALL}}
FORMS = [
    "/sources/shop/connect",
    "/gateways/mailroom",
    "/gateways/line",
    "/gateways/chat",
    "/letterhead",
    "/settings",
    "/settings/rules",
]
FORMS += ["/sources/shop/ask", "/carriers/gannet", "/customer-pages"]
NOT_LOOKED_AT = ("edits", "csrf_token", "password", "was", "logo_file")
"""A password is never shown again; the others are no values."""
ROWS = ("theirs", "status", "theirs_own", "own_kind")
"""The left field of a row, which counts only where the right one says something."""
SWITCHED_OFF = ("challenge.", "receipts.", "review.texts.")
"""Fields of parts that are switched off in these forms count for nothing."""


@pytest.fixture
def shop(client, bench):
    for spec in (SMS, CHAT):
        bench.change(Gateway.model_validate(spec), GatewayRow)
    with bench.database.writing() as session:
        carrier = {"key": "gannet", "name": "Gannet Post", "words": {"Perched": "in_transit"}}
        specs.save_store(session, bench.store_id, made.store().model_copy(update={"carriers": [Carrier(**carrier)]}))
    bench.services.setups.forget()
    return client


def fields(page):
    """The fields of a page's main form, as a browser would send them; and the names of those that a person types in."""
    (form,) = [one for one in html.fromstring(page).forms if {"edits", "was"} & set(one.fields.keys())]
    typed = {
        one.name
        for one in form.inputs
        if one.name
        and one.name not in NOT_LOOKED_AT
        and (one.tag == "textarea" or (one.tag == "input" and one.get("type", "text") in ("text", "number")))
    }
    return MultiDict(form.form_values()), sorted(typed)


@pytest.mark.parametrize("address", FORMS)
def test_a_save_refused_by_any_field_keeps_all_others(shop, address):
    given, typed = fields(shop.get(address).get_data(as_text=True))
    assert len(typed) >= 3
    if "name" in given:
        given["name"] = "changed" if address.endswith("ask") else "Changed name"
    if address.endswith("ask"):
        given["url"] = "https://shop.example/a"
    for field in typed:
        broken = MultiDict(given)
        broken.poplist("edits")  # what a switched-off part's field says is saved
        broken.setlist(field, ["a\x00b", *given.getlist(field)[1:]])
        refused = shop.post(address, data=broken)
        if refused.status_code == 302 and (field in ROWS or field.startswith(SWITCHED_OFF)):
            continue
        assert refused.status_code == 422, field
        again, _ = fields(refused.get_data(as_text=True))
        for name in given:
            if name != field and name not in NOT_LOOKED_AT:
                assert [one.strip() for one in again.getlist(name)][: len(given.getlist(name))] == [
                    one.strip() for one in given.getlist(name)
                ], (field, name)


def test_what_can_t_be_read_stands_in_its_field_as_it_was_typed(client):
    form, _ = fields(client.get("/gateways/mailroom").get_data(as_text=True))
    form["limits.total_bytes"] = "a few"
    refused = client.post("/gateways/mailroom", data=form)
    assert refused.status_code == 422
    page = refused.get_data(as_text=True)
    assert "“a few” is no number of megabytes" in page
    assert 'value="a few"' in page


def test_a_row_and_a_switch_of_a_refused_form_stay(client):
    form, _ = fields(client.get("/sources/shop/connect").get_data(as_text=True))
    form.setlist("theirs", ["placed", "sold"])
    form.setlist("ours", ["order.created", "order.paid"])
    form.poplist("on")
    form["challenge.method"], form["challenge.parameter"] = "GET", "echo"
    form["same_body_minutes"] = "soon"
    refused = client.post("/sources/shop/connect", data=form)
    assert refused.status_code == 422
    again, _ = fields(refused.get_data(as_text=True))
    assert again.getlist("theirs")[:2] == ["placed", "sold"]
    assert again.getlist("ours")[:2] == ["order.created", "order.paid"]
    assert (again["challenge.method"], again["challenge.parameter"], again["same_body_minutes"]) == (
        "GET",
        "echo",
        "soon",
    )
    assert "on" not in again
