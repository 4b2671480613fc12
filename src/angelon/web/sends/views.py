"""The list of sends, and one send's page with its history and what may be done with it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from email.utils import format_datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode

from flask import (
    Blueprint,
    Response,
    abort,
    flash,
    g,
    jsonify,
    redirect,
    render_template,
    request,
    url_for,
)

from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.known_fields import SAMPLE_FOLLOW
from angelon.core.problems import Invalid
from angelon.core.sending.mail import rebuild
from angelon.core.states import MEANING, OUT, State, sources_by_hand
from angelon.db.derived import counts, searching
from angelon.db.log import archive, downloads, events, sends, sent_files
from angelon.db.log.sends import CORRECTABLE, Cause, Filter, ListedSend
from angelon.db.people import people
from angelon.db.setup import specs, views
from angelon.engine.exports import sends as send_export
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations import sends as operations
from angelon.engine.operations import views as view_operations
from angelon.web.exporting import as_file_of
from angelon.web.formats import moment, plural, span, stored
from angelon.web.gateways.states import waits_for
from angelon.web.numbers import whole
from angelon.web.paging import BEFORE, Page
from angelon.web.services import live, names, services, session, store_id, work, work_or_back

pages = Blueprint("sends", __name__, url_prefix="/sends", template_folder="templates")

SPANS = {
    "day": ("today", 1),
    "week": ("last 7 days", 7),
    "month": ("last 30 days", 30),
    "year": ("last 365 days", 365),
    "all": ("all time", 0),
}
"""How many of the shop's days are looked at, today's among them."""
PAGE = 50
FILTERS = ("state", "channel", "message", "route", "gateway", "words", "span", "cause", "person")
"""What the list is narrowed by, in its address."""
MOST_CAUSES = 6


@pages.get("")
def index() -> Any:
    span = request.args.get("span", "month")
    causes = sends.causes(session(), store_id())
    wanted = _wanted(request.args, causes)
    part = replace(wanted, further=whole(request.args.get("further", "")) or 0)
    page = Page(sends.listed(session(), store_id(), part, PAGE + 1, Page.after()), PAGE)
    facets = _facets(wanted)
    older = page.older(lambda one: (one.send.created_at, one.send.id))
    query = urlencode([pair for pair in request.args.items(multi=True) if pair[0] not in (BEFORE, "further")])
    if not older and (end := sends.end_of_search(session(), part)):
        older = f"{request.path}?{query}&further={end}"
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
        older=older,
        causes=causes[:MOST_CAUSES],
        cause=request.args.get("cause", ""),
        person=people.get(session(), store_id(), wanted.person_id) if wanted.person_id is not None else None,
        kept=views.listed(session(), store_id(), "sends"),
        query=query,
        most_found=searching.MOST if wanted.words else 0,
        stuck=sum(cause.number for cause in causes),
        total=sum(number for state, number in facets["states"].items() if not wanted.states or state in wanted.states),
    )


def _facets(wanted: Filter) -> dict[str, dict[str, int]]:
    """How many sends there are of each value of each facet."""
    keys = specs.keys(session(), store_id())
    ids = {part: {key: id_ for id_, key in known.items()} for part, known in keys.items()}
    chosen: dict[str, Any] = {"states": wanted.states, "channels": wanted.channels}
    for part in ("messages", "routes", "gateways"):
        chosen[part] = [ids[part].get(key, -1) for key in getattr(wanted, part)]
    found = counts.by_facet(sends.tallies(session(), store_id(), wanted), chosen)
    for part in ("messages", "routes", "gateways"):
        found[part] = {keys[part][id_]: number for id_, number in found[part].items() if id_ in keys[part]}
    return {facet: dict(sorted(values.items(), key=lambda pair: -pair[1])) for facet, values in found.items()}


def first_day(days: int) -> tuple[dt.date, dt.datetime]:
    """The first of so many of the shop's days, today's being the last, and when it began."""
    first = g.now.astimezone(g.zone).date() - dt.timedelta(days=days - 1)
    return first, dt.datetime.combine(first, dt.time(), g.zone).astimezone(dt.UTC)


def _wanted(given: Any, causes: Sequence[Cause]) -> Filter:
    """What the list is narrowed to, from the address or a form; `cause` names what needs attention."""
    days = SPANS.get(given.get("span", "month"), SPANS["month"])[1]
    first, since = first_day(days) if days else (None, None)
    cause = given.get("cause", "")
    reasons = [reason for one in causes if one.reason == cause for reason in one.exact][:500] if cause else []
    return Filter(
        tuple(s for s in given.getlist("state") if s in [state.value for state in State]),
        tuple(given.getlist("channel")),
        tuple(given.getlist("message")),
        given.get("words", "").strip()[:100],
        since,
        first,
        routes=tuple(given.getlist("route")),
        gateways=tuple(given.getlist("gateway")),
        store_id=store_id(),
        most=searching.MOST,
        person_id=whole(given.get("person", "")),
        reasons=tuple(reasons) or (("",) if cause else ()),
    )


@pages.get("/all.csv", defaults={"kind": "csv"})
@pages.get("/all.jsonl", defaults={"kind": "jsonl"})
def export(kind: str) -> Any:
    """Every send that fits the filters, as a file."""
    wanted = replace(_wanted(request.args, sends.causes(session(), store_id())), most=searching.ALL)
    return as_file_of("sends", kind, send_export.Sends(store_id(), wanted, names()))


@pages.post("/views")
def keep_view() -> Any:
    """Keeps the filters under a name, or deletes those of a name."""
    query = request.form.get("query", "")[:3000]
    filters = [(name, value) for name, value in parse_qsl(query) if name in FILTERS]
    back = f"{url_for('.index')}?{urlencode(filters)}"
    name = request.form.get("name", "")
    with work_or_back(back) as unit:
        if request.form.get("act") == "drop":
            view_operations.drop(unit, "sends", name)
        else:
            view_operations.keep(unit, "sends", name, filters)
            flash(f"Kept as “{' '.join(name.split())[:60]}”, for everybody of the shop.", "good")
    return redirect(back)


@pages.post("/bulk")
def bulk() -> Any:
    """One thing done with the sends that are ticked, or with all that fit the filter: a part at a time for a script,
    all at once where there is none.
    """
    form = request.form
    act, ids = form.get("act", ""), form.getlist("send")[:PAGE]
    after, seen, moved = form.get("after", ""), 0, 0
    wanted = replace(_wanted(form, sends.causes(session(), store_id())), most=searching.ALL)
    while True:
        try:
            with work() as unit:
                if form.get("all") == "yes":
                    part = operations.in_bulk(unit, act, wanted, after)
                else:
                    part = operations.ticked(unit, act, ids)
        except Invalid as error:
            abort(400, str(error.problems[0]))
        seen, moved, after = seen + part.seen, moved + part.moved, part.next
        if request.headers.get("X-Fragment"):
            return jsonify({"seen": part.seen, "moved": part.moved, "next": part.next})
        if not after:
            break
    flash(_done(act, moved, seen), "good" if moved else "bad")
    back = form.get("back", "")
    return redirect(back if back.startswith(("/sends", "/orders/")) else url_for(".index"))


DONE = {"retry": "on the way again", "hold": "held", "cancel": "cancelled"}


def _done(act: str, moved: int, seen: int) -> str:
    sends_ = "1 send is" if moved == 1 else f"{moved:,} sends are"
    told = f"{sends_} {DONE.get(act, act)}."
    return told + (f" {seen - moved:,} had moved on meanwhile." if seen > moved else "")


def outcome(listed: ListedSend, attempts: list[Any]) -> str:
    """What to say at the end of a send's line."""
    send = listed.send
    if send.state in ("held", "skipped", "failed"):
        return send.reason
    if send.state in ("retrying", "scheduled"):
        if waits := waits_for(listed):
            return f"waits: {waits}"
        return f"{'next' if send.state == 'retrying' else 'due'} {moment(send.due_at)}"
    if attempts and send.settled_at:
        took = attempts[-1].ended_at - attempts[0].began_at
        return f"after {span(took)}" if len(attempts) > 1 else span(took)
    return ""


