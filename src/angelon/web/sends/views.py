"""The list of sends, and one send's page with its life and what may be done with it."""

from __future__ import annotations

import datetime as dt
from email.utils import format_datetime
from typing import Any

from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.messages.email import RenderedEmail
from angelon.core.sending.mail import rebuild
from angelon.core.states import MEANING, State, sources_by_hand
from angelon.db import sends, sent_files
from angelon.db.sends import Filter, ListedSend
from angelon.engine.operations import sends as operations
from angelon.web.paging import Page
from angelon.web.services import names, session, store_id, work

pages = Blueprint("sends", __name__, url_prefix="/sends", template_folder="templates")

SPANS = {
    "day": ("24 hours", dt.timedelta(days=1)),
    "week": ("7 days", dt.timedelta(days=7)),
    "month": ("30 days", dt.timedelta(days=30)),
    "all": ("all time", None),
}
PAGE = 60


@pages.get("")
def index() -> Any:
    span = request.args.get("span", "month")
    since = SPANS.get(span, SPANS["month"])[1]
    wanted = Filter(
        tuple(s for s in request.args.getlist("state") if s in [state.value for state in State]),
        tuple(request.args.getlist("channel")),
        tuple(request.args.getlist("message")),
        request.args.get("words", "").strip()[:100],
        g.now - since if since else None,
    )
    page = Page(sends.listed(session(), store_id(), wanted, PAGE + 1, Page.after()), PAGE)
    facets = {facet: sends.counts(session(), store_id(), wanted, facet) for facet in ("states", "channels", "messages")}
    return render_template(
        "sends/index.html",
        sends=page.items,
        attempts=sends.attempts_of(session(), [one.send.id for one in page.items]),
        facets=facets,
        wanted=wanted,
        span=span,
        spans=SPANS,
        names=names(),
        states=[s.value for s in State],
        outcome=outcome,
        older=page.older(lambda one: (one.send.created_at, one.send.id)),
    )


def outcome(listed: ListedSend, attempts: list[Any]) -> str:
    """What to say at the end of a send's line."""
    from angelon.web.formats import moment, span

    send = listed.send
    if send.state in ("held", "skipped", "failed"):
        return send.reason
    if send.state == "retrying":
        return f"next {moment(send.due_at)}"
    if send.state == "scheduled":
        return f"due {moment(send.due_at)}"
    if attempts and send.settled_at:
        took = attempts[-1].ended_at - attempts[0].began_at
        return f"after {span(took)}" if len(attempts) > 1 else span(took)
    return ""


@pages.get("/<send_id>")
def one(send_id: str) -> Any:
    found = sends.details(session(), store_id(), send_id)
    if found is None:
        abort(404, f"There is no send “{send_id}”.")
    state = State(found.listed.send.state)
    return render_template(
        "sends/one.html",
        whole=found,
        send=found.listed.send,
        state=state,
        meaning=MEANING[state],
        names=names(),
        may=[target for target in State if state in sources_by_hand(target)],
        State=State,
    )


@pages.post("/<send_id>")
def act(send_id: str) -> Any:
    """Send again, release, cancel: what the table of states allows."""
    chosen = ACTS.get(request.form.get("act", ""))
    if chosen is None:
        abort(400, "That is nothing that can be done with a send.")
    with work() as unit:
        if unit.sends.get(send_id) is None:
            abort(404, f"There is no send “{send_id}”.")
        done = chosen(unit, [send_id])
    if not done:
        flash("That can no longer be done: the send has moved on meanwhile.", "bad")
    elif chosen is operations.cancel:
        flash("Cancelled: it will not go out.", "good")
    else:
        flash("It is on its way again.", "good")
    return redirect(url_for(".one", send_id=send_id))


ACTS = {"release": operations.send_again, "retry": operations.send_again, "cancel": operations.cancel}


@pages.get("/<send_id>.eml")
def download(send_id: str) -> Any:
    """The mail as it was sent, byte for byte, for a mail program."""
    found = sends.details(session(), store_id(), send_id)
    content = found.content if found is not None else None
    if found is None or content is None or "message_id" not in (content.about or {}):
        abort(404, "No mail has been sent yet, so there is nothing to download.")
    about = content.about or {}
    files = [*about.get("pictures", ()), *about.get("files", ())]
    data = sent_files.data(session(), {file["digest"] for file in files})
    send = found.listed.send
    mail = RenderedEmail(send.subject, content.html, content.text, send.locale)
    at = dt.datetime.fromisoformat(about["date"])
    headers = {
        "Content-Disposition": f'attachment; filename="{send.id}.eml"',
        "Last-Modified": format_datetime(at.astimezone(dt.UTC), usegmt=True),
    }
    return Response(rebuild(mail, about, send.test, data), mimetype="message/rfc822", headers=headers)
