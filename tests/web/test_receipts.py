"""What providers tell later, over HTTP: whose it is, what is taken, what is refused and how that is said."""

import json

import pytest

from angelon.core.specs import Gateway
from angelon.db.tables import GatewayRow
from tests import made


@pytest.fixture
def sent(client, bench):
    """An SMS gateway that gives receipts, and a send of it that is known there as `m-1`; gives the address and a way to
    tell.
    """
    receipts = {"id_at": "$.id", "state_at": "$.state", "text_at": "$.text", "answered": ["answered"]}
    bench.change(Gateway.model_validate(made.provider("sms", 9) | {"receipts": receipts}), GatewayRow)
    client.post("/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"})
    bench.plan()
    gateway = bench.services.setups.get(bench.store_id).gateway_ids["sms"]
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            "UPDATE send SET state = 'sent', gateway_id = ?, reference = 'm-1', channel = 'sms'", (gateway,)
        )
    address = f"/receipts/sms/{bench.vault.receipts('sms')}"

    def tell(told, **more):
        return client.post(
            address,
            data=told if isinstance(told, bytes | str) else json.dumps(told),
            headers={"Content-Type": "application/json"},
            **more,
        )

    tell.address = address
    return tell


def state(bench):
    return bench.rows("SELECT state, reason FROM send")[0]


def test_a_receipt_moves_its_send_on_and_never_back(sent, bench):
    assert sent({"id": "m-1", "state": "Delivered"}).json == {"receipts": ["delivered."]}
    assert state(bench) == ("delivered", "")
    assert sent([{"id": "m-1", "state": "read"}, {"id": "m-1", "state": "delivered"}]).json == {
        "receipts": ["read.", "It is read already."]
    }
    assert state(bench) == ("read", "")


def test_a_failure_keeps_the_provider_s_reason(sent, bench):
    assert sent({"id": "m-1", "state": "failed", "text": "handset switched off"}).json == {"receipts": ["failed."]}
    assert state(bench) == ("failed", "The gateway says: handset switched off")


def test_an_answer_becomes_an_event_of_the_order_and_the_same_receipt_again_is_no_second_one(sent, bench):
    assert sent({"id": "m-1", "state": "answered", "text": "Thanks!"}).json == {"receipts": ["answered."]}
    ((type_, name, order),) = bench.rows("SELECT type, name, order_id FROM event WHERE type = 'answer.received'")
    assert (type_, name) == ("answer.received", "Thanks!")
    assert order == bench.rows("SELECT order_id FROM send")[0][0]
    assert sent({"text": "Thanks!", "id": "m-1", "state": "answered"}).json == {"receipts": ["answered already."]}
    assert sent({"id": "m-1", "state": "answered", "text": "One more thing"}).json == {"receipts": ["answered."]}
    assert bench.rows("SELECT count(*) FROM event WHERE type = 'answer.received'") == [(2,)]


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ({"id": "m-2", "state": "delivered"}, "No send has this id yet; kept until one has."),
        ({"state": "delivered"}, "There is no id at $.id."),
        ({"id": "m-1", "state": "enroute"}, "“enroute” is unknown here."),
        ({"id": {"of": "m-1"}, "state": "delivered"}, "There is no id at $.id."),
        ("5", "There is no id at $.id."),
        ([], None),
    ],
)
def test_what_can_t_be_used_is_told_and_changes_nothing(sent, bench, told, said):
    answer = sent(told)
    assert (answer.status_code, answer.json) == (200, {"receipts": [said] if said else []})
    assert state(bench) == ("sent", "")


@pytest.mark.parametrize(
    ("told", "status"), [("{", 400), (b"\xff\xfe", 400), ("", 400), (b'"' + b"x" * 200_001 + b'"', 413)]
)
def test_what_is_no_receipt_is_refused(sent, bench, told, status):
    assert sent(told).status_code == status
    assert state(bench) == ("sent", "")


@pytest.mark.parametrize(
    "address", ["/receipts/sms/wrong", "/receipts/sms/%C3%A4", "/receipts/nobody/wrong", "/receipts/sms/"]
)
def test_whoever_does_not_know_the_address_tells_nothing(client, sent, bench, address):
    assert client.post(address, json={"id": "m-1", "state": "delivered"}).status_code == 404
    assert client.get(sent.address).status_code == 405
    assert state(bench) == ("sent", "")
