"""The stand-ins' pages: the test shop and the customer's mailbox side by side."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, Response, abort, current_app, flash, jsonify, redirect, render_template, request, url_for

from angelon.standins import sms, stall
from angelon.standins.account import FAULTS as PROVIDER_FAULTS
from angelon.standins.box import Box, opened, shown
from angelon.standins.catalogue import CARRIER_SAYS, CUSTOMERS, PRODUCTS
from angelon.standins.chat import answered, chat_json
from angelon.standins.counter import CantPost, Counter, next_state
from angelon.standins.mailbox import FAULTS
from angelon.standins.reviewer import RULES
from angelon.standins.sms import sms_json
from angelon.standins.system import call_json
from angelon.web.numbers import whole
from angelon.web.services import live, services

pages = Blueprint("standins", __name__, url_prefix="/standins", template_folder="templates")


PARTIES = {
    "sms": ("The SMS provider", ".handset"),
    "chat": ("The chat provider", ".chat"),
    "system": ("The store’s API", ".calls"),
    "stall": ("The market stall", ".market_stall"),
}
"""Who can be told to misbehave: what it is called, and its page."""


def box() -> Box:
    held: Box = current_app.extensions["angelon.standins"]
    return held


def limit() -> int:
    """How many of the newest are asked for."""
    return min(whole(request.args.get("limit")) or 200, 10_000)


@pages.get("")
def index() -> Any:
    counter = Counter(box())
    mails = box().mails(30)
    wanted = whole(request.args.get("mail"))
    row = next((m for m in mails if m.id == wanted), mails[0] if mails else None)
    return render_template(
        "standins/index.html",
        counter=counter,
        products=PRODUCTS,
        customers=CUSTOMERS,
        mails=[opened(m) | {"at": m.received_at} for m in mails],
        mail=opened(row) | {"at": row.received_at, "page": shown(row)} if row else None,
        fault=box().setting("mail_fault", "none"),
        faults=FAULTS,
        next_state=next_state,
        carrier_says=CARRIER_SAYS,
        answer_of=answer_of,
        total=box().count_mails(),
    )


def answer_of(text: str) -> str:
    """An answer of the intake in words."""
    try:
        answer = json.loads(text)
    except ValueError:
        return text
    if not isinstance(answer, dict):
        return text
    return (
        f"event {answer['event']}"
        if "event" in answer
        else f"{answer.get('detail', '')} {answer.get('hint', '')}".strip()
    )


@pages.post("/counter")
def act() -> Any:
    counter = Counter(box())
    form = request.form
    try:
        match form.get("act"):
            case "place":
                lines = [(p.sku, whole(form.get(f"quantity.{p.sku}"), 1000) or 0) for p in PRODUCTS]
                customer, pays = whole(form.get("customer")) or 0, form.get("pays", "card")
                posted = counter.place(customer, lines, form.get("gift_note", ""), pays=pays)
            case "test":
                posted = counter.test_delivery()
            case "move":
                posted = counter.move(whole(form.get("order")) or 0, form.get("state", ""))
            case "watch":
                posted = counter.watch(form.get("number", ""), form.get("words", ""), form.get("place", ""))
            case "connect":
                counter.connect(form.get("address", ""), form.get("secret", ""))
                flash("The test shop delivers there from now on.", "good")
                return redirect(url_for(".index"))
            case _:
                abort(400, "The test shop does not know that.")
    except CantPost as error:
        flash(str(error), "bad")
        return redirect(url_for(".index"))
    if posted.status in (200, 202):
        flash(f"{posted.reference}: {posted.event} delivered in {posted.took_ms:.0f} ms.", "good")
    else:
        flash(
            f"{posted.reference}: {posted.event} was not taken ({posted.status or 'no answer'}). "
            f"{answer_of(posted.answer)}",
            "bad",
        )
    return redirect(url_for(".index"))


@pages.get("/thanks/<int:order_id>")
def thanks(order_id: int) -> Any:
    """What the customer of the test shop sees once they have ordered, with the shop's sign-up pages."""
    order = Counter(box()).order(order_id)
    if order is None:
        abort(404, "There is no such order in the test shop.")
    shop = live().setup.store
    offered = [one for one in shop.pages.sign_ups if one.key != shop.pages.follow_sign_up]
    return render_template("standins/thanks.html", order=order, shop=shop, sign_ups=offered)


@pages.post("/mailbox")
def mailbox() -> Any:
    if request.form.get("act") == "clear":
        box().clear()
        flash("The mailbox is empty.", "good")
    elif request.form.get("fault") in FAULTS:
        box().set("mail_fault", request.form["fault"])
        flash(f"The mailbox {FAULTS[request.form['fault']]} from now on.", "good")
    return redirect(url_for(".index"))


@pages.get("/handset")
def handset() -> Any:
    """The SMS provider, and the texts on the customers' handsets, one conversation a number."""
    rows = box().texts(120)
    numbers = list(dict.fromkeys(row.to for row in rows))
    to = request.args.get("to") or (numbers[0] if numbers else "")
    return render_template(
        "standins/handset.html",
        rows=rows,
        numbers=numbers,
        to=to,
        shown=[row for row in reversed(rows) if row.to == to],
        fault=box().setting("sms_fault", "none"),
        faults=PROVIDER_FAULTS,
    )


@pages.get("/chat")
def chat() -> Any:
    """The chat provider: what the customers see, and the texts in its review."""
    rows = box().chats(120)
    people = list(dict.fromkeys(row.to for row in rows))
    to = request.args.get("to") or (people[0] if people else "")
    return render_template(
        "standins/chat.html",
        rows=rows,
        people=people,
        to=to,
        shown=[row for row in reversed(rows) if row.to == to],
        fault=box().setting("chat_fault", "none"),
        faults=PROVIDER_FAULTS,
        texts=box().chat_texts(40),
        rules=RULES,
        seconds=box().setting("chat_review_seconds", 0),
    )


