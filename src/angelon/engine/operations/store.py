"""The store's own settings: letterhead, rules, team, languages, hosts, consent, and its segments."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from angelon.core.messages.attachments import LibraryFile, detect_media_type
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route, Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.condition import compares
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import Segment
from angelon.core.specs.stored import from_stored
from angelon.db import files, specs
from angelon.db.tables import StoreRow
from angelon.engine.unit import Work, found

Change = Callable[[dict[str, Any]], Mapping[str, Any]]


def current(work: Work) -> Store:
    """The store's spec as it stands in this transaction."""
    row = found(work.session.get(StoreRow, work.store_id), "There is no store any more.")
    return from_stored(Store, row.spec)


def change(work: Work, changes: Mapping[str, Any], expected: int | None = None, what: str = "store") -> Store:
    """Changes some fields of the store and leaves the others as they are; `what` names the part that was edited.

    Raises Invalid, and Conflict.
    """
    made = read_spec(Store, {**current(work).model_dump(mode="json"), **changes})
    work.specs.save_store(made, expected, what)
    return made


def save_letterhead(work: Work, store: Store, logo: bytes = b"", expected: int | None = None) -> None:
    """The store with its letterhead, and the logo's file where there is a new one. Raises Conflict."""
    work.specs.save_store(store, expected, "letterhead")
    if logo:
        shelf, name = store.letterhead.logo.removeprefix("library:").split("/", 1)
        file = LibraryFile(0, shelf, name, detect_media_type(logo), len(logo))
        files.put(work.session, work.store_id, file, logo, work.now)


def create_segment(work: Work, name: str) -> str:
    """A new segment; gives its key. Raises Invalid."""
    key = key_of(name, "_")
    key = key if key[:1].isalpha() else f"s_{key}"
    store = current(work)
    if not name or any(segment.key == key for segment in store.segments):
        raise Invalid([Problem("name", "Give the segment a name of its own, with at least one letter.")])
    returning = {"kind": "compare", "of": "contact.orders", "op": "at_least", "value": "2"}
    made = read_spec(Segment, {"key": key, "name": name, "holds": {"of": [returning]}})
    _save_segments(work, [*store.segments, made])
    return key


def save_segment(work: Work, segment: Segment, expected: int | None = None) -> None:
    """A segment as it was edited; it counts at once in every route that asks for it. Raises Conflict."""
    store = current(work)
    _save_segments(work, [segment if one.key == segment.key else one for one in store.segments], expected)


def delete_segment(work: Work, key: str) -> None:
    """Raises Invalid where a route asks for it."""
    using = [name for _, name in segment_uses(specs.routes(work.session, work.store_id)).get(key, [])]
    if using:
        what = f"The segment is used by {', '.join(using)}."
        raise Invalid([Problem("segment", what, "Take it out there first.")])
    _save_segments(work, [one for one in current(work).segments if one.key != key])


def segment_uses(routes: list[specs.StoredRoute]) -> dict[str, list[tuple[str, str]]]:
    """Which routes ask for each segment: key and name."""
    uses: dict[str, list[tuple[str, str]]] = {}
    for row in routes:
        route: Route = row.spec
        for of in {part.of for part in compares(route.only_if) if part.of.startswith("segment.")}:
            uses.setdefault(of.partition(".")[2], []).append((row.key, route.name))
    return uses


def _save_segments(work: Work, segments: list[Segment], expected: int | None = None) -> None:
    change(work, {"segments": [segment.plain() for segment in segments]}, expected, "segments")
