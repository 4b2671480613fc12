"""The stand-ins' pages: the shop's counter and the customer's mailbox side by side."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, Response, abort, current_app, flash, jsonify, redirect, render_template, request, url_for

from angelon.standins.box import Box, opened
from angelon.standins.catalogue import CUSTOMERS, PRODUCTS
from angelon.standins.counter import CantPost, Counter, next_state
from angelon.standins.mailbox import FAULTS

pages = Blueprint("standins", __name__, url_prefix="/standins", template_folder="templates")


def box() -> Box:
    held: Box = current_app.extensions["angelon.standins"]
    return held


@pages.get("")
def index() -> Any:
    counter = Counter(box())
    mails = box().mails(30)
    wanted = request.args.get("mail", type=int)
    row = next((m for m in mails if m.id == wanted), mails[0] if mails else None)
    return render_template(
        "standins/index.html", counter=counter, products=PRODUCTS, customers=CUSTOMERS, mails=[opened(m) | {"at": m.received_at} for m in mails], mail=opened(row) | {"at": row.received_at} if row else None,
        fault=box().setting("mail_fault", "none"), faults=FAULTS, next_state=next_state, answer_of=answer_of, total=box().count_mails(),
    )  # fmt: skip


def answer_of(text: str) -> str:
    """An answer of the intake in words."""
    try:
        answer = json.loads(text)
    except ValueError:
        return text
    if not isinstance(answer, dict):
        return text
    return f"event {answer['event']}" if "event" in answer else f"{answer.get('detail', '')} {answer.get('mend', '')}".strip()


@pages.post("/counter")
def act() -> Any:
    counter = Counter(box())
    form = request.form
    try:
        match form.get("act"):
            case "place":
                lines = [(p.sku, form.get(f"quantity.{p.sku}", 0, type=int)) for p in PRODUCTS]
                posted = counter.place(form.get("customer", 0, type=int), lines, form.get("gift_note", ""))
            case "test":
                posted = counter.test_delivery()
            case "move":
                posted = counter.move(form.get("order", 0, type=int), form.get("state", ""))
            case "connect":
                counter.connect(form.get("address", ""), form.get("secret", ""))
                flash("The counter delivers there from now on.", "good")
                return redirect(url_for(".index"))
            case _:
                abort(400, "The counter does not know that.")
    except CantPost as error:
        flash(str(error), "bad")
        return redirect(url_for(".index"))
    if posted.status in (200, 202):
        flash(f"{posted.reference}: {posted.event} delivered in {posted.took_ms:.0f} ms.", "good")
    else:
        flash(f"{posted.reference}: {posted.event} was not taken ({posted.status or 'no answer'}). {answer_of(posted.answer)}", "bad")
    return redirect(url_for(".index"))


@pages.post("/mailbox")
def mailbox() -> Any:
    if request.form.get("act") == "clear":
        box().clear()
        flash("The mailbox is empty.", "good")
    elif request.form.get("fault") in FAULTS:
        box().set("mail_fault", request.form["fault"])
        flash(f"The mailbox {FAULTS[request.form['fault']]} from now on.", "good")
    return redirect(url_for(".index"))


@pages.get("/mail.json")
def mail_json() -> Any:
    """What the mailbox has received, newest first."""
    return jsonify([opened(row) for row in box().mails(request.args.get("limit", 200, type=int), request.args.get("to", ""))])


@pages.get("/mail/<int:mail_id>.eml")
def eml(mail_id: int) -> Any:
    row = box().mail(mail_id)
    if row is None:
        abort(404, "There is no such mail.")
    return Response(row.raw, mimetype="message/rfc822", headers={"Content-Disposition": f'attachment; filename="mail-{mail_id}.eml"'})
