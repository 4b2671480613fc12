"""The store's own settings: letterhead, rules, team, languages, hosts, consent, and its segments."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from itertools import chain, count
from typing import Any

from angelon.core.messages.attachments import LibraryFile, check_picture, detect_media_type
from angelon.core.problems import Invalid, Problem
from angelon.core.sending.trial import LABELS
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.condition import compares
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import Segment
from angelon.core.specs.stored import from_stored
from angelon.db.log import sends
from angelon.db.setup import changes, files, specs
from angelon.db.tables import StoreRow
from angelon.engine.operations.upkeep import name_of_copy, refuse_twin
from angelon.engine.unit import Work, found

Change = Callable[[dict[str, Any]], Mapping[str, Any]]


def current(work: Work) -> Store:
    """The store's spec as it stands in this transaction."""
    row = found(work.session.get(StoreRow, work.store_id), "There is no store any more.")
    return from_stored(Store, row.spec)


def change(work: Work, given: Mapping[str, Any], expected: int | None = None, what: str = "store") -> Store:
    """Changes some fields of the store and leaves the others as they are; `what` names the part that was edited.

    Raises Invalid, and Conflict.
    """
    made = read_spec(Store, {**current(work).model_dump(mode="json"), **given})
    work.specs.save_store(made, expected, what)
    return made


def set_trial(work: Work, trial: str) -> int:
    """Puts the store on trial, or ends that; says how many sends wait, which go where it says from now on. Raises
    Invalid.
    """
    if trial not in LABELS:
        raise Invalid([Problem("trial", "A trial is off, for the team, or for nobody.", "Choose one of them.")])
    row = found(work.session.get(StoreRow, work.store_id), "There is no store any more.")
    if row.trial != trial:
        work.record("trial", "store", row.key, {"trial": row.trial}, {"trial": trial})
        row.trial = trial
        work.change_setup()
    return sends.waiting(work.connection, work.store_id)


def save_letterhead(work: Work, store: Store, logo: bytes = b"", expected: int | None = None) -> None:
    """The store with its letterhead, and the logo's file where there is a new one. Raises Conflict and Invalid."""
    if logo:
        check_picture(logo)
    work.specs.save_store(store, expected, "letterhead")
    if logo:
        shelf, name = store.letterhead.logo.removeprefix("library:").split("/", 1)
        file = LibraryFile(0, shelf, name, detect_media_type(logo), len(logo))
        files.put(work.session, work.store_id, file, logo, work.now)


def create_segment(work: Work, name: str) -> str:
    """A new segment; gives its key. Raises Invalid."""
    store = current(work)
    if not name.strip() or not key_of(name):
        raise Invalid(
            [Problem("name", "Give the audience a name with at least one letter or digit.", "Such as Regulars.")]
        )
    refuse_twin(name, (segment.name for segment in store.segments), "audience")
    key = _free_segment_key(store, name)
    returning = {"kind": "compare", "of": "contact.orders", "op": "at_least", "value": "2"}
    made = read_spec(Segment, {"key": key, "name": name, "holds": {"of": [returning]}})
    _save_segments(work, [*store.segments, made])
    return key


def save_segment(work: Work, segment: Segment, expected: int | None = None) -> None:
    """A segment as it was edited; it counts at once in every route that asks for it. Raises Conflict."""
    store = current(work)
    refuse_twin(segment.name, (one.name for one in store.segments if one.key != segment.key), "audience")
    _save_segments(work, [segment if one.key == segment.key else one for one in store.segments], expected)


def _free_segment_key(store: Store, name: str) -> str:
    """A key that no segment has: a word of the language of conditions, so it starts with a letter."""
    wanted = key_of(name, "_")
    wanted = wanted if wanted[:1].isalpha() else f"s_{wanted}"
    taken = {segment.key for segment in store.segments}
    return next(key for key in chain([wanted], (f"{wanted}_{n}" for n in count(2))) if key not in taken)


def copy_segment(work: Work, key: str) -> str:
    """Another segment with the same conditions, under a name of its own; gives its key. Raises Invalid."""
    store = current(work)
    segment = _segment(store, key)
    name = name_of_copy(segment.name, (one.name for one in store.segments))
    made = read_spec(Segment, {**segment.plain(), "key": _free_segment_key(store, name), "name": name})
    _save_segments(work, [*store.segments, made])
    return made.key


def restore_segment(work: Work, key: str) -> Segment:
    """Brings a deleted segment back as it was. Raises Invalid where its name is another's by now, and NotFound."""
    store = current(work)
    if any(one.key == key for one in store.segments):
        return _segment(store, key)
    last = changes.last_deleted(work.session, work.store_id, "segment", key)
    before = found(last, f"There is no audience “{key}”, and none was deleted.")
    segment = read_spec(Segment, before)
    refuse_twin(segment.name, (one.name for one in store.segments), "audience")
    _save_segments(work, [*store.segments, segment])
    return segment


def _segment(store: Store, key: str) -> Segment:
    one: Segment = found(
        next((one for one in store.segments if one.key == key), None), f"There is no audience “{key}”."
    )
    return one


def delete_segment(work: Work, key: str) -> None:
    """Takes it out; `restore_segment` brings it back. Raises Invalid where a route asks for it."""
    using = [name for _, name in segment_uses(specs.routes(work.session, work.store_id)).get(key, [])]
    if using:
        what = f"The audience is used by {', '.join(using)}."
        raise Invalid([Problem("segment", what, "Take it out there first.")])
    store = current(work)
    gone = _segment(store, key)
    _save_segments(work, [one for one in store.segments if one.key != key])
    work.record("deleted", "segment", key, gone.plain(), None)


def segment_uses(routes: list[specs.StoredRoute]) -> dict[str, list[tuple[str, str]]]:
    """Which routes ask for each segment, as they are live and as they are drafted: key and name."""
    uses: dict[str, list[tuple[str, str]]] = {}
    for row in routes:
        asked = {
            part.of for route in row.versions for part in compares(route.only_if) if part.of.startswith("segment.")
        }
        for of in sorted(asked):
            uses.setdefault(of.partition(".")[2], []).append((row.key, row.spec.name))
    return uses


def _save_segments(work: Work, segments: list[Segment], expected: int | None = None) -> None:
    change(work, {"segments": [segment.plain() for segment in segments]}, expected, "segments")
