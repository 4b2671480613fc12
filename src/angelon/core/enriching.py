"""The request of an enrichment from a payload, and its answer as a value. Pure."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any
from urllib.parse import quote, urlencode, urlsplit, urlunsplit

import orjson
from inscriptis import get_text

from angelon.core.calls import CantCall, Request, make_request
from angelon.core.markup.cleaning import fragment
from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import evaluate
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.gateway import HttpCall
from angelon.core.specs.variable import Type
from angelon.core.values import show


def wanted(enrichments: list[Enrichment], event_name: str) -> list[Enrichment]:
    """Those that are asked for a delivery of this name."""
    return [one for one in enrichments if not one.events or event_name in one.events]


_NAMED = re.compile(r"\{([^{}]*)\}")


def look_up_request(enrichment: Enrichment, context: Context, secret: str = "") -> Request:
    """The request of a look-up, with its parameters worked out. Raises Invalid with what has no value, and with what
    keeps the request from being made.
    """
    values = parameter_values(enrichment, context)
    url = address(enrichment, values)
    if enrichment.auth.scheme != "none" and not secret:
        word = "password" if enrichment.auth.scheme == "basic" else "token"
        raise Invalid([Problem("auth", f"This look-up has no {word} yet.", "Type it in where the look-up is set up.")])
    body = enrichment.body.strip()
    if enrichment.method == "POST" and not body:
        body = "{{ whole }}"
        values["whole"] = orjson.dumps({name: values[name] for name in _in_body(enrichment)}).decode()
    call = HttpCall(method=enrichment.method, url="https://look.up", body=body)
    try:
        return replace(make_request(call, enrichment.auth, secret, values), url=url)
    except CantCall as error:
        raise Invalid([error.problem]) from None


def _in_path(enrichment: Enrichment) -> set[str]:
    return set(_NAMED.findall(enrichment.url))


def _in_body(enrichment: Enrichment) -> list[str]:
    return [name for name in enrichment.parameters if name not in _in_path(enrichment)]


def parameter_values(enrichment: Enrichment, context: Context) -> dict[str, str]:
    """The parameters of a look-up, as text. Raises Invalid with what has no value."""
    values: dict[str, str] = {}
    problems = []
    for name, recipe in enrichment.parameters.items():
        found = evaluate(recipe, Type.TEXT, context, f"parameters.{name}")
        if found.problem:
            problems.append(
                Problem(
                    found.problem.where,
                    f"The parameter “{name}” has no value. {found.problem.what}",
                    found.problem.hint,
                )
            )
        else:
            values[name] = show(found.value)
    if problems:
        raise Invalid(problems)
    return values


def address(enrichment: Enrichment, values: Mapping[str, str]) -> str:
    """The address to ask: the parameters' values percent-encoded in its path and, of a GET, its query (RFC 3986).
    Raises Invalid for a value that would leave its place in the path.
    """
    for name in sorted(_in_path(enrichment)):
        if values[name].strip() in ("", ".", ".."):  # steps and gaps, not names (RFC 3986, section 5.2.4)
            what = f"The parameter “{name}” is “{values[name]}”, which would ask another address."
            raise Invalid([Problem(f"parameters.{name}", what, "Correct the value, or its path.")])
    url = _NAMED.sub(lambda match: quote(values[match[1]].strip(), safe=""), enrichment.url)
    parts = urlsplit(url)
    in_query = _in_body(enrichment) if enrichment.method == "GET" else []
    query = "&".join(piece for piece in (parts.query, urlencode({name: values[name] for name in in_query})) if piece)
    return urlunsplit((parts.scheme, parts.netloc, parts.path, query, ""))


def answer(enrichment: Enrichment, body: bytes) -> Any:
    """An answer as what stands in the payload: the JSON value; the text and title of a page; a text. Raises Invalid."""
    if enrichment.format == "json":
        try:
            return orjson.loads(body)
        except orjson.JSONDecodeError as error:
            raise Invalid(
                [Problem("answer", f"The answer is not JSON: {error}.", "Choose another form, or another address.")]
            ) from None
    text = body.decode("utf-8", "replace")
    if enrichment.format == "text":
        return text.strip()
    title = re.search(r"<title[^>]*>(.*?)</title>", text, re.S | re.I)
    return {
        "html": fragment(text),
        "text": get_text(text).strip(),
        "title": " ".join(title[1].split()) if title else "",
        "links": re.findall(r'href="(https?://[^"<>\s]+)"', text)[:200],
    }


def with_answers(payload: Any, answers: Mapping[str, Any]) -> Any:
    """A payload with what was answered about it; each answer under its own root, `+name`."""
    if not answers or not isinstance(payload, dict):
        return payload
    return {**payload, **{f"+{name}": value for name, value in answers.items()}}
