"""The pages of gateways: a mail server, an SMS provider, a chat provider."""

from __future__ import annotations

import datetime as dt
import secrets
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for
from werkzeug.datastructures import MultiDict

from angelon.core import calls
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.core.specs.gateway import HttpCall, Receipts
from angelon.core.specs.keys import key_of
from angelon.db import gateway_health, setup
from angelon.db.sends import gateway_states
from angelon.db.tables import GatewayRow
from angelon.gateways.interface import Mail
from angelon.gateways.ways import way_for
from angelon.web.receipts.views import address_of
from angelon.web.services import live, services, session, store

pages = Blueprint("gateways", __name__, url_prefix="/gateways", template_folder="templates")

KINDS = {"smtp": "a mail server (SMTP)", "sms": "an SMS provider (HTTP)", "chat": "a chat provider (HTTP)"}
STARTS: dict[str, dict[str, Any]] = {
    "sms": {
        "body": '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ text | json }}}',
        "headers": {"Idempotency-Key": "{{ key }}"},
        "id_at": "$.id",
    },
    "chat": {
        "body": (
            '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ template | json }}, "values": {{ '
            "values | json }}}"
        ),
        "headers": {"Idempotency-Key": "{{ key }}"},
        "id_at": "$.id",
    },
}
"""What a new provider's request starts from."""
EXAMPLES: dict[str, dict[str, Any]] = {
    "call": {
        "to": "+353209150001",
        "sender": "Shop",
        "text": "Hello “you”",
        "key": "sd-1",
        "locale": "en",
        "encoding": "GSM-7",
        "segments": 1,
        "template": "t-1",
        "values": ["a"],
        "header": {"kind": "none"},
        "footer": "",
        "buttons": [],
    },
    "submit": {
        "text_key": "received",
        "locale": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "Hello {1}!",
        "footer": "",
        "buttons": [],
        "samples": ["Jo"],
        "placeholders": 1,
    },
    "look": {"id": "t-1"},
}
"""Values that a request is tried with before it is kept."""
CODE_FOR = dt.timedelta(hours=1)


