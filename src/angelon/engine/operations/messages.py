"""Messages: created, drafted, published, restored; a channel or language added or removed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from angelon.core.messages.approved import ApprovedText, taken_over
from angelon.core.messages.channels import CHANNELS
from angelon.core.messages.older import with_older
from angelon.core.planning.preflight import Preflight, Sample
from angelon.core.problems import Conflict, Invalid, NotFound, Problem
from angelon.core.specs import Message, Variable
from angelon.core.specs.base import read_spec
from angelon.core.specs.stored import from_stored
from angelon.db.setup import reviews, specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import MessageRow, RevisionRow
from angelon.engine.operations import checks, upkeep
from angelon.engine.unit import Work, found

CATEGORIES = ("order", "service", "offer")
"""What a message may be to a chat provider."""


def create(
    work: Work, name: str, starter: Mapping[str, Any] | None, variables: Sequence[Variable]
) -> tuple[str, list[str]]:
    """A new message: an empty mail, or what a starter says (`key` and `name` are put in); gives its key, and the
    variables that were made for it. Raises Invalid.
    """
    key = upkeep.free_key(work, "message", name)
    locale = work.live.setup.store.locale
    blank = {"locale": locale, "email": {locale: dict(CHANNELS["email"].blank)}}
    work.specs.save_draft(read_spec(Message, {**(starter or blank), "key": key, "name": name}))
    made = [variable for variable in variables if variable.name not in work.live.setup.variables]
    for variable in made:
        work.specs.save_variable(variable)
    return key, [variable.name for variable in made]


def save_draft(
    work: Work, message: Message, known: str | None, after: Mapping[str, Any] | None, force: bool = False
) -> str:
    """Stores the draft that a page has written; gives its stamp.

    `known` is the stamp of the draft that the page began with, `after` the draft that it sent just before, whose stamp
    it may not know yet. Raises Conflict where another window has changed the draft meanwhile and `force` is not set.
    """
    row = _row(work, message.key)
    if not force and known is not None and known != stamp(row) and not _is_draft(row, after):
        theirs = specs.current_spec(work.session, row)
        raise Conflict("message", message.key, row.edits, theirs, message.plain(), "another window")
    earlier = specs.current_spec(work.session, row)
    before = from_stored(Message, earlier) if earlier else None
    return stamp(work.specs.save_draft(with_older(before, message)))


def stamp(row: Any) -> str:
    """What a draft is told apart by: when it was written; empty where there is none."""
    return row.drafted_at.isoformat() if row.drafted_at and row.draft is not None else ""


def _is_draft(row: MessageRow, spec: Mapping[str, Any] | None) -> bool:
    try:
        return (
            spec is not None
            and row.draft is not None
            and read_spec(Message, {**spec, "older": {}})
            == from_stored(Message, row.draft).model_copy(update={"older": {}})
        )
    except Invalid:
        return False


def preflight(
    message: Message, live: LiveSetup, samples: Sequence[Sample], states: Mapping[tuple[str, str], str]
) -> list[Problem]:
    """What would go wrong with a message, errors first. `states` are those of its chat texts' reviews."""
    routes = [active.route for active in live.setup.routes if active.route.send == message.key]
    sending = [(route.channel, route.gateway, route.sources) for route in routes]
    keys = [route.key for route in routes]
    return Preflight(message, live.setup, sending, samples, live.files, states, keys).run()


def only(channels: Sequence[str], draft: Message, live: Message | None) -> Message:
    """A draft with only these channels' texts; the others are as they are live."""
    others = {channel: live.variants(channel) if live else {} for channel in CHANNELS if channel not in channels}
    older = {place: mark for place, mark in draft.older.items() if place.partition(".")[0] in channels}
    return draft.model_copy(update={**others, "older": older})


