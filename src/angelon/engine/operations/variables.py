"""Variables: created, changed, renamed with every text that uses them, copied, deleted, and that undone."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import count
from typing import Any

from sqlmodel import col, select

from angelon.core import usage
from angelon.core.messages.known_fields import GIVEN
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs import Message, Route, Source, Variable
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import word_of
from angelon.core.specs.mapping import Mapping as MappingSpec
from angelon.core.specs.stored import from_stored, to_stored
from angelon.db.people import contact_values
from angelon.db.setup import changes, mappings, specs
from angelon.db.tables import CheckRow, MappingStepRow, SourceRow
from angelon.engine.operations import store as store_operations
from angelon.engine.past.usage import among
from angelon.engine.unit import Work


def create(work: Work, name: str, type_: str) -> str:
    """A new variable; gives its name as it is used in texts. Raises Invalid."""
    key = _free_name(work, name)
    work.specs.save_variable(read_spec(Variable, {"name": key, "type": type_ or "text"}))
    return key


def change(work: Work, name: str, given: Mapping[str, object], expected: int | None = None) -> None:
    """Changes some of what is known of a variable. Raises Invalid, NotFound and Conflict."""
    spec = _current(work, name).model_dump(mode="json")
    work.specs.save_variable(read_spec(Variable, {**spec, **given}), expected)


def rename(work: Work, old: str, name: str) -> str:
    """Gives a variable another name in every text, condition, recipe and check that uses it, live and drafted; gives
    the name. What is live becomes a revision of its own, so sends that wait have their values worked out anew.

    Raises Invalid and NotFound.
    """
    variable = _current(work, old)
    new = _free_name(work, name)
    note = f"variable {old} renamed to {new}"
    for kind, spec_type, rows in (
        ("message", Message, specs.messages(work.session, work.store_id)),
        ("route", Route, specs.routes(work.session, work.store_id, gone=True)),
    ):
        for stored in rows:
            _rename_in(work, kind, spec_type, stored, old, new, note)
    _rename_in_store(work, old, new)
    for row in _sources(work):
        _rename_in_source(work, row, old, new)
    _rename_in_checks(work, old, new)
    contact_values.rename(work.connection, work.store_id, old, new)
    work.session.delete(work.specs.row("variable", old))
    work.session.flush()
    specs.save_variable(work.session, work.store_id, variable.model_copy(update={"name": new}))
    work.record("renamed", "variable", new, {"name": old}, {"name": new})
    work.change_setup()
    return new


def copy(work: Work, name: str) -> str:
    """Another variable like this one, with the same recipes, under the next free name; gives it. Raises NotFound."""
    variable = _current(work, name)
    new = next(made for n in count(2) if work.specs.row("variable", made := f"{name[:55]}_{n}") is None)
    work.specs.save_variable(variable.model_copy(update={"name": new}))
    for row in _sources(work):
        recipes = {part: (getattr(row, part) or {}).get("recipes", {}).get(name) for part in ("spec", "draft")}
        _give(work, row, new, {part: recipe for part, recipe in recipes.items() if recipe is not None})
    return new


def delete(work: Work, name: str) -> None:
    """With every source's recipe for it; `restore` brings both back. Raises Invalid where anything uses it, live or as
    a draft.
    """
    uses = usage.of_name(name, among(work.session, work.live))
    if uses:
        raise Invalid([Problem("", f"“{name}” is used in {usage.listed(uses)}.", "Take it out there first.")])
    work.specs.delete_variable(name)


def restore(work: Work, name: str) -> None:
    """Brings a deleted variable back, with the recipes of those sources that have none for it by now; one that is there
    stays as it is. Raises NotFound.
    """
    if work.specs.row("variable", name) is not None:
        return
    last = changes.last_deleted(work.session, work.store_id, "variable", name)
    if last is None:
        raise NotFound(f"There is no variable “{name}”, and none was deleted.")
    before = dict(last)
    recipes = before.pop("recipes", {})
    work.specs.save_variable(read_spec(Variable, before))
    for row in _sources(work):
        _give(work, row, name, recipes.get(row.key, {}))


def _free_name(work: Work, name: str) -> str:
    key = word_of(name, "variable", "customer_name")
    if key in GIVEN:
        raise Invalid([Problem("", f"“{key}” stands for the {key} itself in every text.", "Choose another name.")])
    if work.specs.row("variable", key) is not None:
        raise Invalid([Problem("", f"There is a variable “{key}” already.", "Choose it in the list.")])
    return key


def _current(work: Work, name: str) -> Variable:
    row = work.specs.row("variable", name)
    if row is None:
        raise NotFound(f"There is no variable “{name}”.")
    return from_stored(Variable, row.spec)


def _sources(work: Work) -> list[SourceRow]:
    return list(work.session.exec(select(SourceRow).where(SourceRow.store_id == work.store_id)))


def _rename_in(work: Work, kind: str, spec_type: Any, stored: Any, old: str, new: str, note: str) -> None:
    """In a message or route: its draft as a draft, what is live as a revision."""
    draft, live = stored.draft, stored.live
    if live is not None:
        made = read_spec(spec_type, usage.renamed(live.plain(), old, new))
        if made != live:
            work.specs.replace(made, note)
    if draft is not None:
        made = read_spec(spec_type, usage.renamed(draft.plain(), old, new))
        if made != draft:
            row = work.specs.row(kind, stored.key)
            row.draft = to_stored(made)
            specs.count_edit(row)


def _rename_in_store(work: Work, old: str, new: str) -> None:
    store = store_operations.current(work)
    plain = usage.renamed(store.plain(), old, new)
    consent = {channel: new if name == old else name for channel, name in store.consent.items()}
    changed = {"segments": plain.get("segments", []), "consent": consent}
    made = read_spec(type(store), {**store.plain(), **changed})
    if made != store:
        work.specs.save_store(made)


def _rename_in_source(work: Work, row: SourceRow, old: str, new: str) -> None:
    source = from_stored(Source, row.spec)
    draft, drafted_at = row.draft, row.drafted_at
    made = read_spec(Source, _recipes_renamed(source.plain(), old, new))
    if made != source:
        row.draft = None
        work.specs.save(made)
    row.draft = _mapping_renamed(draft, old, new) if draft is not None else None
    row.drafted_at = drafted_at
    steps = select(MappingStepRow).where(MappingStepRow.source_id == row.id, col(MappingStepRow.before).is_not(None))
    for step in work.session.exec(steps):
        step.before = _mapping_renamed(step.before or {}, old, new)
    if row.draft != draft:
        specs.count_edit(row)


def _mapping_renamed(data: dict[str, Any], old: str, new: str) -> dict[str, Any]:
    try:
        return to_stored(read_spec(MappingSpec, _recipes_renamed(from_stored(MappingSpec, data).plain(), old, new)))
    except Invalid:
        return data


def _recipes_renamed(plain: dict[str, Any], old: str, new: str) -> dict[str, Any]:
    made: dict[str, Any] = usage.renamed(plain, old, new)
    recipes = {new if name == old else name: recipe for name, recipe in made.get("recipes", {}).items()}
    return {**made, "recipes": recipes}


def _rename_in_checks(work: Work, old: str, new: str) -> None:
    """What is expected of a value by its name."""
    for row in work.session.exec(select(CheckRow).where(CheckRow.store_id == work.store_id)):
        sends = row.spec.get("sends", [])
        if any(old in send.get("values", {}) for send in sends):
            renamed = [
                {**send, "values": {new if name == old else name: said for name, said in send["values"].items()}}
                if "values" in send
                else send
                for send in sends
            ]
            row.spec = {**row.spec, "sends": renamed}


def _give(work: Work, row: SourceRow, name: str, recipes: Mapping[str, Any]) -> None:
    """Gives a source recipes for a variable, live (`spec`) and drafted, where it has none."""
    draft = row.draft
    if "spec" in recipes:
        plain = from_stored(Source, row.spec).plain()
        held = plain.get("recipes", {})
        if name not in held:
            work.specs.save(read_spec(Source, {**plain, "recipes": {**held, name: recipes["spec"]}}))
    if draft is not None and "draft" in recipes and name not in draft.get("recipes", {}):
        row.draft = {**draft, "recipes": {**draft.get("recipes", {}), name: recipes["draft"]}}
        specs.count_edit(row)
        mappings.forget_if_live(work.session, row)