def _whole(send_id: str) -> sends.SendDetails | None:
    """A send with all that is kept of it, wherever that is."""
    found = sends.details(session(), store_id(), send_id)
    return archive.with_content(session(), found, services().archive.read) if found is not None else None


@pages.get("/<send_id>")
def one(send_id: str) -> Any:
    found = _whole(send_id)
    if found is None:
        abort(404, f"There is no send “{send_id}”.")
    state = State(found.listed.send.state)
    return render_template(
        "sends/one.html",
        whole=found,
        waits=waits_for(found.listed),
        send=found.listed.send,
        state=state,
        meaning=MEANING[state],
        names=names(),
        may=[target for target in State if state in sources_by_hand(target)],
        State=State,
        correctable=state in CORRECTABLE,
        out=state in OUT,
        typed=request.args.get("to", ""),
        answers=events.answers_to(session(), found.listed.send),
        new_id=services().clock.new_id("sd"),
        offered=downloads.get(session().connection(), send_id),
        used=_used(found.listed),
        now=g.now,
    )


def _used(listed: ListedSend) -> dict[str, str]:
    """The values that a send was filled with, as its customer's language writes them: links to the page where parcels
    are followed are the order's own, as they are in the text.
    """
    send = listed.send
    kept = send.values_ or {}
    shown = {name: stored(value, send.locale) for name, value in kept.items() if name != "order"}
    if not send.test:
        links = Links(services().vault, services().settings.base_url)
        own = links.follow(live(), send.order_id) or "none: the shop has no such page"
        shown = {name: text.replace(SAMPLE_FOLLOW, own) for name, text in shown.items()}
    order = kept.get("order")
    if order:
        number, lines = stored(order.get("number")), len(order.get("lines") or [])
        total = stored(order.get("total"), send.locale)
        shown["order"] = ", ".join(part for part in (number, plural(lines, "line"), total) if part)
    return shown


