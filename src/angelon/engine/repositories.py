"""What a unit of work writes with: each checks the write against others' and keeps who changed what."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sqlmodel import select

from angelon.core.problems import Conflict
from angelon.core.specs import Gateway, Message, Route, Source, Store, Variable
from angelon.core.specs.base import Spec
from angelon.core.specs.stored import FORMAT_KEY, to_stored, upgraded
from angelon.core.states import State
from angelon.db.log import events, sends
from angelon.db.records import NewDelivery, NewEvent, NewSend
from angelon.db.setup import changes, specs
from angelon.db.tables import (
    GatewayRow,
    MessageRow,
    RevisionRow,
    RouteRow,
    SendRow,
    SourceRow,
    StoreRow,
    VariableRow,
)

if TYPE_CHECKING:
    from angelon.engine.unit import Work

Versioned = Message | Route
Live = Source | Gateway


class Specs:
    """What a store has set up. `expected` is how often a thing had been changed when it was opened for editing: where
    it was changed since, Conflict is raised and nothing is written.
    """

    def __init__(self, work: Work) -> None:
        self._work = work

    def row(self, kind: str, key: str) -> Any:
        """The row of a source, gateway, variable, message or route; None where there is none."""
        if kind == "variable":
            return specs.variable_row(self._work.session, self._work.store_id, key)
        return specs.by_key(self._work.session, _TABLES[kind], self._work.store_id, key)

    def save(self, spec: Live, expected: int | None = None, action: str = "saved") -> Any:
        """A source or gateway, live at once; gives its row."""
        kind = type(spec).__name__.lower()
        row = self.row(kind, spec.key)
        before = _plain(kind, row.spec) if row is not None else None
        self._check(kind, spec.key, row, expected, before, spec)
        saved = specs.save_live(self._work.session, _TABLES[kind], self._work.store_id, spec, self._work.now)
        self._note(action if row is not None else "created", kind, spec.key, before, spec)
        return saved

    def save_store(self, store: Store, expected: int | None = None, what: str = "store") -> None:
        """The store's own spec, live at once; `what` names the part that was edited."""
        row = self._work.session.get(StoreRow, self._work.store_id)
        before = _plain("store", row.spec) if row is not None else None
        self._check("store", store.key, row, expected, before, store)
        specs.save_store(self._work.session, self._work.store_id, store)
        self._note("saved", what, store.key, before, store)

    def save_variable(self, variable: Variable, expected: int | None = None) -> None:
        row = self.row("variable", variable.name)
        before = _plain("variable", row.spec) if row is not None else None
        self._check("variable", variable.name, row, expected, before, variable)
        specs.save_variable(self._work.session, self._work.store_id, variable)
        self._note("saved" if row is not None else "created", "variable", variable.name, before, variable)

    def delete_variable(self, name: str) -> None:
        """With every source's recipe for it, which are kept with what was changed."""
        row = self.row("variable", name)
        if row is not None:
            recipes = specs.delete_variable(self._work.session, self._work.store_id, name)
            before = {**_plain("variable", row.spec), "recipes": recipes}
            self._note("deleted", "variable", name, before, None)

    def save_draft(self, spec: Versioned, expected: int | None = None) -> Any:
        """A message's or route's draft; gives its row. What is live stays as it is."""
        kind = type(spec).__name__.lower()
        row = self.row(kind, spec.key)
        if row is not None and expected is not None and row.edits != expected:
            theirs = specs.current_spec(self._work.session, row)
            self._check(kind, spec.key, row, expected, theirs, spec)
        saved = specs.save_draft(self._work.session, _TABLES[kind], self._work.store_id, spec, self._work.now)
        if row is None:
            self._work.record("created", kind, spec.key, None, spec.plain())
        return saved

    def discard_draft(self, kind: str, row: specs.Drafted) -> bool:
        """Goes back to what is live; says whether anything is."""
        if row.live_id is None:
            return False
        if row.draft is not None:
            self._work.record("draft discarded", kind, row.key, _plain(kind, row.draft), None)
            row.draft = None
            specs.count_edit(row)
        return True

    def publish(self, kind: str, row: specs.Drafted, note: str = "") -> RevisionRow:
        """Makes the draft live, as a revision with a note."""
        earlier = self._work.session.get(RevisionRow, row.live_id) if row.live_id else None
        made = specs.publish(self._work.session, row, self._work.now, note)
        if earlier is None or earlier.id != made.id:
            before = _plain(kind, earlier.spec) if earlier is not None else None
            self._note(f"published as revision {made.number}", kind, row.key, before, None)
            self._work.change_setup()
        return made

    def replace(self, spec: Versioned, note: str) -> RevisionRow:
        """What is live becomes this, as a revision with a note; a draft stays as it is."""
        kind = type(spec).__name__.lower()
        row = self.row(kind, spec.key)
        kept, row.draft = row.draft, to_stored(spec)
        made = self.publish(kind, row, note)
        row.draft = kept
        return made

    def switch(self, row: RouteRow, on: bool) -> None:
        """Switches a route on from now, or off."""
        was = row.on
        specs.switch(self._work.session, row, on, self._work.now)
        if was != on:
            self._note("switched on" if on else "switched off", "route", row.key, None, None)
        self._work.change_setup()

    def free_key(self, kind: str, wanted: str) -> str:
        return specs.free_key(self._work.session, _TABLES[kind], self._work.store_id, wanted)

    def _check(self, kind: str, key: str, row: Any, expected: int | None, theirs: Any, spec: Spec) -> None:
        if row is None or expected is None or row.edits == expected:
            return
        last = next(iter(changes.listed(self._work.session, self._work.store_id, kind, key, 1)), None)
        raise Conflict(kind, key, row.edits, theirs, spec.plain(), last.actor if last is not None else "")

    def _note(self, action: str, kind: str, key: str, before: Any, spec: Spec | None) -> None:
        after = spec.plain() if spec is not None else None
        if before is None or before != after:
            self._work.record(action, kind, key, before, after)
        self._work.change_setup()


