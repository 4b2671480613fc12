"""How orders are fetched, and a look-up, are filled in from an API's documentation: nothing is saved before it is."""

import http.server
import io
import json
import threading

import pytest

from angelon.core.specs import Gateway
from angelon.db.tables import GatewayRow
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from tests import made
from tests.engine.test_channels import providers  # noqa: F401 - a fixture

LIST = "curl 'https://shop.example/api/orders?limit=50&page=1&updated_after=2026-11-01' -H 'Authorization: Bearer t0k'"
STOCK = "curl -u api:s3cret 'https://erp.example/stock?sku=HER-2'"


def source(bench):
    return bench.services.setups.get(bench.store_id).setup.sources["shop"]


def test_a_command_fills_in_how_orders_are_fetched_and_saves_nothing(client, bench):
    answer = client.post("/sources/shop/fetch/documentation", data={"documentation": LIST})
    assert answer.status_code == 200
    assert "Filled in from the documentation, and not saved yet" in answer.text
    assert 'value="https://shop.example/api/orders?limit=50"' in answer.text
    assert 'name="since_parameter" value="updated_after"' in " ".join(answer.text.split())
    assert 'value="t0k"' in answer.text
    assert source(bench).fetch is None
    assert client.get("/sources/shop/fetch/documentation").location.endswith("/sources/shop/fetch")


def test_a_command_fills_in_a_look_up(client, bench):
    answer = client.post("/sources/shop/ask/documentation", data={"documentation": STOCK})
    assert 'name="name"\n  value="stock"' in answer.text.replace('input mono" ', "") or 'value="stock"' in answer.text
    assert "sku = &#34;HER-2&#34;" in answer.text
    assert 'value="s3cret"' in answer.text
    assert source(bench).enrichments == []


@pytest.mark.parametrize("page", ["fetch", "ask"])
@pytest.mark.parametrize("typed", ["curl <b>", "openapi: 3.1.0\npaths: {}", "{", "", "curl https://a.example -F a=<b>"])
def test_what_can_t_be_read_says_why_and_loses_nothing(client, page, typed):
    answer = client.post(f"/sources/shop/{page}/documentation", data={"documentation": typed})
    assert answer.status_code == 422
    assert 'role="alert"' in answer.text
    assert typed.replace("<", "&lt;").replace(">", "&gt;") in answer.text


def test_an_operation_of_a_file_is_chosen(client):
    paths = {
        "/orders": {"get": {"summary": "List orders"}, "post": {"summary": "Create an order"}},
        "/orders/{id}": {"delete": {"summary": "Delete one"}},
    }
    text = json.dumps({"openapi": "3.0.0", "servers": [{"url": "https://shop.example/api"}], "paths": paths})
    file = (io.BytesIO(text.encode()), "shop.json")
    answer = client.post("/sources/shop/fetch/documentation", data={"file": file})
    assert "Which operation lists the orders?" in answer.text
    assert "GET /orders" in answer.text
    assert "POST /orders" not in answer.text
    chosen = {"documentation": text, "operation": "GET /orders"}
    assert (
        'value="https://shop.example/api/orders"' in client.post("/sources/shop/fetch/documentation", data=chosen).text
    )


class Shop(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        orders = [{"id": 7, "updated_at": "2026-11-04T10:00:00Z", "token": "s3cret"}]
        body = json.dumps({"meta": {"count": 1}, "data": orders}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_): ...


def test_a_try_shows_where_the_orders_are_before_the_form_says_it(client, bench):
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Shop)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"private_hosts": ["127.0.0.1"]})
    form = {"url": f"http://127.0.0.1:{server.server_port}/orders", "act": "try", "since_parameter": "updated_after"}
    page = client.post("/sources/shop/fetch", data=form).text
    assert 'data-pick="items_at" data-path="$.data"' in page
    page = client.post("/sources/shop/fetch", data=form | {"items_at": "$.data"}).text
    assert 'data-pick="since_at" data-path="$.updated_at"' in page
    assert "s3cret" not in page
    server.shutdown()


def test_the_answer_to_a_test_is_shown_with_what_each_path_can_be(client, bench, providers):  # noqa: F811
    spec = made.provider("sms", providers.port)
    spec["call"] |= {"id_at": "", "outcome_at": ""}
    bench.change(Gateway.model_validate(spec), GatewayRow)
    bench.services.setups.forget()
    assert "Send a test: its answer is shown here" in client.get("/gateways/sms").text
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            "INSERT INTO test_answer (gateway_id, at, body) "
            """SELECT id, 0, '{"id": "m-1", "state": "queued"}' FROM gateway WHERE key = 'sms'"""
        )
    page = client.get("/gateways/sms").text
    assert 'data-pick="call.id_at" data-path="$.id"' in page
    assert 'data-pick="call.outcome_at" data-path="$.state"' in page
