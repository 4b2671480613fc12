"""The pages of messages: list, editor with a live preview, publishing."""

from __future__ import annotations

import re
from typing import Any

from flask import Blueprint, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.core.specs import Message
from angelon.core.specs.base import read_spec
from angelon.core.values import regional, show
from angelon.db import setup
from angelon.db.tables import MessageRow, RouteRow
from angelon.web import hand as hands
from angelon.web.messages.preview import checks, preview
from angelon.web.services import live, services, session, store

pages = Blueprint("messages", __name__, url_prefix="/messages", template_folder="templates")

BLANK = {"subject": "", "blocks": [{"kind": "heading", "text": ""}, {"kind": "text", "text": ""}]}


def _row(key: str) -> MessageRow:
    row = setup.by_key(session(), MessageRow, store().id or 0, key)
    if row is None:
        abort(404, f"There is no message “{key}”.")
    found: MessageRow = row
    return found


@pages.get("")
def index() -> Any:
    rows = []
    routes = session().exec(setup.select(RouteRow).where(RouteRow.store_id == store().id)).all()
    spoken = [(route, setup.current_spec(session(), route)) for route in routes]
    for row in session().exec(setup.select(MessageRow).where(MessageRow.store_id == store().id).order_by(setup.col(MessageRow.id))):
        message = Message.model_validate(setup.current_spec(session(), row))
        by = [(route, spec) for route, spec in spoken if spec.get("send") == row.key]
        rows.append((row, message, by))
    return render_template("messages/index.html", rows=rows)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
    if not key:
        flash("Give the message a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    locale = live().setup.store.locale
    with services().database.writing() as writing:
        if setup.by_key(writing, MessageRow, store().id or 0, key):
            flash(f"There is a message called “{key}” already. Choose another name.", "bad")
            return redirect(url_for(".index"))
        setup.save_draft(writing, MessageRow, store().id or 0, read_spec(Message, {"key": key, "name": name, "locale": locale, "email": {locale: BLANK}}), g.now)
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    row = _row(key)
    message = Message.model_validate(setup.current_spec(session(), row))
    hand = _hand(key)
    wanted = request.args.get("locale") or (hand.reading.text("language") if hand.reading else "")
    locale = message.locale_for("email", wanted) or message.locale
    revision = session().get(setup.RevisionRow, row.live_id) if row.live_id else None
    routes = [active.route for active in live().setup.routes if active.route.send == key]
    return render_template(
        "messages/edit.html", row=row, message=message, locale=locale, hand=hand, revision=revision, routes=routes, variables=_variables(hand),
        seen=preview(message, "email", locale, live(), hand), checks=checks(message, live()), locales=list(message.email),
    )  # fmt: skip


def _hand(key: str) -> hands.Hand:
    """The event in hand among those that the message's routes listen to; any where none does."""
    sources = {s for active in live().setup.routes if active.route.send == key for s in active.route.sources}
    return hands.take(live(), sources or None)


def _variables(hand: hands.Hand) -> list[dict[str, Any]]:
    """Every variable with its value for the event in hand, for the list to insert from."""
    listed = []
    the_store = live().setup.store
    locale = regional((hand.reading.text("language") if hand.reading else "") or the_store.locale, the_store.country)
    for name, variable in live().setup.variables.items():
        evaluation = hand.variables[name] if hand.variables else None
        value = show(evaluation.value, locale) if evaluation and evaluation.present else ""
        listed.append({"name": name, "type": variable.type.value, "value": value[:80], "about": variable.about, "required": variable.required})
    listed.append({"name": "order.number", "type": "text", "value": hand.number, "about": "the customer-facing number, as the source reads it", "required": False})
    return listed


@pages.post("/<key>/draft")
def save(key: str) -> Any:
    """Keeps the draft and answers with its preview. A text that can't be rendered is kept all the same."""
    _row(key)
    body = request.get_json(silent=True) or {}
    spec = body.get("spec")
    if not isinstance(spec, dict) or spec.get("key") != key:
        return jsonify({"detail": "The page sent something that is no message. Reload it."}), 400
    try:
        message = read_spec(Message, spec)
    except Invalid as error:
        return jsonify({"saved": False, "problems": [p.as_dict() for p in error.problems]}), 422
    with services().database.writing() as writing:
        setup.save_draft(writing, MessageRow, store().id or 0, message, g.now)
    locale = str(body.get("locale") or message.locale)
    if locale not in message.email:
        locale = message.locale_for("email", locale) or message.locale
    hand = _hand(key)
    seen = preview(message, "email", locale, live(), hand) if message.email else None
    return jsonify(
        {
            "saved": True,
            "preview": seen.as_dict() if seen else None,
            "checks": render_template("messages/_checks.html", checks=checks(message, live())),
            "problems": [],
        }
    )


@pages.post("/<key>/publish")
def publish(key: str) -> Any:
    row = _row(key)
    message = Message.model_validate(setup.current_spec(session(), row))
    errors = [p for p in checks(message, live()) if p.severity == "error"]
    if errors:
        flash(f"Not published: {errors[0]}", "bad")
        return redirect(url_for(".edit", key=key, locale=request.form.get("locale")))
    with services().database.writing() as writing:
        revision = setup.publish(writing, setup.by_key(writing, MessageRow, store().id or 0, key), g.now)
    services().setups.forget()
    flash(f"Revision {revision.number} is live. Every send from now on says this.", "good")
    return redirect(url_for(".edit", key=key, locale=request.form.get("locale")))


@pages.post("/<key>/discard")
def discard(key: str) -> Any:
    """Goes back to what is live."""
    with services().database.writing() as writing:
        row = setup.by_key(writing, MessageRow, store().id or 0, key)
        if row and row.live_id:
            row.draft = None
            flash("The draft is gone; this is what is live.", "good")
        else:
            flash("Nothing is live yet, so there is nothing to go back to.", "bad")
    return redirect(url_for(".edit", key=key))
