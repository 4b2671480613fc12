"""The pages of messages: list, editor with a live preview, publishing, revisions, reviews, test sends."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import Blueprint, Response, abort, flash, jsonify, redirect, render_template, request, url_for

from angelon.core.countries import languages
from angelon.core.markup.cleaning import cleaned
from angelon.core.messages.blocks import Tokens
from angelon.core.messages.channels import CHANNEL_LABELS, CHANNELS, compiled_part
from angelon.core.messages.known_fields import QUESTION_FIELDS
from angelon.core.planning.preflight import Sample, listed
from angelon.core.problems import Conflict, Invalid, NotFound, Problem
from angelon.core.specs import Gateway, Message, Variable
from angelon.core.specs.base import read_spec
from angelon.core.specs.source import READING
from angelon.core.specs.stored import upgraded
from angelon.core.specs.variable import Type
from angelon.core.templates import BadTemplate
from angelon.core.values import regional, show
from angelon.db.log import sends
from angelon.db.setup import reviews, specs
from angelon.db.setup.specs import StoredMessage, StoredRoute
from angelon.engine.followers.reviews import ReviewService
from angelon.engine.operations import gateways as gateway_operations
from angelon.engine.operations import messages as operations
from angelon.engine.operations import sends as send_operations
from angelon.engine.operations import upkeep
from angelon.engine.operations.checks import ChecksFailed
from angelon.engine.unit import Work
from angelon.web import sample_event as sample_events
from angelon.web.listing import Choice, Sort, narrowed
from angelon.web.messages import comparing, replacing, starters
from angelon.web.messages.preview import Preview, edit_location, preview, question_sample
from angelon.web.numbers import whole
from angelon.web.services import (
    kinds_of_events,
    live,
    mapped_variables,
    messages,
    read_anew,
    routes,
    services,
    session,
    store_id,
    work,
    work_or_back,
)
from angelon.web.upkeep import many as changes

pages = Blueprint("messages", __name__, url_prefix="/messages", template_folder="templates")

SAMPLES = 8
"""Events that a text is tried with for its length, size and links."""


def stored_message(key: str) -> StoredMessage:
    found = specs.message(session(), store_id(), key)
    if found is None:
        abort(404, f"There is no message “{key}”.")
    return found


@pages.get("")
def index() -> Any:
    sending: dict[str, list[StoredRoute]] = {}
    for route in routes():
        sending.setdefault(route.spec.send, []).append(route)
    rows = [(row, row.spec, sending.get(row.key, [])) for row in messages()]
    found = narrowed(
        rows, lambda one: f"{one[1].name} {one[1].about} {one[0].key} {_all_text(one[1])}", _filters(rows), _SORTS
    )
    return render_template(
        "messages/index.html",
        list=found,
        rows=found.rows,
        starters=starters.STARTERS,
        channels=CHANNELS,
        done=changes.done("message"),
        unreadable=[one for one in specs.unreadable(session(), store_id()) if one[0] == "message"],
    )


@pages.post("/-/many")
def many() -> Any:
    """Tags, deletes or restores several messages."""

    def delete(unit: Work, key: str) -> None:
        upkeep.delete(unit, "message", key)

    def restore(unit: Work, key: str) -> None:
        upkeep.restore(unit, "message", key)

    return changes.change("message", {"delete": delete, "restore": restore})


@pages.get("/-/replace")
def replace_page() -> Any:
    """Words that are to be replaced in all texts."""
    return replacing.page()


@pages.post("/-/replace")
def replace_all() -> Any:
    return replacing.save()


def _all_text(message: Message) -> str:
    """Everything that a message says, for a search."""
    parts = [message.variants(channel) for channel in CHANNELS]
    return " ".join(text.model_dump_json() for part in parts for text in part.values())


_SORTS = {
    "name": Sort("by name", lambda one: one[1].name.casefold()),
    "routes": Sort("most routes first", lambda one: len(one[2]), largest_first=True),
}


def _filters(rows: Sequence[tuple[StoredMessage, Message, list[StoredRoute]]]) -> dict[str, Choice]:
    tags = sorted({tag for _, message, _ in rows for tag in message.tags})
    languages = sorted({tag for _, message, _ in rows for channel in CHANNELS for tag in message.variants(channel)})

    def states(one: tuple[StoredMessage, Message, list[StoredRoute]]) -> list[str]:
        row, _, sending = one
        found = ["live" if row.live_id else "draft"]
        return found + ["waiting"] * bool(row.live_id and row.draft) + ["unused"] * (not sending)

    options = [("live", "live"), ("draft", "draft only"), ("waiting", "with a draft"), ("unused", "in no route")]
    return {
        "state": Choice("State", options, states),
        "channel": Choice("Channel", list(CHANNEL_LABELS.items()), lambda one: one[1].channels()),
        "language": Choice(
            "Language",
            [(tag, tag) for tag in languages],
            lambda one: [tag for channel in CHANNELS for tag in one[1].variants(channel)],
        ),
        "tag": Choice("Tag", [(tag, tag) for tag in tags], lambda one: one[1].tags),
    }


@pages.post("")
def create() -> Any:
    """A new message: an empty one, or one of the starting points in the shop's languages."""
    starter = starters.by_key(request.form.get("starter", ""))
    name = request.form.get("name", "").strip() or (starter.name if starter else "")
    shop = live().setup.store
    spec, variables, english = None, [], False
    if starter:
        starter = starter.for_shop(mapped_variables())
        spec = starter.spec("new", name or "new", shop.locale, [shop.locale, *shop.locales])
        variables = [read_spec(Variable, variable) for variable in starter.variables]
        english = not starter.speaks([shop.locale, *shop.locales])
    back = url_for(".index", name=name[:200], starter=starter.key if starter else None)
    with work_or_back(back) as unit:
        key, made = operations.create(unit, name, spec, variables)
    if made:
        many = len(made) > 1
        flash(
            f"The text uses {', '.join(made)}, which you did not have: {'they are' if many else 'it is'} there now, "
            f"and each source still has to say where to find {'them' if many else 'it'}.",
            "good",
        )
    if english:
        tag = shop.locale.partition("-")[0]
        language = dict(languages()).get(tag, tag)
        flash(f"There is no starter text in {language} yet: this one is in English. Translate it.")
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    row = stored_message(key)
    message = row.spec
    sample = sample_event(key)
    channel = request.args.get("channel", "")
    if channel not in CHANNELS:
        channel = (message.channels() or ["email"])[0]
    wanted = request.args.get("locale") or (
        regional(sample.reading.text("language"), sample.reading.text("country")) if sample.reading else ""
    )
    locale = message.locale_for(channel, wanted) or message.locale
    samples = samples_for(key)
    shop = live().setup.store
    return render_template(
        "messages/edit.html",
        row=row,
        message=message,
        channel=channel,
        locale=locale,
        sample=sample,
        variables=variables_with_values(sample) + (_about_question() if message.question else []),
        stamp=operations.stamp(row),
        routes=[active.route for active in live().setup.routes if active.route.send == key],
        seen=preview(message, channel, locale, live(), sample, samples),
        checks=_checked(message, row, samples),
        locales=list(message.variants(channel)),
        older=older_locales(message, channel),
        unlisted=locale in message.variants(channel) and not listed(locale, shop),
        cards=_cards(message, row),
        channels=CHANNELS,
        called=CHANNEL_LABELS,
        library=_library(),
        given_out=live().setup.given_out,
        expected=[tag for tag in [shop.locale, *shop.locales] if tag not in message.variants(channel)],
        team=shop.team,
        senders=[
            [
                sender.key,
                f"{sender.name or shop.name} <{sender.address}>" + ("" if sender.verified else ", not verified"),
            ]
            for sender in shop.senders
        ],
        types=kinds_of_events(),
        gateways=[gateway for gateway in live().setup.gateways.values() if gateway.channel == channel],
        review=_review(message, row, locale) if channel == "chat" else None,
        offered=_offered(row, channel),
    )