@pages.get("/calls")
def calls() -> Any:
    """The store's own API: what it was asked to do."""
    return render_template(
        "standins/calls.html",
        rows=box().calls(60),
        fault=box().setting("system_fault", "none"),
        faults=PROVIDER_FAULTS,
    )


@pages.get("/calls.json")
def calls_list() -> Any:
    """What the store's own API was asked, newest first."""
    return jsonify([call_json(row) for row in box().calls(limit(), request.args.get("path", ""))])


@pages.get("/stall")
def market_stall() -> Any:
    """The stall's order book, which nobody is told of: it is asked for over its API."""
    return render_template(
        "standins/stall.html",
        rows=stall.newest(box()),
        states=stall.STATES,
        fault=box().setting("stall_fault", "none"),
        faults=PROVIDER_FAULTS,
        skew=box().setting("stall_skew", 0),
    )


@pages.post("/stall/mail")
def payment_mail() -> Any:
    """The payment office tells of a refund by mail, and no other way."""
    number = " ".join(request.form.get("number", "").split())[:60]
    back = services().settings.returns_at()
    if not number or not isinstance(back, tuple):
        flash("Write an order’s number." if not number else "No mail can come in: ANGELON_RETURNS is not set.", "bad")
        return redirect(url_for(".market_stall"))
    try:
        told = stall.tell_by_mail(back, number)
    except OSError as error:
        flash(f"The mail was not taken: {error}", "bad")
    else:
        flash(f"The payment office has written that order {number} is refunded. {told}", "good")
    return redirect(url_for(".market_stall"))


@pages.post("/stall")
def change_stall() -> Any:
    """Sells something, moves an order to its next state, or puts the stall's clock on or back."""
    number, order_id = whole(request.form.get("sell")), whole(request.form.get("order"))
    if number:
        made = stall.sell(box(), min(number, 500))
        what = f"Order ST-{made[0]:05} is" if len(made) == 1 else f"{len(made)} orders are"
        flash(f"{what} in the stall’s book. The stall tells nobody: its source fetches it.", "good")
    elif order_id:
        state = stall.move(box(), order_id)
        flash(f"ST-{order_id:05} is {state} now." if state else "It is handed over already.", "good")
    elif (skew := request.form.get("skew", "")).lstrip("-").isdigit() and abs(int(skew)) <= 1440:
        box().set("stall_skew", int(skew))
        flash("The stall’s clock is set.", "good")
    return redirect(url_for(".market_stall"))


@pages.post("/providers")
def provider() -> Any:
    """Sets how a provider behaves, and how long the chat provider's review takes."""
    which = request.form.get("which")
    if which not in PARTIES:
        abort(400, "There is no such provider.")
    fault = request.form.get("fault")
    if fault in PROVIDER_FAULTS:
        box().set(f"{which}_fault", fault)
        flash(f"{PARTIES[which][0]} {PROVIDER_FAULTS[fault]} from now on.", "good")
    seconds = whole(request.form.get("seconds"))
    if seconds is not None and 0 <= seconds <= 86400:
        box().set("chat_review_seconds", seconds)
        flash(
            "A review is done at once from now on."
            if seconds == 0
            else f"A review takes {seconds} seconds from now on.",
            "good",
        )
    return redirect(url_for(PARTIES[which][1]))


@pages.post("/chat/answer")
def answer() -> Any:
    """The customer answers: with a button's words, or their own."""
    text = request.form.get("text", "").strip()[:500]
    row = next((row for row in box().chats(200) if row.reference == request.form.get("message")), None)
    if row is None or not text:
        abort(400, "Write what the customer answers.")
    if not box().setting("chat_receipts", ""):
        flash("The provider does not know where to report answers: this data folder was made before it could.", "bad")
        return redirect(url_for(".chat", to=row.to))
    answered(box(), row.reference, text)
    flash(f"{row.to} answered “{text}”. The account gets it.", "good")
    return redirect(url_for(".chat", to=row.to))


@pages.post("/handset/answer")
def text_back() -> Any:
    """The customer writes an SMS to the shop."""
    text, number = request.form.get("text", "").strip()[:500], request.form.get("number", "")
    if not text or not any(row.to == number for row in box().texts(500)):
        abort(400, "Write what the customer answers.")
    if not box().setting("sms_receipts", ""):
        flash("The provider does not know where to report answers: this data folder was made before it could.", "bad")
    else:
        sms.answered(box(), number, text)
        flash(f"{number} answered “{text}”. The account gets it.", "good")
    return redirect(url_for(".handset", to=number))


@pages.get("/sms.json")
def sms_list() -> Any:
    """What the handsets have received, newest first."""
    return jsonify([sms_json(row) for row in box().texts(limit(), request.args.get("to", ""))])


@pages.get("/chat.json")
def chat_list() -> Any:
    """What the customers' chats have received, newest first."""
    return jsonify([chat_json(row) for row in box().chats(limit(), request.args.get("to", ""))])


@pages.get("/mail.json")
def mail_json() -> Any:
    """What the mailbox has received, newest first."""
    return jsonify([opened(row) for row in box().mails(limit(), request.args.get("to", ""))])


@pages.get("/mail/<int:mail_id>.eml")
def eml(mail_id: int) -> Any:
    row = box().mail(mail_id)
    if row is None:
        abort(404, "There is no such mail.")
    return Response(
        row.raw,
        mimetype="message/rfc822",
        headers={"Content-Disposition": f'attachment; filename="mail-{mail_id}.eml"'},
    )
