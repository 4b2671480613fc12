"""An operation of an API's description becomes a request: worked-out descriptions, and anything at all."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core import calls, curl_commands, openapi_operations
from angelon.core.openapi_operations import operations, parse, request
from angelon.core.problems import Invalid
from angelon.core.specs.gateway import Auth, HttpCall

VALUES = {"to": "+353209150001", "sender": "Lamps", "text": 'He said “no”\n"', "key": "sd-1", "locale": "en"}
LINES = """
openapi: 3.1.0
info: {title: Lines, version: "2"}
servers: [{url: "https://{region}.lines.example/v2", variables: {region: {default: eu}}}]
security: [{token: []}]
paths:
  /health: {get: {summary: Is it up?, responses: {"200": {description: yes}}}}
  /accounts/{accountId}/messages:
    parameters: [{$ref: "#/components/parameters/Account"}]
    post:
      summary: Sends
        a message
      parameters:
        - {name: Idempotency-Key, in: header, schema: {type: string}}
        - {name: trace, in: header, schema: {type: string}}
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Message"}}}}
      responses: {"202": {content: {application/json: {schema: {$ref: "#/components/schemas/Taken"}}}}}
components:
  parameters: {Account: {name: accountId, in: path, required: true, schema: {type: string}}}
  securitySchemes: {token: {type: http, scheme: bearer}}
  schemas:
    Base: {type: object, required: [from], properties: {from: {type: string, example: ACME}, note: {type: string}}}
    Message:
      allOf:
        - $ref: "#/components/schemas/Base"
        - type: object
          required: [recipients, content]
          properties:
            recipients: {type: array, items: {type: string}}
            content: {$ref: "#/components/schemas/Content"}
            priority: {type: integer}
    Content:
      type: object
      required: [type, text]
      properties: {type: {type: string, enum: [text, image]}, text: {type: string}, preview: {type: boolean}}
    Taken: {type: object, properties: {result: {$ref: "#/components/schemas/Result"}}}
    Result: {type: object, properties: {message_id: {type: string}, status: {type: string}}}
