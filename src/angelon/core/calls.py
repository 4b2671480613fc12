"""An HTTP request made from a gateway's settings, and what its answer says."""

from __future__ import annotations

import base64
import datetime as dt
import json
import re
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any
from urllib.parse import quote, urlencode

import orjson

from angelon.core import signatures
from angelon.core.deliveries import storable_text
from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.payload.redact import BLOT, redacted, secret
from angelon.core.problems import Problem
from angelon.core.specs.gateway import Auth, Gateway, HttpCall
from angelon.core.specs.source import Signing
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


def shown_request(gateway: Gateway, values: Mapping[str, Any]) -> str:
    """The request that a message makes, as people read it, without any secret. Raises CantCall."""
    bare = {"key": "the-send’s-id", **values}
    made = make_request(gateway.call, Auth(), "", bare)
    proof = {
        "basic": {"Authorization": f"Basic {BLOT} ({gateway.auth.username})"},
        "bearer": {"Authorization": f"Bearer {BLOT}"},
        "oauth": {"Authorization": f"Bearer {BLOT} (asked for at {gateway.auth.token_url})"},
        "header": {gateway.auth.header: BLOT},
        "hmac": {gateway.auth.header: f"{BLOT} (HMAC-SHA256 of the body)"},
        "standard-webhooks": {"webhook-signature": BLOT},
    }.get(gateway.auth.scheme, {})
    headers = {name: BLOT if secret(name) else value for name, value in made.headers.items()} | proof
    body = made.body.decode(errors="replace")
    with suppress(ValueError):
        body = json.dumps(redacted(json.loads(body)), ensure_ascii=False, indent=2)
    lines = [f"{made.method} {made.url}", *(f"{name}: {value}" for name, value in headers.items())]
    return "\n".join(lines) + (f"\n\n{body}" if body else "")


def call_request(gateway: Gateway, secret: str, values: Mapping[str, Any], key: str, now: dt.datetime) -> Request:
    """The request of a call (`values` as `RenderedCall.provider_values` gives them), signed where the gateway says so.
    Raises CantCall.

    `key` names the send, the same at every try: it goes along as Idempotency-Key, and as `webhook-id`.
    """
    base = gateway.call.url.strip().rstrip("/")
    headers = {"Idempotency-Key": "{{ key }}", **gateway.call.headers}
    shell = HttpCall(method="GET", url=base, headers=headers)
    made = make_request(shell, gateway.auth, secret, {"key": key})
    url = base + values["path"]
    if any(c.isspace() or ord(c) < 33 for c in url):
        raise CantCall(Problem("call.path", f"“{url[:80]}” is no web address.", "Write a space as %20."))
    for name, value in values["headers"].items():
        if any(ord(c) < 32 or ord(c) > 126 for c in value):
            raise CantCall(
                Problem(
                    "call.headers",
                    f"The header “{name}” can't hold “{value[:60]}”.",
                    "Headers are plain ASCII letters.",
                )
            )
    body = values["body"].encode() if values["method"] != "GET" else b""
    sent = {**made.headers, **values["headers"]}
    if body:
        sent["Content-Type"] = values["content_type"]
    return Request(values["method"], url, sent | _signature(gateway.auth, secret, body, key, now), body)


def _signature(auth: Auth, secret: str, body: bytes, key: str, now: dt.datetime) -> dict[str, str]:
    """The headers of a signature over the body (RFC 2104, or Standard Webhooks 1.0)."""
    for problem in auth_problems(auth):
        raise CantCall(problem)
    if auth.scheme == "hmac":
        return signatures.sign(Signing(scheme="hmac-sha256", header=auth.header), secret, body, key, now)
    if auth.scheme == "standard-webhooks":
        try:
            return signatures.sign(Signing(scheme="standard-webhooks"), secret, body, key, now)
        except ValueError:
            raise CantCall(
                Problem("auth", "The signing secret is not base64.", "Copy it again; it usually starts with whsec_.")
            ) from None
    return {}


