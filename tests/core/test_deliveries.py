"""A delivery taken apart: names, ids, CloudEvents in both modes, several orders in one."""

import json

import pytest

from angelon.core.deliveries import read_delivery, without_secrets
from angelon.core.payload.body import NotReadable
from tests import made

CLOUD = {"specversion": "1.0", "id": "wb-1", "type": "made.status", "data": {"no": "WB-17"}}


def cloud_source():
    return made.source(event_name="$.type", delivery_id="$.id", event_names={"made.status": "order.status_changed"})


def test_name_and_id_from_headers():
    (event,) = read_delivery(
        made.source(),
        {"content-type": "application/json", "store-event": "placed", "store-delivery": "d1"},
        made.body(),
    )
    assert (event.name, event.type, event.delivery_id) == ("placed", "order.created", "d1")


def test_a_name_that_is_not_there_or_not_known():
    (event,) = read_delivery(made.source(), {"content-type": "application/json"}, made.body())
    assert (event.name, event.type, event.delivery_id) == ("unnamed", "", "")
    (event,) = read_delivery(made.source(event_name={"fixed": "placed"}), {}, made.body())
    assert event.type == "order.created"


def test_cloud_events_look_alike_in_both_modes():
    (structured,) = read_delivery(
        cloud_source(), {"content-type": "application/cloudevents+json; charset=utf-8"}, json.dumps(CLOUD).encode()
    )
    headers = {"content-type": "application/json", "ce-specversion": "1.0", "ce-id": "wb-1", "ce-type": "made.status"}
    (binary,) = read_delivery(cloud_source(), headers, json.dumps(CLOUD["data"]).encode())
    for event in (structured, binary):
        assert (event.type, event.delivery_id, event.payload["data"]) == (
            "order.status_changed",
            "wb-1",
            {"no": "WB-17"},
        )


def test_several_orders_become_several_events_each_with_its_own_id():
    source = made.source(orders_at="$.orders")
    raw = json.dumps({"orders": [{"id": 1}, {"id": 2}]}).encode()
    events = read_delivery(source, {"content-type": "application/json", "store-delivery": "d1"}, raw)
    assert [(e.payload["id"], e.delivery_id) for e in events] == [(1, "d1#0"), (2, "d1#1")]
    for body in (b'{"orders": []}', b'{"orders": 3}', b"{}"):
        with pytest.raises(NotReadable):
            read_delivery(source, {"content-type": "application/json"}, body)


def test_headers_that_may_hold_a_credential_are_blotted_out():
    kept = without_secrets(
        {"authorization": "Bearer x", "store-signature": "abc", "x-api-key": "k", "store-event": "placed"}
    )
    assert kept == {"authorization": "•••", "store-signature": "•••", "x-api-key": "•••", "store-event": "placed"}