@pages.post("/<send_id>/downloads")
def end_downloads(send_id: str) -> Any:
    """Ends the downloads of a send's files, or allows them again."""
    on = request.form.get("act") == "allow"
    with work_or_back(url_for(".one", send_id=send_id)) as unit:
        operations.allow_downloads(unit, send_id, on)
    flash("The files can be downloaded again." if on else "The files can no longer be downloaded.", "good")
    return redirect(url_for(".one", send_id=send_id))


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


@pages.post("/<send_id>/address")
def correct(send_id: str) -> Any:
    """Another address for a send that is not out, or for all of that person's."""
    to, everywhere = request.form.get("to", ""), request.form.get("everywhere") == "yes"
    with work_or_back(url_for(".one", send_id=send_id, to=to[:200]), "Not changed") as unit:
        changed = operations.correct_address(unit, send_id, to, everywhere)
    has = "1 send has" if changed == 1 else f"{changed} sends have"
    flash(f"{has} the address {to.strip()} now. What was held or had failed goes out at once.", "good")
    return redirect(url_for(".one", send_id=send_id))


@pages.post("/<send_id>/again")
def repeat(send_id: str) -> Any:
    """Sends once more what is out."""
    to = request.form.get("to", "")
    with work_or_back(url_for(".one", send_id=send_id, to=to[:200]), "Not sent") as unit:
        new = operations.repeat(unit, send_id, to, request.form.get("as", ""))
    flash("It is on its way once more. This is the new send.", "good")
    return redirect(url_for(".one", send_id=new))


@pages.get("/<send_id>.eml")
def download(send_id: str) -> Any:
    """The mail as it was sent, byte for byte, for a mail program."""
    found = _whole(send_id)
    if found is not None and found.not_there:
        abort(503, found.not_there)
    content = found.content if found is not None else None
    if content is not None and content.page is None:
        abort(410, "The page of this mail can’t be read any more, so it can’t be given as it was sent.")
    if found is None or content is None or "message_id" not in content.about:
        abort(404, "No mail has been sent yet, so there is nothing to download.")
    about = content.about
    files = [*about.get("pictures", ()), *about.get("files", ())]
    data = sent_files.data(session(), {file["digest"] for file in files})
    send = found.listed.send
    mail = RenderedEmail(send.subject, content.page or "", content.text, send.locale, leave=str(about.get("leave", "")))
    at = dt.datetime.fromisoformat(about["date"])
    headers = {
        "Content-Disposition": f'attachment; filename="{send.id}.eml"',
        "Last-Modified": format_datetime(at.astimezone(dt.UTC), usegmt=True),
    }
    return Response(rebuild(mail, about, send.test, data), mimetype="message/rfc822", headers=headers)
