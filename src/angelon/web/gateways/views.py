"""The pages of gateways: a mail server, an SMS provider, a chat provider."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for
from werkzeug.datastructures import MultiDict

from angelon.core import calls
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.core.specs.gateway import HttpCall, Receipts
from angelon.core.specs.keys import key_of
from angelon.db import gateway_health, specs
from angelon.db.sends import gateway_states
from angelon.db.tables import GatewayRow
from angelon.engine.operations import gateways as operations
from angelon.web.conflicts import edits_seen
from angelon.web.receipts.views import address_of
from angelon.web.services import actor, live, services, session, store_id, work

pages = Blueprint("gateways", __name__, url_prefix="/gateways", template_folder="templates")

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


@pages.get("")
def index() -> Any:
    states = gateway_states(session(), store_id(), g.now - dt.timedelta(days=7))
    unwell = gateway_health.load(session().connection())
    ids = live().gateway_ids
    rows = [(one, states.get(ids[key], {}), unwell.get(ids[key])) for key, one in live().setup.gateways.items()]
    return render_template("gateways/index.html", rows=rows, kinds=operations.KINDS)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    try:
        with work() as unit:
            operations.create(unit, name, request.form.get("kind", "smtp"))
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}".strip(), "bad")
        return redirect(url_for(".index"))
    return redirect(url_for(".edit", key=key_of(name)))


@pages.post("/<key>/probe")
def probe(key: str) -> Any:
    """Has one send tried at once by a gateway that is taken to be unreachable."""
    gateway = _gateway(key)
    with work() as unit:
        unreachable = operations.probe(unit, gateway)
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
    row = specs.by_key(session(), GatewayRow, store_id(), gateway.key)
    template = "gateways/edit.html" if gateway.kind == "smtp" else "gateways/provider.html"
    return render_template(
        template,
        gateway=gateway,
        problems=problems,
        given=given,
        edits=given.get("edits", row.edits),
        has_password=bool(kept),
        code_sent=bool(code),
        kinds=operations.KINDS,
        blank_call=HttpCall(),
        blank_receipts=Receipts(),
        receipts_at=address_of(gateway.key),
        health=gateway_health.load(session().connection()).get(gateway_id),
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
        smtp = gateway.kind == "smtp"
        made = read_spec(Gateway, _mail_spec(spec, form, gateway) if smtp else _provider_spec(spec, form))
        found = _tried(made)
        if found:
            raise Invalid(found)
        with work() as unit:
            operations.save(unit, made, form.get("password", ""), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return _page(gateway, error.problems, dict(form)), 422
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
    """Pauses, so that due sends are held; or resumes, and releases what was held for it."""
    gateway = _gateway(key)
    with work() as unit:
        if request.form.get("paused") == "yes":
            operations.pause(unit, gateway)
            told = "Paused: what is due is held."
        else:
            told = f"It is active again. {operations.resume(unit, gateway)} held sends were released."
    flash(told, "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/verify")
def verify(key: str) -> Any:
    """Sends a code to the sender's own address through this gateway; or takes the code that was read there."""
    gateway = _gateway(key)
    if gateway.sender is None:
        abort(400, "Only a mail gateway has a sender's address to verify.")
    typed = request.form.get("code", "").strip()
    try:
        if typed:
            with work() as unit:
                operations.verify_sender(unit, gateway, typed)
            flash(f"{gateway.sender.address} is verified.", "good")
        else:
            operations.send_code(services().installation, store_id(), gateway, actor())
            flash(f"A code is on its way to {gateway.sender.address}.", "good")
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}".strip(), "bad")
    return redirect(url_for(".edit", key=key))
