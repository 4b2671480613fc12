"""Mappings: edited as a draft, undone, published, brought back. What is live stays as it is until a draft is
published.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from angelon.core import usage
from angelon.core.orders import doubts_about_identity
from angelon.core.payload.body import NotReadable
from angelon.core.planning.checking import Outcome
from angelon.core.problems import Conflict, Invalid, Problem
from angelon.core.reading import read
from angelon.core.recipes import edits
from angelon.core.recipes import kept as kept_things
from angelon.core.recipes.steps import STEPS
from angelon.core.specs import Source
from angelon.core.specs.mapping import Mapping as MappingSpec
from angelon.core.specs.mapping import changed_parts, mapping_of, unmapped, with_mapping
from angelon.core.specs.stored import from_stored
from angelon.core.usage import Use
from angelon.db.log import events
from angelon.db.setup import changes, mappings
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.event_reader import payload_of
from angelon.engine.operations import checks
from angelon.engine.past.usage import among
from angelon.engine.unit import Work, found

NAMED = {
    "path": "path",
    "or_path": "another path",
    "drop_path": "a path removed",
    "set_step": "a step changed",
    "drop_step": "a step removed",
    "step_up": "a step moved up",
    "share_steps": "its steps kept under a name",
    "take": "a suggestion accepted",
    "default": "the fallback text",
    "clear": "unmapped",
}
"""What an edit is called on the button that undoes it."""


def drafted(source: Source, row: SourceRow) -> Source:
    """A source as its draft maps it; as it is where there is no draft. Raises Invalid where the draft can't be read."""
    return with_mapping(source, from_stored(MappingSpec, row.draft)) if row.draft is not None else source


def edit(work: Work, key: str, field_id: str, act: str, given: Mapping[str, str]) -> None:
    """One edit of one recipe. Raises Invalid."""
    name = field_id.partition(".")[2]
    said = f"{name}: {NAMED.get(act, act)}"
    if act in ("path", "or_path") and given.get("path"):
        said = f"{name}: {given['path'].strip()}"
    elif act == "add_step" and given.get("do") in STEPS:
        said = f"{name}: step {given['do']}"
    _change(work, key, lambda mapping: edits.edited(mapping, field_id, act, given), said)


def take(work: Work, key: str, recipes: Iterable[tuple[str, str]], joined: int = 0) -> None:
    """Takes suggestions, (field, recipe as JSON), as one edit, and as one with the last, by which `joined` were taken.
    Raises Invalid.
    """
    taken = list(recipes)

    def all_of_them(mapping: MappingSpec) -> MappingSpec:
        for field_id, recipe in taken:
            mapping = edits.edited(mapping, field_id, "take", {"recipe": recipe})
        return mapping

    number = joined + len(taken)
    _change(work, key, all_of_them, f"{number} suggestion{'' if number == 1 else 's'} accepted", joined > 0)


def in_hundredths(work: Work, key: str, field_ids: Iterable[str]) -> None:
    """Has amounts be read as told in their currency's smallest unit, as one edit. Raises Invalid."""
    given = {"do": "money", "p.minor_units": "true"}

    def all_of_them(mapping: MappingSpec) -> MappingSpec:
        for field_id in field_ids:
            mapping = edits.edited(mapping, field_id, "add_step", given)
        return mapping

    _change(work, key, all_of_them, "amounts in hundredths")


def add_part(work: Work, key: str, kind: str, name: str, path: str) -> None:
    """Adds a part of one's own to each line or parcel. Raises Invalid."""
    _change(work, key, lambda mapping: edits.with_part(mapping, kind, name, path), f"{kind} part {name} added")


def save_table(work: Work, key: str, name: str, text: str) -> None:
    """Keeps a table for the step lookup. Raises Invalid."""
    _change(work, key, lambda mapping: edits.with_table(mapping, name, text), f"table {name}")


def add_table(work: Work, key: str, name: str, text: str) -> None:
    """A new table. Raises Invalid, where there is one of that name too."""

    def added(mapping: MappingSpec) -> MappingSpec:
        return edits.with_table(mapping, kept_things.new_name(mapping, "lookups", name), text)

    _change(work, key, added, f"table {name} added")