def publish(
    work: Work, key: str, samples: Sequence[Sample], override: bool = False, channels: Sequence[str] = ()
) -> RevisionRow:
    """Makes the draft live: every send from now on says it; with `channels` only what it says by those, while the rest
    stays a draft. `samples` are real events that it is tried with.

    Raises Invalid with what keeps it from going live, and ChecksFailed where checks fail and `override` is not set.
    """
    with work.look() as looked:
        row = _row(looked, key)
        spec = specs.current_spec(looked.session, row)
        draft = message = from_stored(Message, spec)
        if channels:
            message = only(channels, draft, looked.live.setup.messages.get(key))
        states = reviews.states(looked.session, row.id or 0)
        stops = [problem for problem in preflight(message, looked.live, samples, states) if problem.severity == "error"]
        if stops:
            raise Invalid(stops)
        failed = checks.failing_with_message(looked.session, looked.live, message)
        if failed and not override:
            raise checks.ChecksFailed(failed)
    row = _row(work, key)
    work.still(looked, (spec, specs.current_spec(work.session, row)))
    if message != draft:
        work.specs.save_draft(message)
    made = work.specs.publish("message", row, checks.override_note(failed))
    if message != draft:
        work.specs.save_draft(draft)
    return made


def discard_draft(work: Work, key: str) -> bool:
    """Goes back to what is live; says whether anything is."""
    return work.specs.discard_draft("message", _row(work, key))


def restore(work: Work, key: str, number: int | None) -> None:
    """Makes an older revision the draft; what is live stays until that is published."""
    row = _row(work, key)
    kept = specs.revisions(work.session, "message", row.id or 0)
    revision = next((one for one in kept if one.number == number), None)
    if revision is None:
        raise NotFound("There is no such revision.")
    work.specs.save_draft(from_stored(Message, revision.spec))


def add_text(work: Work, key: str, channel: str, locale: str, text: Mapping[str, Any] | None = None) -> str | None:
    """Adds a channel or a language to the draft, with this text where there is one; gives the language whose text it
    starts from otherwise, None where it starts empty. Raises Invalid.
    """
    message = from_stored(Message, specs.current_spec(work.session, _row(work, key)))
    spec = message.plain()
    like = message.locale_for(channel, locale)
    texts = dict(spec.get(channel, {}))
    texts.setdefault(locale, dict(text) if text else texts[like] if like else dict(CHANNELS[channel].blank))
    work.specs.save_draft(read_spec(Message, {**spec, channel: texts}))
    return like


def take_over(
    work: Work, key: str, gateway_key: str, locale: str, text: ApprovedText, given: Mapping[int, str]
) -> None:
    """Makes a text that a chat provider has approved the draft's, with `given` in its gaps; it needs no review of its
    own. Raises Invalid.
    """
    row = _row(work, key)
    message = from_stored(Message, specs.current_spec(work.session, row))
    chat, compiled = taken_over(text, given, work.live.setup.store, locale)
    category = text.category if text.category in CATEGORIES else message.category
    others = [other for other in message.chat if other != locale]
    if others and category != message.category:
        what = f"The text is approved as “{category}”, and this message is “{message.category}” in {', '.join(others)}."
        raise Invalid([Problem("category", what, "Take it over into a message of its own.")])
    spec = message.plain()
    texts = {**spec.get("chat", {}), locale: chat.plain()}
    made = read_spec(Message, {**spec, "chat": texts, "category": category})
    work.specs.save_draft(made)
    reviews.note(
        work.session,
        work.store_id,
        work.live.gateway_ids[gateway_key],
        row.id or 0,
        locale,
        compiled.numbered.digest(category),
        chat.model_dump(mode="json"),
        "approved",
        "",
        text.reference,
        work.now,
    )
    work.change_setup()


def remove_text(work: Work, key: str, channel: str, locale: str) -> None:
    """Takes one language of a channel out of the draft."""
    spec = specs.current_spec(work.session, _row(work, key))
    texts = {name: text for name, text in spec.get(channel, {}).items() if name != locale}
    work.specs.save_draft(read_spec(Message, {**spec, channel: texts}))


def still_right(work: Work, key: str, channel: str, locale: str) -> None:
    """Takes a text for up to date that is older than the main language's."""
    spec = specs.current_spec(work.session, _row(work, key))
    older = {place: mark for place, mark in spec.get("older", {}).items() if place != f"{channel}.{locale}"}
    work.specs.save_draft(read_spec(Message, {**spec, "older": older}))


def _row(work: Work, key: str) -> MessageRow:
    there = work.specs.row("message", key)
    row: MessageRow = found(
        there if there is not None and there.gone_at is None else None, f"There is no message “{key}”."
    )
    return row
