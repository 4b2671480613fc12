"""Addresses that must not be written to, and the consent that channels need."""

from __future__ import annotations

from typing import Any

from email_validator import EmailNotValidError
from flask import Blueprint, flash, g, redirect, render_template, request, url_for

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.planning.given import address_mark
from angelon.core.problems import Invalid
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.db import setup, suppressions
from angelon.web.services import live, services, session, store

pages = Blueprint("suppressions", __name__, url_prefix="/suppressions", template_folder="templates")


@pages.get("")
def index() -> Any:
    words = request.args.get("words", "").strip()[:100]
    rows = suppressions.listed(session(), store().id or 0, words)
    flags = [name for name, variable in live().setup.variables.items() if variable.type.value in ("flag", "text")]
    return render_template(
        "suppressions/index.html", rows=rows, words=words, the_store=live().setup.store, flags=flags, given=request.args
    )


@pages.post("")
def add() -> Any:
    """Takes addresses, one a line; those that are none are told and stay in the field."""
    good, bad = [], []
    for line in request.form.get("addresses", "").splitlines()[:5000]:
        if line.strip():
            mark = _mark(line.strip())
            (good if mark else bad).append(mark or line.strip())
    if not good and not bad:
        flash("Write at least one address or number.", "bad")
        return redirect(url_for(".index"))
    why = request.form.get("why", "").strip()[:300] or "asked not to be written to."
    with services().database.writing() as writing:
        new = sum(suppressions.add(writing, store().id or 0, mark, why, g.now) for mark in good)
    if good:
        flash(f"{new} added" + (f", {len(good) - new} were there already." if len(good) > new else "."), "good")
    if bad:
        flash(
            f"Not understood as an address or number: {', '.join(bad[:5])}. Numbers are written like +353 20 915 1234.",
            "bad",
        )
    return redirect(url_for(".index", addresses="\n".join(bad)[:1500] or None, why=why if bad else None))


def _mark(text: str) -> str:
    try:
        return (
            address_mark("email", check_email(text))
            if "@" in text
            else address_mark("sms", phone_text(read_phone(text, live().setup.store.country or None)))
        )
    except (EmailNotValidError, BadPhone):
        return ""


@pages.post("/<int:suppression_id>/delete")
def delete(suppression_id: int) -> Any:
    with services().database.writing() as writing:
        mark = suppressions.drop(writing, store().id or 0, suppression_id)
    flash(f"{mark.partition(':')[2]} may be written to again." if mark else "It was not in the list any more.", "good")
    return redirect(url_for(".index"))


@pages.post("/consent")
def consent() -> Any:
    spec = dict(store().spec)
    spec["consent"] = {
        channel: request.form[channel] for channel in ("email", "sms", "chat") if request.form.get(channel)
    }
    spec["echo_minutes"] = request.form.get("echo_minutes") or 0
    try:
        made = read_spec(Store, spec)
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".index"))
    with services().database.writing() as writing:
        setup.save_store(writing, store().id or 0, made)
    services().setups.forget()
    flash("Kept. It counts for every send from now on.", "good")
    return redirect(url_for(".index"))
