"""A `curl` command of a provider's documentation becomes a request; worked-out cases, and anything at all."""

import json

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from angelon.core import calls, curl_commands
from angelon.core.curl_commands import read
from angelon.core.problems import Invalid
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.gateway import Auth, HttpCall
from angelon.core.templates import compile_template

VALUES = {"to": "+353209150001", "sender": "Kites", "text": 'He said “no”\n"', "key": "sd-1", "locale": "en"}


def sent(command):
    """The request that the command's would be, with values in it."""
    made = read(command)
    return made, calls.make_request(HttpCall.model_validate(made.call), Auth.model_validate(made.auth), "x", VALUES)


def test_json_with_a_bearer_token():
    made, request = sent(
        """$ curl -sS -X POST https://api.lines.example/v2/messages \\
          -H 'Authorization: Bearer tk_123' -H "Content-Type: application/json; charset=utf-8" \\
          -d '{"from": "ACME", "recipients": ["+491701234567"], "content": {"type": "text", "text": "Hi {{name}}"},
               "flash": false}'"""
    )
    assert (made.auth["scheme"], made.secret) == ("bearer", "tk_123")
    assert (request.method, request.url) == ("POST", "https://api.lines.example/v2/messages")
    assert json.loads(request.body) == {
        "from": "Kites",
        "recipients": ["+353209150001"],
        "content": {"type": "text", "text": VALUES["text"]},
        "flash": False,
    }
    assert [now for _, now in made.found if "token" not in now] == [
        "the sender ID or account of this gateway",
        "the recipient",
        "the text",
    ]


def test_a_form_with_a_user_and_a_password():
    made, request = sent(
        "curl 'https://api.lines.example/sms' --data-urlencode 'To=+49170' --data-urlencode From=ACME "
        "-d Body=Hi -u ab:cd"
    )
    assert (made.auth["scheme"], made.auth["username"], made.secret) == ("basic", "ab", "cd")
    assert made.call["content_type"] == "application/x-www-form-urlencoded"
    assert request.body == b"To=%2B353209150001&From=Kites&Body=He%20said%20%E2%80%9Cno%E2%80%9D%0A%22"


def test_a_key_in_a_header_and_values_in_the_address():
    made, request = sent("curl -G api.lines.example/send -d to=49170 -d text=Hi -d unicode=1 -H 'X-Api-Key: k9'")
    assert (made.auth["scheme"], made.auth["header"], made.secret) == ("header", "X-Api-Key", "k9")
    assert made.call["method"] == "GET"
    assert request.url.startswith("https://api.lines.example/send?to=%2B353209150001&text=He%20said")
    assert request.url.endswith("&unicode=1")


def test_what_is_no_placeholder_of_ours_goes_out_as_it_stands():
    _, request = sent(
        """curl a.example --json '{"text": "Hi", "note": "{{ to }} {% x %}", "{{k}}": [{"a": {"b": {}}}]}'"""
    )
    assert json.loads(request.body)["note"] == "{{ to }} {% x %}"


def test_a_secret_that_is_not_the_authentication_is_said_to_be_readable():
    headers = "-H 'Authorization: Bearer t2' -H 'X-Api-Key: t3'"
    made = read(f'curl a.example/?token=t1 {headers} --json \'{{"password": "t4"}}\'')
    readable = [was for was, now in made.found if now.startswith("still in the request, readable")]
    assert sorted(readable) == ["X-Api-Key: •••", "password: •••", "token: •••"]
    assert made.secret == "t2"


@pytest.mark.parametrize(
    ("command", "what", "hint"),
    [
        ("wget https://a.example", "does not start with “curl”", "whole command"),
        ("curl -X POST", "no address", "one address"),
        ("curl https://a.example 'open", "has no end", "to its end"),
        ("curl https://a.example -F file=@x.pdf", "multipart/form-data", "JSON or a form"),
        ("curl https://a.example -d @body.json", "in a file, body.json", "Paste"),
        ("curl -X DELETE https://a.example", "method is DELETE", "POST, PUT or GET"),
        ("curl https://a.example -H 'Content-Type: text/xml' -d '<a/>'", "body is text/xml", "JSON or a form"),
        ("curl https://a.example --json '{\"to\": <number>}'", "not JSON", "Put values"),
        ("curl https://a.example --frobnicate", "option --frobnicate not recognized", "Leave it out"),
        ("curl https://a.example " + "x" * 60_000, "more than 50,000 characters", "Shorten"),
    ],
)
def test_what_can_not_be_read_is_told_with_what_to_do(command, what, hint):
    with pytest.raises(Invalid) as refused:
        read(command)
    (problem,) = refused.value.problems
    assert what in problem.what
    assert hint in problem.hint