def _offered(row: StoredMessage, channel: str) -> dict[str, str] | None:
    """The route that would send a live text which no route sends by a channel: None where one does, where another does
    so at that event, and where the message is about no event.
    """
    message, setup = row.live, live().setup
    if message is None or channel not in message.channels() or not message.tells_of:
        return None
    for there in routes():
        same = message.tells_of in there.spec.when and not there.spec.handler
        if there.spec.channel == channel and (same or there.spec.send == row.key):
            return None
    gateway = next((one for one in setup.gateways.values() if one.channel == channel), None)
    return {
        "event": message.tells_of,
        "sources": " or ".join(source.name for source in live().sources.values()),
        "gateway": gateway.name if gateway is not None else "",
    }


def older_locales(message: Message, channel: str) -> list[str]:
    """The languages of a channel whose text is older than the main language's."""
    return [place.partition(".")[2] for place in message.older if place.startswith(f"{channel}.")]


def _sources(key: str) -> list[str]:
    """The sources that the message's live routes listen to; all where none does."""
    found = {s for active in live().setup.routes if active.route.send == key for s in active.route.sources}
    return [s for s in live().sources if s in found] or list(live().sources)


def sample_event(key: str) -> sample_events.SampleEvent:
    """The sample event among those that the message's routes listen to; any where none does."""
    return sample_events.select(live(), _sources(key))


