"""The pages of messages: list, editor with a live preview, publishing, revisions, reviews, test sends."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core.messages.blocks import Tokens
from angelon.core.messages.cleaning import cleaned
from angelon.core.messages.preflight import Sample
from angelon.core.messages.templates import BadTemplate
from angelon.core.planning.sentence import CALLED
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message, Variable
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.message import CHANNELS
from angelon.core.values import regional, show
from angelon.db import reviews, setup
from angelon.db.tables import MessageRow, RevisionRow, RouteRow
from angelon.engine.reviewing import Reviewing
from angelon.web import hand as hands
from angelon.web.messages import comparing, starters, testing
from angelon.web.messages.preview import Preview, preflight, preview, way_to
from angelon.web.numbers import whole
from angelon.web.services import live, services, session, store

pages = Blueprint("messages", __name__, url_prefix="/messages", template_folder="templates")

BLANK: dict[str, dict[str, Any]] = {
    "email": {"subject": "", "blocks": [{"kind": "heading", "text": ""}, {"kind": "text", "text": ""}]},
    "sms": {"text": ""},
    "chat": {"body": ""},
}
"""What a part that is added starts from."""
SAMPLES = 8
"""Events that a text is tried with for its length, size and links."""


def _row(key: str) -> MessageRow:
    row = setup.by_key(session(), MessageRow, store().id or 0, key)
    if row is None:
        abort(404, f"There is no message “{key}”.")
    found: MessageRow = row
    return found


def _message(row: MessageRow) -> Message:
    return Message.model_validate(setup.current_spec(session(), row))


@pages.get("")
def index() -> Any:
    rows = []
    routes = session().exec(setup.select(RouteRow).where(RouteRow.store_id == store().id)).all()
    spoken = [(route, setup.current_spec(session(), route)) for route in routes]
    for row in session().exec(
        setup.select(MessageRow).where(MessageRow.store_id == store().id).order_by(setup.col(MessageRow.id))
    ):
        message = _message(row)
        by = [(route, spec) for route, spec in spoken if spec.get("send") == row.key]
        rows.append((row, message, by))
    return render_template("messages/index.html", rows=rows, starters=starters.STARTERS, channels=CHANNELS)


@pages.post("")
def create() -> Any:
    """A new message: an empty one, or one of the starting points in the shop's languages."""
    starter = starters.by_key(request.form.get("starter", ""))
    name = request.form.get("name", "").strip() or (starter.name if starter else "")
    key = key_of(name)
    if not key:
        flash("Give the message a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    the_store = live().setup.store
    locale = the_store.locale
    spec: dict[str, Any] = {"key": key, "name": name, "locale": locale, "email": {locale: BLANK["email"]}}
    if starter:
        spec = starter.spec(key, name, locale, [locale, *the_store.locales])
    try:
        new = read_spec(Message, spec)
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".index"))
    with services().database.writing() as writing:
        if setup.by_key(writing, MessageRow, store().id or 0, key):
            flash(f"There is a message called “{key}” already. Choose another name.", "bad")
            return redirect(url_for(".index"))
        setup.save_draft(writing, MessageRow, store().id or 0, new, g.now)
        made = []
        for variable in starter.variables if starter else []:
            if variable["name"] not in live().setup.variables:
                setup.save_variable(writing, store().id or 0, read_spec(Variable, variable))
                made.append(variable["name"])
    services().setups.forget()
    if made:
        flash(
            f"The text uses {', '.join(made)}, which you did not have: {'they are' if len(made) > 1 else 'it is'} "
            f"there now, and each source still has to say where to find {'them' if len(made) > 1 else 'it'}.",
            "good",
        )
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    row = _row(key)
    message = _message(row)
    hand = _hand(key)
    channel = request.args.get("channel", "")
    if channel not in CHANNELS:
        channel = (message.channels() or ["email"])[0]
    wanted = request.args.get("locale") or (hand.reading.text("language") if hand.reading else "")
    locale = message.locale_for(channel, wanted) or message.locale
    samples = _samples(key)
    return render_template(
        "messages/edit.html",
        row=row,
        message=message,
        channel=channel,
        locale=locale,
        hand=hand,
        variables=_variables(hand),
        revision=_live_revision(row),
        routes=[active.route for active in live().setup.routes if active.route.send == key],
        seen=preview(message, channel, locale, live(), hand, samples),
        checks=_checked(message, row, samples),
        locales=list(message.variants(channel)),
        cards=_cards(message, row),
        channels=CHANNELS,
        called=CALLED,
        library=_library(),
        expected=[
            tag
            for tag in [live().setup.store.locale, *live().setup.store.locales]
            if tag not in message.variants(channel)
        ],
        team=live().setup.store.team,
        gateways=[way for way in live().setup.gateways.values() if way.channel == channel],
        review=_review(message, row, locale) if channel == "chat" else None,
    )


