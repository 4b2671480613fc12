"""The list of sends, and one send's page with its life and what may be done with it."""

from __future__ import annotations

import datetime as dt
from email.utils import format_datetime
from typing import Any

from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.messages.attachments import File
from angelon.core.messages.blocks import content_id, pictures_in
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.states import MEANING, State, sources_by_hand
from angelon.db import files as library
from angelon.db import sends, setup
from angelon.db.sends import Filter, Listed
from angelon.db.tables import RevisionRow, RouteRow
from angelon.web.services import live, services, session, store

pages = Blueprint("sends", __name__, url_prefix="/sends", template_folder="templates")

SPANS = {
    "day": ("24 hours", dt.timedelta(days=1)),
    "week": ("7 days", dt.timedelta(days=7)),
    "month": ("30 days", dt.timedelta(days=30)),
    "all": ("all time", None),
}
PAGE = 60


def names() -> dict[str, dict[str, str]]:
    """What routes, messages and gateways are called, by key."""
    setup_now = live().setup
    routes = {}
    for row in session().exec(setup.select(RouteRow).where(RouteRow.store_id == store().id)):
        revision = session().get(RevisionRow, row.live_id) if row.live_id else None
        routes[row.key] = (revision.spec if revision else row.draft or {}).get("name", row.key)
    return {
        "routes": routes,
        "messages": {k: m.name for k, m in setup_now.messages.items()},
        "gateways": {k: w.name for k, w in setup_now.gateways.items()},
    }


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
    before = None
    try:
        if request.args.get("before"):
            at, _, id_ = request.args["before"].partition("~")
            moment = dt.datetime.fromisoformat(at)
            before = (moment, id_) if moment.tzinfo is not None and 1970 <= moment.year <= 9000 else None
    except (ValueError, OverflowError):
        before = None
    store_id = store().id or 0
    found = sends.listed(session(), store_id, wanted, PAGE + 1, before)
    more = found[PAGE - 1] if len(found) > PAGE else None
    found = found[:PAGE]
    facets = {facet: sends.counts(session(), store_id, wanted, facet) for facet in ("states", "channels", "messages")}
    older = (
        {**request.args.to_dict(flat=False), "before": [f"{more.send.created_at.isoformat()}~{more.send.id}"]}
        if more
        else None
    )
    return render_template(
        "sends/index.html",
        sends=found,
        attempts=sends.attempts_of(session(), [s.send.id for s in found]),
        facets=facets,
        wanted=wanted,
        span=span,
        spans=SPANS,
        names=names(),
        states=[s.value for s in State],
        outcome=outcome,
        older=older,
    )


def outcome(listed: Listed, attempts: list[Any]) -> str:
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
    whole = sends.whole(session(), store().id or 0, send_id)
    if whole is None:
        abort(404, f"There is no send “{send_id}”.")
    state = State(whole.listed.send.state)
    return render_template(
        "sends/one.html",
        whole=whole,
        send=whole.listed.send,
        state=state,
        meaning=MEANING[state],
        names=names(),
        may=[target for target in State if state in sources_by_hand(target)],
        State=State,
    )


@pages.post("/<send_id>")
def act(send_id: str) -> Any:
    """Retry now, release, cancel: what the table of states allows."""
    moves = {
        "release": (State.SCHEDULED, ""),
        "retry": (State.SCHEDULED, ""),
        "cancel": (State.CANCELLED, "Taken back by hand."),
    }
    chosen = moves.get(request.form.get("act", ""))
    if chosen is None:
        abort(400, "That is nothing that can be done with a send.")
    with services().database.writing() as writing:
        row = writing.get(sends.SendRow, send_id)
        if row is None or row.store_id != store().id:
            abort(404, f"There is no send “{send_id}”.")
        done = sends.move(writing, send_id, chosen[0], services().clock.now(), chosen[1])
        if done and chosen[0] is State.SCHEDULED:
            row.revision_id = None  # worked out again from the event, as recipes and message stand now
    if done:
        services().bell.ring()
        flash("It is on its way again." if chosen[0] is State.SCHEDULED else "Cancelled: it will not go out.", "good")
    else:
        flash("That can no longer be done: the send has moved on meanwhile.", "bad")
    return redirect(url_for(".one", send_id=send_id))


def _files(whole: sends.Whole) -> list[File]:
    """The pictures and attachments of a mail that the library still has; what was fetched elsewhere is not kept."""
    assert whole.content is not None
    store_id = store().id or 0
    found = []
    for mark in pictures_in(whole.content.html):
        row = library.shown(session(), store_id, mark)
        if row is not None:
            found.append(File(row.name, row.type, row.data, content_id(mark)))
    names_sent = {(f["name"], f["bytes"]) for f in (whole.content.about or {}).get("files", [])}
    for kept in live().files:
        row = library.get(session(), store_id, kept.id) if (kept.name, kept.size) in names_sent else None
        if row is not None:
            found.append(File(row.name, row.type, row.data))
            names_sent.discard((kept.name, kept.size))
    return found


@pages.get("/<send_id>.eml")
def download(send_id: str) -> Any:
    """The mail as it was sent, for a mail program."""
    whole = sends.whole(session(), store().id or 0, send_id)
    if whole is None or whole.content is None:
        abort(404, "Nothing has been sent yet, so there is nothing to download.")
    send = whole.listed.send
    gateway = live().setup.gateways.get(whole.listed.gateway)
    sender = gateway.sender if gateway else None
    about = whole.content.about or {}
    address, sender_name = about.get("from") or (
        sender.address if sender else "unknown@example.invalid",
        (sender.name if sender else "") or live().setup.store.name,
    )
    at = whole.attempts[-1].began_at if whole.attempts else send.created_at
    mail = RenderedEmail(send.subject, whole.content.html, whole.content.text, send.locale)
    envelope = Envelope(
        address,
        sender_name,
        send.recipient,
        send.recipient_name,
        f"{send.id}@{address.rpartition('@')[2]}",
        at,
        about.get("answers_to") or ", ".join(about.get("reply_to", [])) or (sender.reply_to if sender else ""),
        tuple(about.get("cc", ())),
        send.test,
    )
    data = build(mail, envelope, _files(whole))
    return Response(
        data,
        mimetype="message/rfc822",
        headers={
            "Content-Disposition": f'attachment; filename="{send.id}.eml"',
            "Last-Modified": format_datetime(at, usegmt=True),
        },
    )
