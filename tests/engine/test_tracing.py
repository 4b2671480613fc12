"""Traces: spans of a delivery, its sends and their tries, to a real collector; one that is gone harms no send."""

import gzip
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from angelon.engine import tracing
from tests import made

PARENT = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"


@pytest.fixture
def collector(monkeypatch):
    class Collects(BaseHTTPRequestHandler):
        def do_POST(self):
            body = self.rfile.read(int(self.headers["content-length"]))
            if self.headers.get("content-encoding") == "gzip":
                body = gzip.decompress(body)
            time.sleep(server.slow)
            for of in ExportTraceServiceRequest.FromString(body).resource_spans:
                server.named = {one.key: one.value.string_value for one in of.resource.attributes}
                server.spans += [span for scope in of.scope_spans for span in scope.spans]
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Collects)
    server.spans, server.slow = [], 0.0
    threading.Thread(target=server.serve_forever, daemon=True).start()
    monkeypatch.setenv(tracing.ENDPOINTS[1], f"http://127.0.0.1:{server.server_address[1]}")
    yield server
    server.shutdown()
    server.server_close()


@pytest.fixture
def traced(bench, mailbox):
    """A store whose mails go out, and nothing traced yet."""
    tracing._due.clear()
    yield bench
    tracing._on.clear()


def said(span):
    return {one.key: one.value.string_value or one.value.int_value for one in span.attributes}


def order(bench, number, **headers):
    bench.deliver(made.body(id=number), store_delivery=f"d-{number}", **headers)
    bench.plan()
    bench.dispatcher().run_batch()


def test_a_delivery_its_send_and_its_try_are_one_trace(traced, collector):
    tracer = tracing.begin(traced.database, "1.2.3")
    order(traced, 1)
    order(traced, 2, traceparent=PARENT)
    tracer.stop()
    assert collector.named["service.name"] == "angelon"
    assert collector.named["service.version"] == "1.2.3"
    by_trace = {}
    for span in collector.spans:
        by_trace.setdefault(span.trace_id.hex(), {})[span.name] = span
    assert len(by_trace) == 2
    for spans in by_trace.values():
        delivery, send, one = spans["delivery"], spans["send received"], spans["try 1"]
        assert send.parent_span_id == delivery.span_id
        assert one.parent_span_id == send.span_id
        assert delivery.start_time_unix_nano <= send.start_time_unix_nano <= one.start_time_unix_nano
        assert one.start_time_unix_nano <= one.end_time_unix_nano <= send.end_time_unix_nano
        assert said(delivery) == {"angelon.source": "shop", "angelon.event": "order.created"}
        assert said(send)["angelon.state"] == "sent"
        assert said(one)["angelon.outcome"] == "accepted"
        words = [span.name + str(said(span)) for span in spans.values()]  # ids are bytes, any of which may be an @
        assert not [one for one in words if "@" in one], "no person's data"
    joined = by_trace["0af7651916cd43dd8448eb211c80319c"]
    assert joined["delivery"].parent_span_id.hex() == "b7ad6b7169203331"
    ((send_id,),) = traced.rows("SELECT id FROM send ORDER BY id LIMIT 1")
    assert send_id in {said(spans["send received"])["angelon.send"] for spans in by_trace.values()}


def test_nothing_is_traced_without_an_address(traced, monkeypatch):
    for name in tracing.ENDPOINTS:
        monkeypatch.delenv(name, raising=False)
    assert tracing.begin(traced.database, "1") is None
    order(traced, 1)
    assert not tracing._due


def test_a_collector_that_is_gone_or_slow_keeps_no_send(traced, collector, monkeypatch):
    collector.slow = 8.0
    tracer = tracing.begin(traced.database, "1")
    began = time.monotonic()
    order(traced, 1)
    assert time.monotonic() - began < 4, "the send went out meanwhile"
    monkeypatch.setenv(tracing.ENDPOINTS[1], "http://127.0.0.1:1")
    gone = tracing.begin(traced.database, "1")
    order(traced, 2)
    assert traced.rows("SELECT state FROM send") == [("sent",), ("sent",)]
    assert len(tracing._due) <= tracing.MOST
    collector.slow = 0.0
    gone._stop.set()
    tracer._stop.set()


def test_only_so_many_wait_to_be_traced():
    tracing._due.clear()
    tracing._on.set()
    tracing.settled([f"sd-{number}" for number in range(tracing.MOST + 10)])
    tracing._on.clear()
    assert len(tracing._due) == tracing.MOST
    assert tracing._due[0] == "sd-10"
    tracing._due.clear()