def _live_revision(row: MessageRow) -> RevisionRow | None:
    return session().get(RevisionRow, row.live_id) if row.live_id else None


def _sources(key: str) -> list[str]:
    """The sources that the message's live routes listen to; all where none does."""
    found = {s for active in live().setup.routes if active.route.send == key for s in active.route.sources}
    return [s for s in live().setup.sources if s in found] or list(live().setup.sources)


def _hand(key: str) -> hands.Hand:
    """The event in hand among those that the message's routes listen to; any where none does."""
    return hands.take(live(), _sources(key))


def _samples(key: str) -> list[Sample]:
    """Real events of the sources that use the message, to try the text with."""
    found = []
    keys = _sources(key)
    for source_key in keys:
        source = live().setup.sources[source_key]
        for hand in hands.samples(live(), source, live().source_ids[source_key], max(2, SAMPLES // len(keys))):
            if hand.reading is not None and hand.variables is not None:
                found.append(Sample(hand.number, source, hand.reading, hand.variables))
    return found[: SAMPLES * 2]


def _checked(message: Message, row: MessageRow, samples: list[Sample]) -> list[tuple[Problem, str, str]]:
    """What would go wrong, each with the page and the field where it is mended."""
    return [
        (problem, *way_to(problem.where, message))
        for problem in preflight(message, live(), samples, reviews.states(session(), row.id or 0))
    ]


def _cards(message: Message, row: MessageRow) -> dict[str, str]:
    """A few words on each part."""
    said = {}
    for channel in CHANNELS:
        variants = message.variants(channel)
        said[channel] = ", ".join(variants) if variants else "not written"
    if message.chat:
        states = [r.state for r in reviews.of_message(session(), row.id or 0)]
        if "submitted" in states:
            said["chat"] += " · in review"
    return said


def _library() -> dict[str, Any]:
    files = live().files
    return {
        "shelves": sorted({file.shelf for file in files}),
        "pictures": sorted(
            {f"{file.shelf}/{file.name}" for file in files if file.type.startswith("image/") and file.by == ""}
        ),
    }


def _variables(hand: hands.Hand) -> list[dict[str, Any]]:
    """Every variable with its value for the event in hand, for the list to insert from."""
    listed = []
    the_store = live().setup.store
    locale = regional((hand.reading.text("language") if hand.reading else "") or the_store.locale, the_store.country)
    for name, variable in live().setup.variables.items():
        evaluation = hand.variables[name] if hand.variables else None
        value = show(evaluation.value, locale) if evaluation and evaluation.present else ""
        listed.append(
            {
                "name": name,
                "type": variable.type.value,
                "value": value[:80],
                "about": variable.about,
                "required": variable.required,
            }
        )
    listed.append(
        {
            "name": "order.number",
            "type": "text",
            "value": hand.number,
            "about": "the customer-facing number, as the source reads it",
            "required": False,
        }
    )
    return listed


@pages.post("/<key>/draft")
def save(key: str) -> Any:
    """Keeps the draft and answers with its preview. A text that can't be rendered is kept all the same."""
    _row(key)
    body = request.get_json(silent=True)
    if not isinstance(body, dict):
        return jsonify({"detail": "The page sent something that is no message. Reload it."}), 400
    spec = body.get("spec")
    if not isinstance(spec, dict) or spec.get("key") != key:
        return jsonify({"detail": "The page sent something that is no message. Reload it."}), 400
    try:
        message = read_spec(Message, spec)
    except Invalid as error:
        return jsonify({"saved": False, "problems": [p.as_dict() for p in error.problems]}), 422
    channel, locale = str(body.get("channel", "email")), str(body.get("locale") or message.locale)
    samples = _samples(key) if channel == "sms" else []
    seen = (
        preview(message, channel, locale, live(), _hand(key), samples) if channel in CHANNELS else Preview()
    )  # first: what can't be shown is not kept
    with services().database.writing() as writing:
        if not body.get("force") and not _from_here(setup.by_key(writing, MessageRow, store().id or 0, key), body):
            return jsonify(
                {
                    "saved": False,
                    "elsewhere": True,
                    "problems": [
                        Problem(
                            "", "The draft was changed in another window meanwhile.", "Load that one, or keep yours."
                        ).as_dict()
                    ],
                }
            ), 409
        kept = setup.save_draft(writing, MessageRow, store().id or 0, message, g.now)
    return jsonify({"saved": True, "known": _stamp(kept), "preview": seen.as_dict(), "problems": []})


def _from_here(row: MessageRow | None, body: dict[str, Any]) -> bool:
    """Whether the draft is still the one that the page knew, or the one that the page had sent just before
    (`after`).
    """
    known, after = body.get("known"), body.get("after")
    if row is None or known is None or known == _stamp(row):
        return True
    try:
        return (
            isinstance(after, dict)
            and row.draft is not None
            and read_spec(Message, after) == read_spec(Message, row.draft)
        )
    except Invalid:
        return False


def _stamp(row: MessageRow) -> str:
    return row.drafted_at.isoformat() if row.drafted_at and row.draft is not None else ""


@pages.get("/<key>/preflight")
def preflight_part(key: str) -> Any:
    """What would go wrong with the draft, as a part of the page."""
    row = _row(key)
    message = _message(row)
    return render_template(
        "messages/_checks.html",
        checks=_checked(message, row, _samples(key)),
        message=message,
        channel=request.args.get("channel"),
        locale=request.args.get("locale"),
    )


@pages.post("/<key>/publish")
def publish(key: str) -> Any:
    row = _row(key)
    message = _message(row)
    errors = [problem for problem, _, _ in _checked(message, row, _samples(key)) if problem.severity == "error"]
    back = redirect(url_for(".edit", key=key, locale=request.form.get("locale"), channel=request.form.get("channel")))
    if errors:
        flash(f"Not published: {errors[0].what} {errors[0].mend}", "bad")
        return back
    from angelon.web.checks import gate

    red = gate.red_for_message(message)
    if red and request.form.get("although") != "yes":
        carried = {name: request.form.get(name, "") for name in ("locale", "channel")}
        return render_template(
            "checks/red.html",
            outcomes=red,
            what=message.name,
            to=url_for(".publish", key=key),
            back=url_for(".edit", key=key),
            carried=carried,
        ), 409
    with services().database.writing() as writing:
        revision = setup.publish(
            writing, setup.by_key(writing, MessageRow, store().id or 0, key), g.now, gate.although(red)
        )
    services().setups.forget()
    unused = not any(active.route.send == key for active in live().setup.routes)
    flash(
        f"Revision {revision.number} is live. "
        + ("No live route sends it yet, so nobody gets it." if unused else "Every send from now on says this."),
        "good",
    )
    return back


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


# ---- parts and languages ------------------------------------------------------------------------------------------


@pages.post("/<key>/variant")
def variant(key: str) -> Any:
    """Adds a part or a language to the draft, or takes one out."""
    row = _row(key)
    spec = setup.current_spec(session(), row)
    channel, locale = request.form.get("channel", ""), request.form.get("locale", "").strip()
    if channel not in CHANNELS:
        abort(400, "There is no such channel.")
    part = dict(spec.get(channel, {}))
    if request.form.get("act") == "remove":
        part.pop(locale, None)
        said = f"{CALLED[channel]} in {locale} is taken out of the draft."
    else:
        message = _message(row)
        like = message.locale_for(channel, locale)
        part.setdefault(locale, part[like] if like else BLANK[channel])
        said = f"{locale} starts from the text in {like}: translate it." if like and like != locale else ""
    try:
        made = read_spec(Message, {**spec, channel: part})
    except Invalid as error:
        flash(f"“{locale}” is no language: {error.problems[0].what} Write it like de or de-AT.", "bad")
        return redirect(url_for(".edit", key=key, channel=channel))
    with services().database.writing() as writing:
        setup.save_draft(writing, MessageRow, store().id or 0, made, g.now)
    if said:
        flash(said, "good")
    return redirect(url_for(".edit", key=key, channel=channel, locale=locale if locale in part else None))


@pages.post("/<key>/import")
def import_page(key: str) -> Any:
    """A page of HTML from a file, with what no mail may hold taken out; the editor puts it into the draft."""
    _row(key)
    file = request.files.get("file")
    if file is None:
        return jsonify({"detail": "Choose a file of HTML."}), 400
    data = file.read(1_000_001)
    if len(data) > 300_000:
        return jsonify(
            {
                "detail": (
                    f"The file has {len(data) // 1000} KB or more, and a mail may have 300 KB. Take pictures "
                    "that are written into it out."
                )
            }
        ), 413
    try:
        source = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return jsonify({"detail": "The file is not UTF-8 text. Save it as HTML in UTF-8."}), 415
    if "<" not in source:
        return jsonify({"detail": "There is no HTML in the file."}), 415
    tokens = Tokens()
    try:
        page, taken = cleaned(tokens.hide_in_html(source))
    except BadTemplate as error:
        return jsonify({"detail": f"The file has {{{{ }}}} or {{% %}} in it that can't be read. {error.problem}"}), 422
    return jsonify({"html": tokens.show(page), "taken": taken})


# ---- revisions ----------------------------------------------------------------------------------------------------


@pages.get("/<key>/revisions")
def revisions(key: str) -> Any:
    """Two revisions side by side: by default what is live, and the draft."""
    row = _row(key)
    kept = setup.revisions_of(session(), "message", row.id or 0)
    specs: dict[str, tuple[str, dict[str, Any]]] = {str(r.number): (f"Revision {r.number}", r.spec) for r in kept}
    if row.draft is not None:
        specs = {"draft": ("The draft", row.draft)} | specs
    names = list(specs)
    live_number = next((str(r.number) for r in kept if r.id == row.live_id), "")
    new = request.args.get("new") if request.args.get("new") in specs else (names[0] if names else "")
    old = (
        request.args.get("old")
        if request.args.get("old") in specs
        else (live_number if live_number and live_number != new else next((n for n in names if n != new), new))
    )
    changes = comparing.compare(specs[old or ""][1], specs[new or ""][1]) if names else []
    return render_template(
        "messages/revisions.html",
        row=row,
        message=_message(row),
        kept=kept,
        specs=specs,
        old=old,
        new=new,
        changes=changes,
        live_number=live_number,
    )


@pages.post("/<key>/restore")
def restore(key: str) -> Any:
    """Makes an older revision the draft; what is live stays until it is published."""
    row = _row(key)
    number = whole(request.form.get("revision"))
    found = next((r for r in setup.revisions_of(session(), "message", row.id or 0) if r.number == number), None)
    if found is None:
        abort(404, "There is no such revision.")
    with services().database.writing() as writing:
        setup.save_draft(writing, MessageRow, store().id or 0, Message.model_validate(found.spec), g.now)
    flash(f"The draft says what revision {number} said. Publish it to make it live.", "good")
    return redirect(url_for(".edit", key=key))


# ---- review -------------------------------------------------------------------------------------------------------


def _reviewing() -> Reviewing:
    made = services()
    return Reviewing(made.database, made.setups, made.vault, made.clock)


def _review(message: Message, row: MessageRow, locale: str) -> dict[str, Any]:
    """How the chat text stands with the providers that review: the state of this very text, and of earlier ones."""
    from angelon.core.messages.chat import compile_chat

    ways = [way for way in live().setup.gateways.values() if way.channel == "chat" and way.review is not None]
    mark = ""
    if locale in message.chat:
        try:
            mark = compile_chat(message.chat[locale], live().setup.store, locale).numbered.mark(message.category)
        except Invalid:
            mark = ""
    earlier = [r for r in reviews.of_message(session(), row.id or 0) if r.locale == locale]
    return {"gateways": ways, "now": next((r for r in earlier if r.mark == mark), None), "earlier": earlier[:6]}


@pages.post("/<key>/review")
def submit(key: str) -> Any:
    """Hands the chat text of one language in for review."""
    row = _row(key)
    message, locale = _message(row), request.form.get("locale", "")
    gateway = request.form.get("gateway") or next(
        (k for k, way in live().setup.gateways.items() if way.channel == "chat" and way.review is not None), ""
    )
    if locale not in message.chat or gateway not in live().setup.gateways:
        abort(400, "There is no such text to hand in.")
    try:
        kept = _reviewing().submit(live(), message, row.id or 0, gateway, locale)
    except Invalid as error:
        flash(f"Not handed in: {error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".edit", key=key, channel="chat", locale=locale))
    services().setups.forget()
    said = {
        "approved": "It is approved: it can be published.",
        "rejected": f"It is rejected: {kept.reason}",
        "submitted": "It is in review. The page says so when it is decided.",
    }
    flash(said[kept.state], "bad" if kept.state == "rejected" else "good")
    return redirect(url_for(".edit", key=key, channel="chat", locale=locale))


@pages.get("/<key>/review")
def review_part(key: str) -> Any:
    """How the chat text stands now, as a part of the page; asks the provider where it waits."""
    row = _row(key)
    _reviewing().look(row.id)
    session().rollback()
    g.pop("live", None)
    message, locale = _message(_row(key)), request.args.get("locale", "")
    return render_template(
        "messages/_review.html", row=row, message=message, locale=locale, review=_review(message, row, locale)
    )


# ---- test sends ---------------------------------------------------------------------------------------------------


@pages.post("/<key>/test")
def test(key: str) -> Any:
    """Sends the draft to somebody of the shop, through the real gateway; answers with the send."""
    row = _row(key)
    message, form = _message(row), request.form
    try:
        send_id = testing.send(
            row,
            message,
            form.get("channel", ""),
            form.get("locale", ""),
            form.get("gateway", ""),
            form.get("to", ""),
            _hand(key),
        )
    except Invalid as error:
        return jsonify({"detail": f"{error.problems[0].what} {error.problems[0].mend}"}), 422
    services().bell.ring()
    return jsonify({"send": send_id})


@pages.get("/<key>/test/<send_id>")
def tested(key: str, send_id: str) -> Any:
    """How a test send stands, as a part of the page."""
    found = testing.look(send_id)
    if found is None:
        abort(404, "There is no such send.")
    answer = Response(render_template("messages/_tested.html", send=found.listed.send, attempts=found.attempts))
    answer.headers["X-Settled"] = "yes" if found.listed.send.state not in ("scheduled", "sending") else "no"
    return answer