@given(st.text(max_size=200), st.sampled_from(["", "-d ", "--json ", "-H ", "-u ", "-G -d ", "--data-urlencode "]))
@example('{"a": "\ue000to\ue000"}', "--json ")
@example("http://[", "")
def test_whatever_is_pasted_is_read_or_refused_and_never_raises_anything_else(text, option):
    try:
        made = read(f"curl https://a.example {option}'{text}'")
    except Invalid as refused:
        assert all(problem.hint for problem in refused.problems)
        return
    for part in ("url", "body"):
        compile_template(made.call[part])


ORDERS = """curl -G 'https://shop.example/api/v2/orders' -H 'X-Api-Key: k3y' -H 'Accept-Language: en' \\
  -d limit=100 -d page=1 -d updated_after=2026-11-01T00:00:00Z"""


def test_what_lists_orders_is_how_they_are_fetched():
    asked = curl_commands.question(ORDERS)
    made = curl_commands.fetched(asked)
    assert made == {
        "url": "https://shop.example/api/v2/orders?limit=100",
        "auth": {"scheme": "header", "username": "", "header": "X-Api-Key"},
        "pages": "number",
        "page_parameter": "page",
        "since_parameter": "updated_after",
        "since_form": "iso",
    }
    assert asked.secret == "k3y"
    assert ("Accept-Language", "left out: no header but that of the authentication is sent") in asked.said
    Fetch.model_validate(made | {"since_at": "$.updated_at"})


@pytest.mark.parametrize(
    ("query", "form", "name"),
    [("since=1793000000", "unix", "since"), ("modified_since=2026-11-01", "date", "modified_since"),
     ("updated_at_min=2026-11-01T00:00:00Z", "iso", "updated_at_min")],
)  # fmt: skip
def test_how_a_moment_is_written_is_seen(query, form, name):
    made = curl_commands.fetched(curl_commands.question(f"curl 'https://shop.example/orders?{query}'"))
    assert (made["since_parameter"], made["since_form"]) == (name, form)


def test_a_cursor_is_told_from_what_stays():
    asked = curl_commands.question("curl 'https://shop.example/orders?status=open&cursor=abc&text=sent%20on'")
    made = curl_commands.fetched(asked)
    assert made["url"] == "https://shop.example/orders?status=open&text=sent%20on"
    assert (made["pages"], made["page_parameter"]) == ("cursor", "cursor")


def test_what_is_asked_about_one_order_is_a_look_up_with_parameters():
    command = 'curl -X POST https://erp.example/stock/find -u api:s3cret --json \'{"sku": "HER-2", "text": 3}\''
    asked = curl_commands.question(command)
    made = curl_commands.looked_up(asked)
    assert made == {
        "name": "find",
        "method": "POST",
        "url": "https://erp.example/stock/find",
        "parameters": {"sku": {"path": "", "default": "HER-2"}, "text": {"path": "", "default": "3"}},
        "auth": {"scheme": "basic", "username": "api", "header": ""},
    }
    assert asked.secret == "s3cret"
    Enrichment.model_validate(made)


@pytest.mark.parametrize(
    ("command", "use", "said"),
    [
        ("curl -X POST https://shop.example/orders -d a=b", curl_commands.fetched, "GET"),
        ("curl -X DELETE https://shop.example/orders/1", curl_commands.fetched, "DELETE"),
        ('curl https://erp.example/x --json \'{"a": {"b": 1}}\'', curl_commands.looked_up, "objects or lists"),
        ("curl https://erp.example/x --json '[1]'", curl_commands.looked_up, "no JSON object"),
        ("curl https://erp.example/x --json '" + "[" * 30000 + "'", curl_commands.looked_up, "nested|not JSON"),
        ("curl", curl_commands.looked_up, "no address"),
    ],
)
def test_what_is_no_question_is_refused_in_words(command, use, said):
    with pytest.raises(Invalid, match=said):
        use(curl_commands.question(command))