@pages.get("")
def index() -> Any:
    states = gateway_states(session(), store().id or 0, g.now - dt.timedelta(days=7))
    unwell = gateway_health.load(session().connection())
    rows = [
        (gateway, states.get(live().gateway_ids[key], {}), unwell.get(live().gateway_ids[key]))
        for key, gateway in live().setup.gateways.items()
    ]
    return render_template("gateways/index.html", rows=rows, kinds=KINDS)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = key_of(name)
    kind = request.form.get("kind", "smtp")
    if not key or kind not in KINDS:
        flash("Give the gateway a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    if key in live().setup.gateways:
        flash(f"There is a gateway called “{key}” already. Choose another name.", "bad")
        return redirect(url_for(".index"))
    spec: dict[str, Any] = {"key": key, "name": name, "kind": kind}
    if kind == "smtp":
        spec["sender"] = {"address": live().setup.store.support_email or "shop@example.com"}
    else:
        spec |= {"auth": {"scheme": "bearer"}, "call": STARTS[kind]}
    try:
        made = read_spec(Gateway, spec)
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".index"))
    with services().database.writing() as writing:
        setup.save_plain(writing, GatewayRow, store().id or 0, made, g.now)
    services().setups.forget()
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/probe")
def probe(key: str) -> Any:
    """Has one send tried at once by a gateway that is taken to be unreachable."""
    gateway = _gateway(key)
    with services().database.connection() as connection:
        unreachable = gateway_health.probe_now(connection, live().gateway_ids[key], services().clock.now())
    services().bell.ring()
    flash(f"{gateway.name} is tried now, with one send." if unreachable else f"{gateway.name} is reachable.", "good")
    return redirect(url_for(".index") if request.form.get("from") == "list" else url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    return _page(_gateway(key), [], {})


def _gateway(key: str) -> Gateway:
    found = live().setup.gateways.get(key)
    if found is None:
        abort(404, f"There is no gateway “{key}”.")
    return found


def _page(gateway: Gateway, problems: list[Any], given: dict[str, str]) -> str:
    gateway_id = live().gateway_ids[gateway.key]
    kept = services().vault.get(session(), "gateway", gateway_id, g.now)
    code = services().vault.get(session(), "sender-code", gateway_id, g.now)
    health = gateway_health.load(session().connection()).get(gateway_id)
    template = "gateways/edit.html" if gateway.kind == "smtp" else "gateways/provider.html"
    return render_template(
        template,
        gateway=gateway,
        problems=problems,
        given=given,
        has_password=bool(kept),
        code_sent=bool(code),
        kinds=KINDS,
        blank_call=HttpCall(),
        blank_receipts=Receipts(),
        receipts_at=address_of(gateway.key),
        health=health,
    )


@pages.post("/<key>")
def save(key: str) -> Any:
    gateway = _gateway(key)
    form = request.form
    spec = gateway.model_dump(mode="json")
    spec["retry"] = {name: form.get(f"retry.{name}", value) for name, value in spec["retry"].items()}
    for name in ("name", "timeout_seconds"):
        spec[name] = form.get(name, spec[name])
    try:
        made = read_spec(
            Gateway, _mail_spec(spec, form, gateway) if gateway.kind == "smtp" else _provider_spec(spec, form)
        )
        found = _tried(made)
        if found:
            raise Invalid(found)
    except Invalid as error:
        return _page(gateway, error.problems, dict(form)), 422
    with services().database.writing() as writing:
        row = setup.save_plain(writing, GatewayRow, store().id or 0, made, g.now)
        if form.get("password"):
            services().vault.put(writing, "gateway", row.id, form["password"], g.now)
        gateway_health.forget(writing.connection(), row.id)
    services().setups.forget()
    flash("Saved. The next try uses it.", "good")
    return redirect(url_for(".edit", key=key))


def _mail_spec(spec: dict[str, Any], form: MultiDict[str, str], was: Gateway) -> dict[str, Any]:
    for name in ("host", "port", "tls", "username"):
        spec[name] = form.get(name, spec[name])
    address = form.get("sender.address", "").strip()
    spec["sender"] = {name: form.get(f"sender.{name}", "") for name in ("address", "name", "reply_to")}
    spec["sender"]["verified"] = bool(was.sender and was.sender.verified and was.sender.address == address.lower())
    if "limits.attachments" in form:
        megabytes = form.get("limits.megabytes", type=float)
        megabytes = megabytes if megabytes is not None and 0 <= megabytes < 1e6 else None  # nan, inf
        spec["limits"] = {
            "attachments": form["limits.attachments"],
            "total_bytes": int(megabytes * 1e6) if megabytes is not None else form.get("limits.megabytes", ""),
            "types": [t.strip() for t in form.get("limits.types", "").replace(",", "\n").splitlines() if t.strip()],
        }
    return spec


def _provider_spec(spec: dict[str, Any], form: MultiDict[str, str]) -> dict[str, Any]:
    for name in ("sender_id", "price", "max_segments"):
        spec[name] = form.get(name, spec[name])
    spec["auth"] = {name: form.get(f"auth.{name}", "") for name in ("scheme", "username", "header")}
    spec["call"] = _call_spec(form, "call")
    spec["receipts"] = None
    if form.get("receipts.on"):
        spec["receipts"] = {name: form.get(f"receipts.{name}", "") for name in ("id_at", "state_at", "text_at")} | {
            word: _words(form, f"receipts.{word}") for word in ("delivered", "read", "failed", "answered")
        }
    if spec["kind"] == "chat":
        spec["review"] = None
        if form.get("review.on"):
            spec["review"] = {
                "submit": _call_spec(form, "review.submit"),
                "look": _call_spec(form, "review.look"),
                **{word: _words(form, f"review.{word}") for word in ("approved", "rejected")},
            }
    return spec


def _call_spec(form: MultiDict[str, str], prefix: str) -> dict[str, Any]:
    made: dict[str, Any] = {
        name: form.get(f"{prefix}.{name}", "")
        for name in ("method", "url", "content_type", "body", "id_at", "outcome_at", "reason_at")
    }
    made["headers"] = {}
    for line in form.get(f"{prefix}.headers", "").splitlines():
        name, colon, value = line.partition(":")
        if line.strip():
            if not colon:
                raise Invalid(
                    [
                        Problem(
                            f"{prefix}.headers",
                            f"“{line.strip()[:60]}” is no header.",
                            "Write each on a line, as Name: value.",
                        )
                    ]
                )
            made["headers"][name.strip()] = value.strip()
    for word in ("refused", "later"):
        made[word] = _words(form, f"{prefix}.{word}")
    return made


def _words(form: MultiDict[str, str], name: str) -> list[str]:
    return [word.strip() for word in form.get(name, "").split(",") if word.strip()]


def _tried(gateway: Gateway) -> list[Problem]:
    """What is wrong with a provider's requests, found by making them with example values."""
    if gateway.kind == "smtp":
        return []
    tried: list[tuple[str, HttpCall, str]] = [("call", gateway.call, "call")]
    if gateway.review:
        tried += [("review.submit", gateway.review.submit, "submit"), ("review.look", gateway.review.look, "look")]
    return [problem for where, call, example in tried for problem in calls.problems_of(call, where, EXAMPLES[example])]


@pages.post("/<key>/pause")
def pause(key: str) -> Any:
    """Pauses, so that due sends are held; or goes on, and releases what was held for it."""
    gateway = _gateway(key).model_copy(update={"paused": request.form.get("paused") == "yes"})
    with services().database.writing() as writing:
        row = setup.save_plain(writing, GatewayRow, store().id or 0, gateway, g.now)
        released = (
            0
            if gateway.paused
            else setup.release_paused(writing, row.id, f"{gateway.name} is paused.", services().clock.now())
        )
    services().setups.forget()
    services().bell.ring()
    flash(
        "Paused: what is due is held." if gateway.paused else f"It runs again. {released} held sends were released.",
        "good",
    )
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/verify")
def verify(key: str) -> Any:
    """Sends a code to the sender's own address through this gateway; or takes the code that was read there."""
    gateway = _gateway(key)
    if gateway.sender is None:
        abort(400, "Only a mail gateway has a sender's address to verify.")
    gateway_id = live().gateway_ids[key]
    typed = "".join(request.form.get("code", "").split())
    kept = services().vault.get(session(), "sender-code", gateway_id, g.now)
    if typed:
        if not kept or not secrets.compare_digest(kept[0].text.encode(), f"{gateway.sender.address} {typed}".encode()):
            flash("That is not the code, or it is older than an hour. Have a new one sent.", "bad")
            return redirect(url_for(".edit", key=key))
        verified = gateway.model_copy(update={"sender": gateway.sender.model_copy(update={"verified": True})})
        with services().database.writing() as writing:
            setup.save_plain(writing, GatewayRow, store().id or 0, verified, g.now)
            services().vault.expire(writing, "sender-code", gateway_id, g.now)
        services().setups.forget()
        flash(f"{gateway.sender.address} is verified.", "good")
        return redirect(url_for(".edit", key=key))
    return _send_code(gateway, gateway_id)


def _send_code(gateway: Gateway, gateway_id: int) -> Any:
    assert gateway.sender is not None
    address, code = gateway.sender.address, f"{secrets.randbelow(1_000_000):06d}"
    text = f"The code is {code}. Type it in on the page of {gateway.name} within an hour.\n"
    mail = RenderedEmail(f"{code} is the code for {address}", f"<p>{text}</p>", text)
    data = build(
        mail,
        Envelope(
            address,
            live().setup.store.name,
            address,
            "",
            f"{secrets.token_hex(8)}@{address.rpartition('@')[2]}",
            services().clock.now(),
        ),
    )
    kept = services().vault.get(session(), "gateway", gateway_id, g.now)
    way = way_for(gateway, kept[0].text if kept else "")
    outcome = way.deliver(Mail(address, address, data), code)
    way.close()
    if outcome.kind != "accepted":
        flash(f"The code could not be sent: {outcome.code} {outcome.answer}", "bad")
        return redirect(url_for(".edit", key=gateway.key))
    with services().database.writing() as writing:
        services().vault.put(writing, "sender-code", gateway_id, f"{address} {code}", g.now)
        services().vault.expire(writing, "sender-code", gateway_id, g.now + CODE_FOR)
    flash(f"A code is on its way to {address}.", "good")
    return redirect(url_for(".edit", key=gateway.key))
