"""A source's event names: where they stand in a delivery, chosen by clicking it, and what each one means."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from flask import flash, redirect, render_template, request, url_for

from angelon.core.deliveries import UNNAMED, locate
from angelon.core.naming_guesses import NameGuess, guess_name
from angelon.core.payload.body import NotReadable
from angelon.core.payload.redact import secret
from angelon.core.payload.tree import fields
from angelon.core.problems import Invalid
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.source import Locator
from angelon.db.log import events
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.event_reader import parts_of, within_bytes
from angelon.engine.operations import sources as operations
from angelon.engine.unit import found as there
from angelon.web.conflicts import edits_seen
from angelon.web.services import kinds_of_events, session, store_id, work
from angelon.web.sources.stored import source_of

NEWEST = 60
"""Deliveries that are looked at for names."""
MOST_FIELDS = 250
LONGEST = 80
"""Characters of a value that may be an event's name."""


@dataclass(frozen=True, slots=True)
class Sample:
    """A kept delivery, or one order of it: its headers and what its paths look at."""

    headers: Mapping[str, str]
    payload: Any


@dataclass
class Place:
    """A header or a field that may hold the event's name, and what it has held."""

    locator: Locator
    value: str
    """In the newest delivery."""
    seen: Counter[str] = field(default_factory=Counter)

    @property
    def label(self) -> str:
        return self.locator.path or self.locator.header

    def is_at(self, locator: Locator) -> bool:
        return (self.locator.path, self.locator.header) == (locator.path, locator.header.lower())


def samples(source: Source, source_id: int) -> list[Sample]:
    """The newest kept deliveries that can be read, newest first."""
    found = events.recent(session(), source_id, NEWEST)
    sizes = events.sizes(session().connection(), {event.delivery_id for event in found})
    found = list(within_bytes(sizes, found, 4_000_000))
    kept = events.deliveries(session().connection(), {event.delivery_id for event in found})
    made = []
    for event in found:
        delivery = kept.get(event.delivery_id)
        if delivery is None:
            continue
        try:
            parts = parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})
        except NotReadable:
            continue
        if event.item < len(parts):
            made.append(Sample(delivery.headers or {}, parts[event.item]))
    return made


def places(found: Sequence[Sample]) -> list[Place]:
    """Every header and field of the newest delivery that may hold a name, those that hold few different ones first."""
    if not found:
        return []
    newest = found[0]
    made = [
        Place(Locator(header=name), value)
        for name, value in newest.headers.items()
        if value and value != "•••" and len(value) <= LONGEST and name not in _OF_TRANSPORT
    ]
    made += [
        Place(Locator(path=one.path), str(one.value))
        for one in fields(newest.payload)
        if one.kind in ("text", "number") and len(str(one.value)) <= LONGEST and not secret(one.key)
    ][:MOST_FIELDS]
    for place in made:
        for sample in found:
            place.seen[locate(place.locator, sample.headers, sample.payload)] += 1
        place.seen.pop("", None)
    return sorted(made, key=lambda place: (not 1 < len(place.seen) <= 12, place.value.replace(".", "").isdigit()))


_OF_TRANSPORT = frozenset(
    ("host", "connection", "accept", "accept-encoding", "content-length", "content-type", "user-agent", "date")
)


def page(key: str, problems: Sequence[Any] = (), typed: Mapping[str, str] | None = None) -> Any:
    """The page; `typed` is what could not be saved."""
    source, source_id = source_of(key)
    found = samples(source, source_id)
    guess = guess_name(found[0].headers, found[0].payload) if found and _is_nameless(source, found) else None
    locator = _chosen(source, guess)
    names = Counter(locate(locator, sample.headers, sample.payload) or UNNAMED for sample in found)
    names |= Counter(dict.fromkeys((*source.event_names, *(typed or {})), 0))
    missing = names.pop(UNNAMED, 0)
    return render_template(
        "sources/names.html",
        source=source,
        places=places(found),
        locator=locator,
        guessed=guess is not None and locator == guess.locator,
        names=sorted(names.items(), key=lambda one: (-one[1], one[0])),
        missing=missing,
        number=len(found),
        meanings=source.event_names | dict(typed or {}),
        types=kinds_of_events(),
        latest=events.recent(session(), source_id, 1),
        problems=problems,
        edits=request.form.get("edits", there(specs.by_key(session(), SourceRow, store_id(), key), "source").edits),
    )


def _is_nameless(source: Source, found: Sequence[Sample]) -> bool:
    """Whether the newest delivery has no name where the source says that it stands."""
    return not locate(source.event_name, found[0].headers, found[0].payload)


def _chosen(source: Source, guess: NameGuess | None) -> Locator:
    """Where the names are looked for on the page: where it was clicked, else where they seem to stand."""
    given = request.values
    if given.get("header", "").strip():
        return Locator(header=given["header"].strip()[:200])
    if given.get("path", "").strip():
        return Locator(path=given["path"].strip()[:500])
    return guess.locator if guess is not None else source.event_name


def save(key: str) -> Any:
    """Takes the place of the name, and what each name means."""
    form = request.form
    pairs = zip(form.getlist("theirs"), form.getlist("ours"), form.getlist("own_kind"), strict=False)
    said = {theirs: own.strip() or ours.strip() for theirs, ours, own in pairs if theirs.strip()}
    meanings = {theirs: ours for theirs, ours in said.items() if ours}
    try:
        locator = read_spec(Locator, {name: form.get(name, "").strip() for name in ("header", "path", "fixed")})
        with work() as unit:
            kept = operations.name_from(unit, key, locator, meanings, set(said) - set(meanings), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return page(key, error.problems, meanings), 422
    read = f" {kept:,} kept {'delivery is' if kept == 1 else 'deliveries are'} read so; nobody was written to."
    flash(f"Saved.{read if kept else ''}", "good")
    return redirect(url_for("sources.event_names", key=key))
