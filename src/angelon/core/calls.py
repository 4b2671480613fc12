"""An HTTP request made from a gateway's settings, and what its answer says."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

from angelon.core.deliveries import storable_text
from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Problem
from angelon.core.specs.gateway import Auth, HttpCall
from angelon.core.templates import BadTemplate, CantRender, compile_template
from angelon.core.values import show


class CantCall(ValueError):
    """A request that can't be made from these settings."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(str(problem))
        self.problem = problem


@dataclass(frozen=True, slots=True)
class Request:
    method: str
    url: str
    headers: Mapping[str, str]
    body: bytes


@dataclass(frozen=True, slots=True)
class ProviderAnswer:
    """What an answer says: the other side's id, its word for the outcome, its reason. Empty where it says nothing."""

    id: str = ""
    outcome: str = ""
    reason: str = ""


def make_request(call: HttpCall, auth: Auth, secret: str, values: Mapping[str, Any]) -> Request:
    """The request for these values. Raises CantCall: a template that is wrong, a body that is no JSON, a header with a
    line break.
    """

    def filled(where: str, source: str) -> str:
        try:
            compiled = compile_template(source)
            return compiled.render({name: values.get(name) for name in compiled.names})
        except (BadTemplate, CantRender) as error:
            raise CantCall(error.problem.at(where)) from None

    url = filled("call.url", call.url).strip()
    if not re.match(r"https?://[^\s/]+", url) or any(c.isspace() for c in url):
        raise CantCall(Problem("call.url", f"“{url[:60]}” is no web address.", "Start it with https://"))
    headers = {"Accept": "application/json"}
    if call.method != "GET":
        headers["Content-Type"] = call.content_type
    for name, source in call.headers.items():
        value = filled(f"call.headers.{name}", source)
        if any(ord(c) < 32 or ord(c) > 255 for c in value) or not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
            raise CantCall(
                Problem(
                    f"call.headers.{name}",
                    f"The header “{name}” can't hold this.",
                    "A header is one line of plain characters.",
                )
            )
        headers[name] = value
    if auth.scheme != "none" and not secret:
        raise CantCall(
            Problem("auth", "The gateway has no token or password yet.", "Type it in on the gateway’s page.")
        )
    if any(ord(c) < 32 or ord(c) > 126 for c in secret) and auth.scheme != "basic":
        raise CantCall(
            Problem(
                "auth",
                "The token holds a character that a header can't.",
                "Copy it again, without spaces and line breaks around it.",
            )
        )
    headers |= authorization(auth, secret)
    body = filled("call.body", call.body).encode() if call.method != "GET" else b""
    if body and call.content_type == "application/json":
        try:
            orjson.loads(body)
        except orjson.JSONDecodeError as error:
            raise CantCall(
                Problem(
                    "call.body",
                    f"The body is no JSON once it is filled: {error}.",
                    "Write every value as {{ name | json }}, without quotes around it.",
                )
            ) from None
    return Request(call.method, url, headers, body)


def authorization(auth: Auth, secret: str) -> dict[str, str]:
    """The header that shows who asks (RFC 7617 for `basic`, RFC 6750 for `bearer`)."""
    if auth.scheme == "basic":
        return {"Authorization": "Basic " + base64.b64encode(f"{auth.username}:{secret}".encode()).decode()}
    if auth.scheme == "bearer":
        return {"Authorization": f"Bearer {secret}"}
    if auth.scheme == "header" and auth.header:
        return {auth.header: secret}
    return {}


def read_answer(call: HttpCall, body: bytes) -> ProviderAnswer:
    """What a JSON answer says at the places that the settings name."""
    try:
        payload = orjson.loads(body)
    except orjson.JSONDecodeError:  # what is nested too deeply, too
        return ProviderAnswer()

    def at(path: str) -> str:
        if not path:
            return ""
        try:
            found = compile_path(path).find(payload)
        except BadPath:
            return ""
        return storable_text(show(found)[:500]) if isinstance(found, str | int | float) else ""

    return ProviderAnswer(at(call.id_at), at(call.outcome_at), at(call.reason_at))


def problems_of(call: HttpCall, where: str, names: Mapping[str, Any]) -> list[Problem]:
    """What is wrong with a call's templates and paths, tried with example values."""
    found = []
    if not call.url:
        found.append(Problem(f"{where}.url", "The address is empty.", "Write the address of the provider’s API."))
    else:
        try:
            make_request(call, Auth(), "", names)
        except CantCall as error:
            found.append(Problem(error.problem.where.replace("call", where, 1), error.problem.what, error.problem.mend))
    for part in ("id_at", "outcome_at", "reason_at"):
        path = getattr(call, part)
        if path:
            try:
                compile_path(path)
            except BadPath as error:
                found.append(Problem(f"{where}.{part}", f"“{path}” is no JSONPath: {error}.", "Write it like $.id."))
    return found