def rename_kept(work: Work, key: str, part: kept_things.Part, old: str, name: str) -> None:
    """Gives a table or saved steps another name, in every step that names them too. Raises Invalid."""
    _change(work, key, lambda mapping: kept_things.renamed(mapping, part, old, name), f"{old} renamed to {name}")


def copy_kept(work: Work, key: str, part: kept_things.Part, name: str) -> None:
    """Another table, or other saved steps, like these. Raises Invalid."""
    _change(work, key, lambda mapping: kept_things.copied(mapping, part, name), f"{name} copied")


def delete_table(work: Work, key: str, name: str) -> None:
    """Takes a table away. Raises Invalid where a recipe looks into it."""
    source = _current(work, key)[1]
    _refuse(usage.of_table(name, source), f"The table “{name}” is used", "Take the step out first.")
    _change(work, key, lambda mapping: _without(mapping, "lookups", name), f"table {name} deleted")


def delete_kept_steps(work: Work, key: str, name: str) -> None:
    """Takes steps that are kept under a name away. Raises Invalid where a recipe runs them."""
    source = _current(work, key)[1]
    _refuse(usage.of_kept_steps(name, source), f"The steps “{name}” are used", "Take them out first.")
    _change(work, key, lambda mapping: _without(mapping, "shared_steps", name), f"steps {name} deleted")


def undo(work: Work, key: str) -> str:
    """Takes the last edit of the draft back; says which it was, empty where there is none."""
    row = _row(work, key)
    assert row.id is not None
    last = next(iter(mappings.steps(work.session, row.id, 1)), None)
    if last is None:
        return ""
    before = from_stored(MappingSpec, last.before) if last.before is not None else None
    mappings.save_draft(work.session, row, before, work.now)
    work.session.delete(last)
    return last.said


def discard(work: Work, key: str) -> None:
    """Goes back to what is live."""
    row = _row(work, key)
    assert row.id is not None
    if row.draft is not None:
        work.record("draft discarded", "mapping", key, row.draft, None)
    mappings.save_draft(work.session, row, None, work.now)
    mappings.forget_steps(work.session, row.id)


def restore(work: Work, key: str, number: int) -> None:
    """Makes what was mapped in a revision the draft, as an edit that can be undone. Raises NotFound and Invalid."""
    row, _ = _current(work, key)
    assert row.id is not None
    kept = found(mappings.revision(work.session, row.id, number), f"This mapping has no revision {number}.")
    _change(work, key, lambda mapping: kept, f"revision {number} brought back")


@dataclass(frozen=True, slots=True)
class Loss:
    """Something that a draft maps no more, and where it is used."""

    name: str
    """A variable's name, or `order.email`."""
    uses: list[Use]


def losses(specs: usage.Specs, was: Source, now: Source) -> list[Loss]:
    """What a changed mapping no longer maps and is in use; the source's own recipes count as they are changed."""
    others = tuple(source for source in specs.sources if source.key != now.key)
    specs = replace(specs, sources=(*others, now))
    lost = []
    for field_id in unmapped(mapping_of(was), mapping_of(now)):
        part, _, name = field_id.partition(".")
        if part in ("reading", "recipes"):
            called = f"order.{name}" if part == "reading" else name
            uses = usage.of_name(called, specs)
            if uses:
                lost.append(Loss(called, uses))
    return lost


class InUse(Invalid):
    """A draft unmaps what is used."""


class InDoubt(Invalid):
    """A draft tells orders apart as they are not."""


MOST_LOOKED_AT = 60
"""Newest deliveries by which it is seen how a mapping tells orders apart."""


def _identities(work: Work, source: Source) -> Iterator[tuple[str, str, str]]:
    """Reference, number and email of the newest deliveries, as a source maps them."""
    for event in events.recent(work.session, work.live.source_ids[source.key], MOST_LOOKED_AT):
        try:
            reading = read(source, work.live.setup.store, payload_of(work.session, work.live, event, source))
        except NotReadable:
            continue
        yield reading.reference, reading.number, reading.text("email")


