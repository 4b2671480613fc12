"""A provider's gateway is filled in from a `curl` command: nothing is saved before it is, and nothing typed is lost."""

import io

import pytest

from angelon.core.specs import Gateway
from angelon.db.tables import GatewayRow
from tests.web.test_gateway_on_trial import LINE
from tests.web.test_pages import text

COMMAND = (
    """curl https://api.lines.example/v2/messages -H 'Authorization: Bearer tk_<123>' """
    """-d '{"from": "ACME", "to": "+491701234567", "text": "Hi"}'"""
)


@pytest.fixture
def line(bench):
    blank = LINE | {"call": {"headers": {"Idempotency-Key": "{{ key }}", "X-Old": "1"}}}
    bench.change(Gateway.model_validate(blank), GatewayRow)
    return lambda: bench.services.setups.get(bench.store_id).setup.gateways["line"]


def test_a_command_fills_in_the_form_and_saves_nothing(line, client, bench):
    answer = client.post("/gateways/line/curl", data={"curl": COMMAND})
    page = answer.text
    assert "X-Old" not in page
    assert "Filled in from the documentation, and not saved yet" in page
    assert "to: +491701234567" in page
    assert "is now the recipient" in text(answer)
    assert 'value="https://api.lines.example/v2/messages"' in page
    assert "&#34;to&#34;: {{ to | json }}" in page
    assert 'value="tk_&lt;123&gt;"' in page
    assert "Idempotency-Key: {{ key }}" in page
    assert line().call.url == ""


def test_the_empty_page_offers_it_with_an_empty_field(line, client):
    page = client.get("/gateways/line").text
    assert '<details class="fold sheet pad mb-14" open>' in page
    assert '…"></textarea>' in page


def test_what_can_not_be_read_stays_in_the_field_and_is_told(line, client):
    answer = client.post("/gateways/line/curl", data={"curl": "curl https://a.example -F x=@<y>"})
    assert answer.status_code == 422
    assert "multipart/form-data" in text(answer)
    assert "curl https://a.example -F x=@&lt;y&gt;</textarea>" in answer.text
    assert client.get("/gateways/line/curl").location.endswith("/gateways/line")
    assert client.post("/gateways/nowhere/curl", data={"curl": COMMAND}).status_code == 404


DESCRIPTION = """openapi: 3.0.0
servers: [{url: https://api.lines.example}]
paths:
  /v2/messages:
    post:
      summary: Send a <message>
      requestBody: {content: {application/json: {example: {from: ACME, to: "+491701234567", text: Hi}}}}
"""


def test_an_operation_of_a_description_fills_in_the_form(line, client):
    listed = client.post("/gateways/line/openapi", data={"file": (io.BytesIO(DESCRIPTION.encode()), "lines.yaml")})
    assert "Send a &lt;message&gt;" in listed.text
    assert 'value="POST /v2/messages"' in listed.text
    chosen = {"description": DESCRIPTION, "operation": "POST /v2/messages"}
    page = client.post("/gateways/line/openapi", data=chosen).text
    assert "Filled in from the documentation, and not saved yet" in page
    assert 'value="https://api.lines.example/v2/messages"' in page
    assert "&#34;to&#34;: {{ to | json }}" in page
    assert line().call.url == ""


def test_a_description_that_can_not_be_read_stays_and_is_told(line, client):
    answer = client.post("/gateways/line/openapi", data={"description": "swagger: <2>"})
    assert answer.status_code == 422
    assert "It is no OpenAPI 3 description." in answer.text
    assert "swagger: &lt;2&gt;" in answer.text
    answer = client.post("/gateways/line/openapi", data={"description": DESCRIPTION, "operation": "POST /nowhere"})
    assert "It has no operation POST /nowhere." in answer.text