def samples_for(key: str) -> list[Sample]:
    """Real events of the sources that use the message, to try the text with."""
    found = []
    keys = _sources(key)
    for source_key in keys:
        source = live().setup.sources[source_key]
        for sample in sample_events.samples(
            live(), source, live().source_ids[source_key], max(2, SAMPLES // len(keys))
        ):
            if sample.reading is not None and sample.variables is not None:
                found.append(Sample(sample.number, source, sample.reading, sample.variables))
    return found[: SAMPLES * 2]


def _checked(message: Message, row: StoredMessage, samples: list[Sample]) -> list[tuple[Problem, str, str]]:
    """What would go wrong, each with the page and the field where it is mended."""
    return [
        (problem, *edit_location(problem.where, message))
        for problem in operations.preflight(message, live(), samples, reviews.states(session(), row.id))
    ]


def _cards(message: Message, row: StoredMessage) -> dict[str, str]:
    """A few words on each part."""
    said = {}
    for channel in CHANNELS:
        variants = message.variants(channel)
        said[channel] = "not written" if not variants else "written" if channel == "call" else ", ".join(variants)
    if message.chat:
        states = [r.state for r in reviews.of_message(session(), row.id)]
        if "submitted" in states:
            said["chat"] += " · in review"
    return said


def _library() -> dict[str, Any]:
    files = live().files
    systems = [(one.key, one.name) for one in live().setup.gateways.values() if one.kind == "call"]
    return {
        "systems": systems,
        "shelves": sorted({file.shelf for file in files}),
        "pictures": sorted(
            {f"{file.shelf}/{file.name}" for file in files if file.type.startswith("image/") and file.by == ""}
        ),
    }


def variables_with_values(sample: sample_events.SampleEvent) -> list[dict[str, Any]]:
    """Every variable with its value for the sample event, for the list to insert from."""
    listed = []
    the_store = live().setup.store
    locale = regional(
        (sample.reading.text("language") if sample.reading else "") or the_store.locale, the_store.country
    )
    for name, variable in live().setup.variables.items():
        evaluation = sample.variables[name] if sample.variables else None
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
    return [*listed, *_order_fields(sample, locale)]


def _order_fields(sample: sample_events.SampleEvent, locale: str) -> list[dict[str, Any]]:
    """The parts of the order that a source maps, with their values for the sample event; `order.lines` and
    `order.parcels` are written by blocks and loops.
    """
    mapped = {part for source in live().setup.sources.values() for part in source.reading}
    order = sample.reading.order() if sample.reading else {}
    return [
        {
            "name": f"order.{part}",
            "type": type_.value,
            "value": show(order.get(part), locale)[:80],
            "about": about,
            "required": False,
        }
        for part, (type_, about) in READING.items()
        if (part in mapped or part == "number") and type_ is not Type.LIST and part not in _NOT_SHOWN
    ]


def _about_question() -> list[dict[str, Any]]:
    """What a text may say of its question."""
    values = question_sample()
    return [
        {"name": f"question.{name}", "type": "text", "value": values[name], "about": about, "required": False}
        for name, about in QUESTION_FIELDS.items()
    ]


_NOT_SHOWN = frozenset({"reference", "changed_at", "customer_id", "currency", "account"})
"""Parts that no customer reads."""


@pages.post("/<key>/draft")
def save(key: str) -> Any:
    """Keeps the draft and answers with its preview. A text that can't be rendered is kept all the same."""
    stored_message(key)
    body = request.get_json(silent=True)
    spec = body.get("spec") if isinstance(body, dict) else None
    if not isinstance(body, dict) or not isinstance(spec, dict) or spec.get("key") != key:
        return jsonify({"detail": "The page sent something that is no message. Reload it."}), 400
    try:
        message = read_spec(Message, spec)
    except Invalid as error:
        return jsonify({"saved": False, "problems": [p.as_dict() for p in error.problems]}), 422
    channel, locale = str(body.get("channel", "email")), str(body.get("locale") or message.locale)
    seen = Preview()
    if channel in CHANNELS:  # first: what can't be shown is not kept
        samples = samples_for(key) if channel == "sms" else []
        seen = preview(message, channel, locale, live(), sample_event(key), samples)
    known, after = body.get("known"), body.get("after")
    try:
        with work() as unit:
            known = known if isinstance(known, str) else None
            after = after if isinstance(after, dict) else None
            stamp = operations.save_draft(unit, message, known, after, bool(body.get("force")))
    except Conflict:
        what = "The draft was changed in another window meanwhile."
        problem = Problem("", what, "Load that one, or keep yours.").as_dict()
        return jsonify({"saved": False, "elsewhere": True, "problems": [problem]}), 409
    return jsonify({"saved": True, "known": stamp, "preview": seen.as_dict(), "problems": []})


@pages.get("/<key>/preflight")
def preflight_part(key: str) -> Any:
    """What would go wrong with the draft, as a part of the page."""
    row = stored_message(key)
    return render_template(
        "messages/_checks.html",
        checks=_checked(row.spec, row, samples_for(key)),
        message=row.spec,
        channel=request.args.get("channel"),
        locale=request.args.get("locale"),
    )


@pages.post("/<key>/publish")
def publish(key: str) -> Any:
    carried = {name: request.form.get(name, "") for name in ("locale", "channel", "only")}
    back = redirect(url_for(".edit", key=key, locale=carried["locale"] or None, channel=carried["channel"] or None))
    samples = samples_for(key)
    try:
        with work() as unit:
            channels = [channel for channel in request.form.getlist("only") if channel in CHANNELS]
            revision = operations.publish(unit, key, samples, request.form.get("override") == "yes", channels)
            number = revision.number
    except ChecksFailed as error:
        return render_template(
            "checks/failed.html",
            outcomes=error.outcomes,
            what=stored_message(key).spec.name,
            to=url_for(".publish", key=key),
            back=url_for(".edit", key=key),
            carried=carried,
        ), 409
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not published: {error.problems[0].what} {error.problems[0].hint}", "bad")
        return back
    unused = not any(active.route.send == key for active in live().setup.routes)
    more = "No live route sends it yet, so nobody gets it." if unused else "Every send from now on says this."
    flash(f"Revision {number} is live. {more}", "good")
    return back


@pages.post("/<key>/discard")
def discard(key: str) -> Any:
    """Goes back to what is live."""
    with work() as unit:
        live_before = operations.discard_draft(unit, key)
    if live_before:
        flash("The draft is discarded; this is what is live.", "good")
    else:
        flash("Nothing is live yet, so there is nothing to go back to.", "bad")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/still-right")
def still_right(key: str) -> Any:
    """Takes a text for up to date although the main language was changed since."""
    channel, locale = request.form.get("channel", ""), request.form.get("locale", "")
    with work() as unit:
        operations.still_right(unit, key, channel, locale)
    flash(f"The text in {locale} counts as up to date.", "good")
    return redirect(url_for(".edit", key=key, channel=channel, locale=locale))


# ---- parts and languages ------------------------------------------------------------------------------------------


@pages.post("/<key>/variant")
def variant(key: str) -> Any:
    """Adds a channel or a language to the draft, or takes one out."""
    channel, locale = request.form.get("channel", ""), request.form.get("locale", "").strip()
    if channel not in CHANNELS:
        abort(400, "There is no such channel.")
    removing = request.form.get("act") == "remove"
    told = f"{CHANNEL_LABELS[channel]} in {locale} is removed from the draft." if removing else ""
    try:
        with work() as unit:
            if removing:
                operations.remove_text(unit, key, channel, locale)
            else:
                started = _starter_text(key, channel, locale)
                like = operations.add_text(unit, key, channel, locale, started)
                told = f"{locale} starts from the text in {like}: translate it." if like and like != locale else ""
                told = f"{locale} has the starter text in this language." if started else told
    except NotFound:
        raise
    except Invalid as error:
        flash(f"“{locale}” is no language: {error.problems[0].what} Write it like de or de-AT.", "bad")
        return redirect(url_for(".edit", key=key, channel=channel))
    if told:
        flash(told, "good")
    return redirect(url_for(".edit", key=key, channel=channel, locale=None if removing else locale))


def _starter_text(key: str, channel: str, locale: str) -> dict[str, Any] | None:
    """The starter's text in a language that is added to what still is its text in another."""
    message = stored_message(key).spec
    like = message.locale_for(channel, locale)
    if like is None or locale in message.variants(channel):
        return None
    return starters.text_in(message, channel, like, locale, mapped_variables())


@pages.post("/<key>/import")
def import_page(key: str) -> Any:
    """A page of HTML from a file, with what no mail may hold taken out; the editor puts it into the draft."""
    stored_message(key)
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
    row = stored_message(key)
    kept = specs.revisions(session(), "message", row.id)
    found: dict[str, tuple[str, dict[str, Any]]] = {
        str(one.number): (f"Revision {one.number}", upgraded("message", one.spec)) for one in kept
    }
    if row.draft is not None:
        found = {"draft": ("The draft", row.draft.plain())} | found
    names = list(found)
    live_number = str(row.number) if row.live is not None else ""
    new = request.args.get("new", "")
    new = new if new in found else (names[0] if names else "")
    old = request.args.get("old", "")
    if old not in found:
        other = next((name for name in names if name != new), new)
        old = live_number if live_number and live_number != new else other
    return render_template(
        "messages/revisions.html",
        row=row,
        message=row.spec,
        kept=kept,
        specs=found,
        old=old,
        new=new,
        changes=comparing.compare(found[old][1], found[new][1]) if names else [],
        live_number=live_number,
    )


@pages.post("/<key>/restore")
def restore(key: str) -> Any:
    """Makes an older revision the draft; what is live stays until it is published."""
    number = whole(request.form.get("revision"))
    with work() as unit:
        operations.restore(unit, key, number)
    flash(f"The draft says what revision {number} said. Publish it to make it live.", "good")
    return redirect(url_for(".edit", key=key))


# ---- review -------------------------------------------------------------------------------------------------------


def review_service() -> ReviewService:
    made = services()
    return ReviewService(made.database, made.setups, made.vault, made.clock)


def _review(message: Message, row: StoredMessage, locale: str) -> dict[str, Any]:
    """How the chat text stands with the providers that review: the state of this very text, and of earlier ones."""
    digest = ""
    if locale in message.chat:
        try:
            part = compiled_part(message, "chat", locale, live().setup.store)
            digest = part.approval_digest(message.category)
        except Invalid:
            digest = ""
    earlier = [one for one in reviews.of_message(session(), row.id) if one.locale == locale]
    return {
        "gateways": _reviewing_gateways(),
        "listing": any(one.review and one.review.texts for one in _reviewing_gateways()),
        "now": next((one for one in earlier if one.digest == digest), None),
        "earlier": earlier[:6],
    }


def _reviewing_gateways() -> list[Gateway]:
    return [one for one in live().setup.gateways.values() if one.channel == "chat" and one.review is not None]


@pages.post("/<key>/review")
def submit(key: str) -> Any:
    """Hands the chat text of one language in for review."""
    row = stored_message(key)
    locale = request.form.get("locale", "")
    gateway = request.form.get("gateway") or next((one.key for one in _reviewing_gateways()), "")
    if locale not in row.spec.chat or gateway not in live().setup.gateways:
        abort(400, "There is no such text to submit.")
    try:
        kept = review_service().submit(live(), row.spec, row.id, gateway, locale)
    except Invalid as error:
        flash(f"Not submitted: {error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(url_for(".edit", key=key, channel="chat", locale=locale))
    read_anew()
    services().setups.forget()
    told = {
        "approved": "It is approved: it can be published.",
        "rejected": f"It is rejected: {kept.reason}",
        "submitted": "It is in review. The page says so when it is decided.",
    }
    flash(told[kept.state], "bad" if kept.state == "rejected" else "good")
    return redirect(url_for(".edit", key=key, channel="chat", locale=locale))


@pages.get("/<key>/review")
def review_part(key: str) -> Any:
    """How the chat text stands now, as a part of the page; asks the provider where it waits."""
    review_service().check_pending(stored_message(key).id)
    read_anew()
    row, locale = stored_message(key), request.args.get("locale", "")
    review = _review(row.spec, row, locale)
    return render_template("messages/_review.html", row=row, message=row.spec, locale=locale, review=review)


# ---- test sends ---------------------------------------------------------------------------------------------------


@pages.post("/<key>/test")
def test(key: str) -> Any:
    """Sends the draft to somebody of the shop, through the real gateway; answers with the send."""
    row = stored_message(key)
    sample = sample_event(key).facts()
    channel, locale, gateway, to = (request.form.get(name, "") for name in ("channel", "locale", "gateway", "to"))
    try:
        with work() as unit:
            send_id = send_operations.send_test(unit, row.id, row.spec, channel, locale, gateway, to, sample)
    except Invalid as error:
        return jsonify({"detail": f"{error.problems[0].what} {error.problems[0].hint}"}), 422
    return jsonify({"send": send_id})


@pages.get("/<key>/test/<send_id>")
def tested(key: str, send_id: str) -> Any:
    """How a test send stands, as a part of the page."""
    found = sends.details(session(), store_id(), send_id)
    if found is None or not found.listed.send.test:
        abort(404, "There is no such send.")
    send = found.listed.send
    gateway = live().setup.gateways.get(found.listed.gateway)
    works = gateway is not None and gateway.untried and send.state in ("sent", "delivered", "read")
    if gateway is not None and works:
        with work() as unit:
            gateway_operations.found_working(unit, gateway.key)
    told = render_template(
        "messages/_tested.html", send=send, attempts=found.attempts, switched_on=gateway if works else None
    )
    answer = Response(told)
    answer.headers["X-Settled"] = "yes" if send.state not in ("scheduled", "sending") else "no"
    return answer