class Sends:
    """Sends, moved by the one table of states."""

    def __init__(self, work: Work) -> None:
        self._work = work

    def add(self, new: Sequence[NewSend]) -> None:
        sends.add(self._work.connection, new)
        if new:
            self._work.wake()

    def move(self, ids: Sequence[str], to: State, reason: str = "") -> list[str]:
        """Moves sends of this store by hand, those that the table lets; gives which were."""
        moved = sends.move(self._work.session, self._work.store_id, ids, to, self._work.now, reason)
        verb, why = _VERBS.get(to, to.value), {"reason": reason} if reason else {}
        if len(moved) > MOST_NAMED:
            self._work.record(verb, "sends", f"{len(moved)} sends", None, {"ids": moved, **why})
        else:
            for id_ in moved:
                self._work.record(verb, "send", id_, None, why or None)
        if moved and to is State.SCHEDULED:
            self._work.wake()
        return moved

    def get(self, send_id: str) -> SendRow | None:
        """A send of this store."""
        return self._work.session.exec(
            select(SendRow).where(SendRow.id == send_id, SendRow.store_id == self._work.store_id)
        ).first()


class Events:
    def __init__(self, work: Work) -> None:
        self._work = work

    def derive(self, new: Sequence[NewEvent]) -> None:
        """Stores events that follow from others."""
        events.derive(self._work.connection, new)
        if new:
            self._work.wake()

    def add_sample(self, delivery: NewDelivery) -> None:
        """Keeps a payload that was not delivered: read like one, and never planned."""
        events.add_sample(self._work.connection, delivery)

    def give_meaning(self, source_id: int, name: str, type_: str) -> int:
        """Gives the kept events of a name that meant nothing so far a type; says how many. Nobody is written to."""
        return events.give_meaning(self._work.connection, source_id, name, type_)

    def new_id(self, prefix: str, now: dt.datetime | None = None) -> str:
        return self._work.clock.new_id(prefix, now or self._work.now)


_TABLES: dict[str, Any] = {
    "source": SourceRow,
    "gateway": GatewayRow,
    "variable": VariableRow,
    "message": MessageRow,
    "route": RouteRow,
}
MOST_NAMED = 20
"""Sends that are moved together and still have a line each among the changes."""
_VERBS = {State.SCHEDULED: "sent again", State.CANCELLED: "cancelled", State.HELD: "held"}


def _plain(kind: str, data: Any) -> Any:
    """Stored data as a spec's plain data; as it stands where it can't be read in today's format."""
    try:
        return upgraded(kind, data) if data else None
    except ValueError:
        return {name: value for name, value in data.items() if name != FORMAT_KEY}