def auth_problems(auth: Auth) -> list[Problem]:
    """What is missing for the chosen way of authentication."""
    if auth.scheme in ("header", "hmac") and not auth.header:
        return [Problem("auth.header", "No header is named.", "Write the one that carries it, such as X-Signature.")]
    if auth.scheme == "oauth" and not auth.token_url:
        return [Problem("auth.token_url", "The address is empty.", "Write where a token is asked for, from https://")]
    if auth.scheme == "oauth" and not auth.username:
        return [Problem("auth.username", "The client’s id is empty.", "Write it as the provider gave it.")]
    return []


def token_request(auth: Auth, secret: str) -> Request:
    """How a token is asked for with a client's own credentials (RFC 6749, section 4.4.2)."""
    form = {"grant_type": "client_credentials"} | ({"scope": auth.scope} if auth.scope else {})
    who = f"{quote(auth.username, safe='')}:{quote(secret, safe='')}"
    headers = {
        "Accept": "application/json",
        "Content-Type": "application/x-www-form-urlencoded",
        "Authorization": "Basic " + base64.b64encode(who.encode()).decode(),
    }
    return Request("POST", auth.token_url, headers, urlencode(form).encode())


def read_token(body: bytes) -> tuple[str, float]:
    """A token and how many seconds it is good for (RFC 6749, section 5.1). Raises ValueError."""
    try:
        told = orjson.loads(body)
        token, seconds = str(told["access_token"]), float(told.get("expires_in", 300))
    except (orjson.JSONDecodeError, KeyError, TypeError, ValueError, AttributeError):
        raise ValueError("the answer holds no access_token") from None
    if not token or not token.isascii() or any(ord(c) < 33 for c in token):
        raise ValueError("the answer’s access_token can’t stand in a header")
    return token, seconds


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


def read_balance(path: str, body: bytes) -> Decimal | None:
    """The credit that an answer tells at a path; None where it tells none."""
    try:
        found = compile_path(path).find(orjson.loads(body))
        made = Decimal(str(found)) if isinstance(found, str | int | float) and not isinstance(found, bool) else None
    except (orjson.JSONDecodeError, BadPath, InvalidOperation):
        return None
    return made if made is not None and made.is_finite() and abs(made) < 10**9 else None


def problems_of_calls(gateway: Gateway) -> list[Problem]:
    """What is wrong with what every request of a `call` gateway shares, tried with example values."""
    if not gateway.call.url:
        return [Problem("call.url", "The address is empty.", "Write what every address starts with, from https://")]
    example = {"method": "POST", "path": "", "headers": {}, "content_type": "application/json", "body": "{}"}
    try:
        unsigned = gateway.model_copy(update={"auth": Auth()})
        call_request(unsigned, "", example, "sd-1", dt.datetime(2026, 1, 1, tzinfo=dt.UTC))
    except CantCall as error:
        return [error.problem]
    return problems_of(gateway.call, "call", {"key": "sd-1"})


def text_missing(gateway: Gateway) -> Problem | None:
    """Why nobody could read a message by this gateway: no part of a provider's request holds what it says. With a
    review, `template` (the approved text) says it as well as `text`.
    """
    if gateway.kind not in ("sms", "chat"):
        return None
    said = {"text", "template"} if gateway.review is not None else {"text"}
    try:
        named = [compile_template(source).names for source in (gateway.call.url, gateway.call.body)]
    except BadTemplate:
        return None  # which is said where the request is made
    if said & frozenset().union(*named):
        return None
    return Problem(
        "call.body",
        f"The request of {gateway.name} does not hold what a message says"
        + (": {{ template }} is empty without a review of texts." if "template" in named[1] else "."),
        "Put {{ text | json }} where the provider reads the text.",
    )


def problems_of(call: HttpCall, where: str, names: Mapping[str, Any]) -> list[Problem]:
    """What is wrong with a call's templates and paths, tried with example values."""
    found = []
    if not call.url:
        found.append(Problem(f"{where}.url", "The address is empty.", "Write the address of the provider’s API."))
    else:
        try:
            make_request(call, Auth(), "", names)
        except CantCall as error:
            found.append(Problem(error.problem.where.replace("call", where, 1), error.problem.what, error.problem.hint))
    for part in ("id_at", "outcome_at", "reason_at"):
        path = getattr(call, part)
        if path:
            try:
                compile_path(path)
            except BadPath as error:
                found.append(Problem(f"{where}.{part}", f"“{path}” is no JSONPath: {error}.", "Write it like $.id."))
    return found