"""


def sent(text, mark):
    made = request(parse(text), mark)
    return made, calls.make_request(HttpCall.model_validate(made.call), Auth.model_validate(made.auth), "x", VALUES)


def test_references_parts_and_where_the_answer_says_it():
    assert [one.mark for one in operations(parse(LINES))] == ["POST /accounts/{accountId}/messages", "GET /health"]
    assert operations(parse(LINES))[0].summary == "Sends a message"
    made, asked = sent(LINES, "POST /accounts/{accountId}/messages")
    assert asked.url == "https://eu.lines.example/v2/accounts/ACCOUNTID/messages"
    assert json.loads(asked.body) == {
        "from": "Lamps",
        "recipients": ["+353209150001"],
        "content": {"type": "text", "text": VALUES["text"]},
    }
    assert (made.auth["scheme"], made.secret) == ("bearer", "")
    assert asked.headers["Idempotency-Key"] == "sd-1"
    assert "trace" not in asked.headers
    assert (made.call["id_at"], made.call["outcome_at"]) == ("$.result.message_id", "$.result.status")
    assert "reason_at" not in made.call
    told = dict(made.found)
    assert told["accountId: ACCOUNTID"] == "in the address: write yours in its place"
    assert told["$.result.message_id"] == "where the answer says the message’s id"


def described(operation, **more):
    return json.dumps({"openapi": "3.0.3", "paths": {"/send": {"post": operation}}} | more)


def test_a_form_with_a_key_in_the_address_and_no_server():
    fields = {"To": {"type": "string"}, "Body": {"type": "string"}, "Unicode": {"type": "boolean", "default": True}}
    body = {"content": {"application/x-www-form-urlencoded": {"schema": {"type": "object", "properties": fields}}}}
    schemes = {"securitySchemes": {"key": {"type": "apiKey", "in": "query", "name": "apikey"}}}
    made, asked = sent(described({"requestBody": body, "security": [{"key": []}]}, components=schemes), "POST /send")
    assert asked.url == "https://provider.example/send?apikey=KEY"
    assert asked.body == b"To=%2B353209150001&Body=He%20said%20%E2%80%9Cno%E2%80%9D%0A%22&Unicode=true"
    assert ("the server", "not in the description: write its address") in made.found


def test_client_credentials_and_a_stated_example():
    flows = {"clientCredentials": {"tokenUrl": "https://id.lines.example/token", "scopes": {}}}
    made = request(
        parse(
            described(
                {"requestBody": {"content": {"application/json": {"example": {"msisdn": "49170", "msg": "Hi"}}}}},
                security=[{"o": []}],
                servers=[{"url": "https://lines.example"}],
                components={"securitySchemes": {"o": {"type": "oauth2", "flows": flows}}},
            )
        ),
        "POST /send",
    )
    assert (made.auth["scheme"], made.auth["token_url"]) == ("oauth", "https://id.lines.example/token")
    assert "{{ to | json }}" in made.call["body"]
    assert "{{ text | json }}" in made.call["body"]


@pytest.mark.parametrize(
    ("text", "mark", "said"),
    [
        ("{", "", "can’t be read"),
        ("a: [", "", "can’t be read"),
        ("swagger: '2.0'", "", "no OpenAPI 3"),
        ("[1]", "", "no OpenAPI 3"),
        ("openapi: 3.0.0\npaths: {}", "", "no operation by POST"),
        (described({}), "POST /other", "no operation POST /other"),
        (described({"requestBody": {"content": {"multipart/form-data": {}}}}), "POST /send", "multipart/form-data"),
        ("x" * (openapi_operations.MOST + 1), "", "2,000,000 characters"),
    ],
)
def test_what_is_refused_is_told(text, mark, said):
    with pytest.raises(Invalid, match=said):
        request(parse(text), mark) if mark else operations(parse(text))


def test_a_schema_that_holds_itself_ends():
    node = {"type": "object", "properties": {"text": {"type": "string"}, "next": {"$ref": "#/components/schemas/Node"}}}
    document = described(
        {"requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Node"}}}}},
        components={"schemas": {"Node": node, "Loop": {"$ref": "#/components/schemas/Loop"}}},
    )
    assert len(request(parse(document), "POST /send").call["body"]) < 2000
    wide = {f"f{n}": {"$ref": "#/components/schemas/Wide"} for n in range(50)}
    document = described(
        {"requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Wide"}}}}},
        components={"schemas": {"Wide": {"type": "object", "properties": wide}}},
    )
    assert len(request(parse(document), "POST /send").call["body"]) < 20_000


WORDS = """$ref type properties required items allOf oneOf example examples enum content application/json schema
requestBody parameters in name security servers url responses"""
KEYS = st.sampled_from(WORDS.split())
ANYTHING = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.sampled_from(["object", "array", "#/paths", "header", "{x}", "to", "Ω\n"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(KEYS, inner, max_size=4),
    max_leaves=25,
)


@settings(max_examples=200, deadline=None)
@given(ANYTHING, ANYTHING)
def test_anything_is_a_request_or_refused(operation, more):
    document = {"openapi": "3.0.0", "paths": {"/a": {"post": operation, "parameters": more}}, "servers": more}
    try:
        made = request(document, "POST /a")
        HttpCall.model_validate(made.call)
    except Invalid:
        pass


def test_an_operation_that_lists_orders_is_how_they_are_fetched():
    document = {
        "openapi": "3.1.0",
        "servers": [{"url": "https://shop.example/api"}],
        "components": {"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}},
        "security": [{"token": []}],
        "paths": {
            "/orders": {
                "get": {
                    "summary": "List orders",
                    "parameters": [
                        {"name": "page", "in": "query", "schema": {"type": "integer", "default": 1}},
                        {"name": "updated_since", "in": "query", "schema": {"type": "string", "format": "date-time"}},
                        {"name": "expand", "in": "query", "schema": {"type": "string"}},
                    ],
                }
            }
        },
    }
    asked = openapi_operations.question(document, "GET /orders")
    made = curl_commands.fetched(asked)
    assert (made["url"], made["pages"], made["page_parameter"]) == ("https://shop.example/api/orders", "number", "page")
    assert made["since_parameter"] == "updated_since"
    assert made["auth"]["scheme"] == "bearer"
    assert asked.secret == "", "an example is no secret"
