"""The request of an enrichment from a payload, and its answer as a value. Pure."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode, urlsplit, urlunsplit

import orjson
from inscriptis import get_text

from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import evaluate
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.variable import Type
from angelon.core.values import show


def wanted(enrichments: list[Enrichment], event_name: str) -> list[Enrichment]:
    """Those that are asked for a delivery of this name."""
    return [one for one in enrichments if not one.events or event_name in one.events]


def address(enrichment: Enrichment, context: Context) -> str:
    """The address to GET, with its parameters worked out and percent-encoded (RFC 3986). Raises Invalid with what has
    no value.
    """
    values: dict[str, str] = {}
    problems = []
    for name, recipe in enrichment.parameters.items():
        found = evaluate(recipe, Type.TEXT, context, f"parameters.{name}")
        if found.problem:
            problems.append(
                Problem(
                    found.problem.where,
                    f"The parameter “{name}” has no value. {found.problem.what}",
                    found.problem.mend,
                )
            )
        else:
            values[name] = show(found.value)
    if problems:
        raise Invalid(problems)
    in_path = set(re.findall(r"\{([^{}]*)\}", enrichment.url))
    url = re.sub(r"\{([^{}]*)\}", lambda match: quote(values[match[1]], safe=""), enrichment.url)
    parts = urlsplit(url)
    query = "&".join(
        piece
        for piece in (parts.query, urlencode({name: value for name, value in values.items() if name not in in_path}))
        if piece
    )
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
        "text": get_text(text).strip(),
        "title": " ".join(title[1].split()) if title else "",
        "links": re.findall(r'href="(https?://[^"<>\s]+)"', text)[:200],
    }


def with_answers(payload: Any, answers: Mapping[str, Any]) -> Any:
    """A payload with what was answered about it; each answer under its own root, `+name`."""
    if not answers or not isinstance(payload, dict):
        return payload
    return {**payload, **{f"+{name}": value for name, value in answers.items()}}
