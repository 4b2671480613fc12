"""Deliveries made by the reference libraries of the standards: CloudEvents in both modes, Standard Webhooks."""

import base64
import datetime as dt
import json

import pytest
from cloudevents.core.bindings.http import to_binary_event, to_structured_event
from cloudevents.core.v1.event import CloudEvent
from standardwebhooks import Webhook

from angelon.db.tables import SourceRow
from angelon.engine.unit import unit
from tests import made

SECRET = "whsec_" + base64.b64encode(b"a key of the shop, 24 by").decode()


def cloud(bench):
    spec = made.source(
        delivery_id="$.id",
        event_name="$.type",
        event_names={"com.example.order.placed": "order.created"},
        reading={"reference": "$.data.id", "number": "$.data.reference", "email": "$.data.buyer.email"},
        recipes={},
    )
    bench.change(spec, SourceRow)


@pytest.mark.parametrize("mode", [to_binary_event, to_structured_event])
def test_the_cloudevents_sdk_delivers_in_both_modes(bench, mode):
    cloud(bench)
    event = CloudEvent(
        {
            "id": "ce-1 ü",
            "source": "/shops/kites",
            "type": "com.example.order.placed",
            "specversion": "1.0",
            "time": dt.datetime(2026, 11, 3, 9, 0, tzinfo=dt.UTC),
            "datacontenttype": "application/json",
        },
        made.order(),
    )
    sent = mode(event)
    headers = {name.lower(): value for name, value in sent.headers.items()}
    body = sent.body if isinstance(sent.body, bytes) else sent.body.encode()
    first, again = (
        bench.services.intake.receive("shop", "POST", headers, body, len(body), {}, "127.0.0.1") for _ in range(2)
    )
    assert (first.status, again.status) == (202, 200)
    assert first.body == again.body
    assert bench.rows("SELECT type, name, delivery_key FROM event") == [
        ("order.created", "com.example.order.placed", "d:ce-1 ü")
    ]
    bench.plan()
    assert bench.rows('SELECT number FROM "order"') == [("BK-7",)]


@pytest.mark.parametrize(("late", "status"), [(0, 202), (301, 401)])
def test_the_standard_webhooks_library_signs_what_is_taken(bench, late, status):
    bench.change(made.source(signing={"scheme": "standard-webhooks"}), SourceRow)
    with unit(bench.services.installation, bench.store_id) as work:
        bench.vault.put(work.session, "source", work.live.source_ids["shop"], SECRET, work.now)
    body = json.dumps(made.order()).encode()
    at = dt.datetime.now(dt.UTC) - dt.timedelta(seconds=late)
    headers = {
        "content-type": "application/json",
        "store-event": "placed",
        "webhook-id": "msg-1",
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": Webhook(SECRET).sign("msg-1", at, body.decode()),
    }
    answer = bench.services.intake.receive("shop", "POST", headers, body, len(body), {}, "127.0.0.1")
    assert answer.status == status, answer.body