def publish(work: Work, key: str, expected: int | None = None, override: bool = False) -> int:
    """Makes the draft live; gives the revision's number. Raises Invalid where there is no draft or it can't be read,
    Conflict where it was changed since `expected`, and, where `override` is not set, InUse where it unmaps what is
    used, InDoubt where it mistakes orders for each other, and ChecksFailed.
    """
    with work.look() as looked:
        now, failed, lost = _looked_at(looked, key, expected, override)
    row, as_now = _current(work, key)
    work.still(looked, (now, as_now))
    known = {name: recipe for name, recipe in now.recipes.items() if name in work.live.setup.variables}
    made = now.model_copy(update={"recipes": known})
    work.specs.save(made, action="mapping published")
    assert row.id is not None
    mappings.save_draft(work.session, row, None, work.now)
    mappings.forget_steps(work.session, row.id)
    work.wake()
    note = " ".join([checks.override_note(failed), *(f"{loss.name} is no longer mapped." for loss in lost)]).strip()
    return mappings.keep_revision(work.session, row, made, work.now, note)


def _looked_at(work: Work, key: str, expected: int | None, override: bool) -> tuple[Source, list[Outcome], list[Loss]]:
    """The source as it is drafted, the checks that fail with it, and what it maps no more. Raises as `publish`."""
    row, now = _current(work, key)
    live = from_stored(Source, row.spec)
    if row.draft is None:
        raise Invalid([Problem("", "There is no draft: the mapping is live without changes.")])
    if expected is not None and row.edits != expected:
        last = next(iter(changes.listed(work.session, work.store_id, "source", key, 1)), None)
        theirs, mine = mapping_of(live).plain(), mapping_of(now).plain()
        raise Conflict("source", key, row.edits, theirs, mine, last.actor if last is not None else "")
    lost = losses(among(work.session, work.live), live, now)
    if lost and not override:
        raise InUse(
            [
                Problem("", f"{loss.name} would no longer be mapped, and is used in {usage.listed(loss.uses)}.")
                for loss in lost
            ]
        )
    if {"reading.reference", "reading.number"} & set(changed_parts(mapping_of(live), mapping_of(now))):
        doubts = doubts_about_identity(_identities(work, now))
        if doubts and not override:
            raise InDoubt(doubts)
    failed = checks.failing_with_source(work.session, work.live, now)
    if failed and not override:
        raise checks.ChecksFailed(failed)
    return now, failed, lost


def _row(work: Work, key: str) -> SourceRow:
    row: SourceRow = found(work.specs.row("source", key), f"There is no source “{key}”. It may have been deleted.")
    return row


def _current(work: Work, key: str) -> tuple[SourceRow, Source]:
    row = _row(work, key)
    return row, drafted(from_stored(Source, row.spec), row)


def _change(
    work: Work, key: str, change: Callable[[MappingSpec], MappingSpec], said: str, with_last: bool = False
) -> None:
    """Stores the draft after an edit, which is undone together with the last one where it is `with_last`; a draft that
    is like what is live is none.
    """
    row, source = _current(work, key)
    before = mapping_of(source)
    made = mapping_of(with_mapping(source, change(before.model_copy(deep=True))))
    if not changed_parts(before, made):
        return
    last = next(iter(mappings.steps(work.session, row.id or 0, 1)), None) if with_last else None
    if last is not None:
        last.said = said
    else:
        mappings.add_step(work.session, row, said, work.actor.name, work.now)
    same = not changed_parts(made, mapping_of(from_stored(Source, row.spec)))
    mappings.save_draft(work.session, row, None if same else made, work.now)


def _without(mapping: MappingSpec, part: str, name: str) -> MappingSpec:
    return mapping.model_copy(
        update={part: {kept: value for kept, value in getattr(mapping, part).items() if kept != name}}
    )


def _refuse(uses: list[Use], used: str, hint: str) -> None:
    if uses:
        raise Invalid([Problem("", f"{used} in {usage.listed(uses)}.", hint)])
