"""What can be done with any thing of the set-up: renamed, copied, deleted where nothing uses it, and that undone."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import count
from typing import Any

from sqlmodel import Session, select

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs import Gateway, Message, Route, Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.stored import from_stored, to_stored
from angelon.core.usage import Use
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, MessageRow, RevisionRow, RouteRow, SourceRow
from angelon.engine.unit import Work, found

KINDS: dict[str, tuple[type[Any], type[Any]]] = {
    "message": (MessageRow, Message),
    "gateway": (GatewayRow, Gateway),
    "source": (SourceRow, Source),
    "route": (RouteRow, Route),
}
EXAMPLES = {
    "message": "Order received",
    "gateway": "Mail server",
    "source": "Harbour shop",
    "route": "Order received, by email",
}


def names_of(session: Session, store_id: int, kind: str) -> dict[str, str]:
    """What the things of a kind are called, by key; those that are deleted left out."""
    if kind in ("message", "route"):
        rows = specs.messages(session, store_id) if kind == "message" else specs.routes(session, store_id)
        return {row.key: row.spec.name for row in rows}
    table, spec = KINDS[kind]
    statement = select(table).where(table.store_id == store_id, table.gone_at.is_(None))
    return {row.key: from_stored(spec, row.spec).name for row in session.exec(statement)}


def an(what: str) -> str:
    """A noun with its article."""
    return f"{'an' if what[:1] in 'aeiou' else 'a'} {what}"


def refuse_twin(name: str, others: Iterable[str], what: str, hint: str = "Choose another name.") -> None:
    """Raises Invalid where something else is called so, whatever the case."""
    if any(name.strip().casefold() == other.strip().casefold() for other in others):
        raise Invalid([Problem("name", f"There is {an(what)} called “{name.strip()}” already.", hint)])


def name_of_copy(name: str, others: Iterable[str]) -> str:
    """The first of “Name (copy)”, “Name (copy 2)” … that nothing else is called."""
    taken = {other.casefold() for other in others}
    names = (f"{name[:88]} (copy{f' {n}' if n > 1 else ''})" for n in count(1))
    return next(made for made in names if made.casefold() not in taken)


def free_key(work: Work, kind: str, name: str) -> str:
    """A key for a new thing of a kind. Raises Invalid where its name gives none, or is another's."""
    if not name.strip() or not key_of(name):
        what = f"Give the {kind} a name with at least one letter or digit."
        raise Invalid([Problem("name", what, f"Such as {EXAMPLES[kind]}.")])
    refuse_twin(name, names_of(work.session, work.store_id, kind).values(), kind)
    return specs.free_key(work.session, KINDS[kind][0], work.store_id, key_of(name))


def rename(work: Work, kind: str, key: str, name: str) -> str:
    """Gives a thing another name; its key stays. Gives the old name. Raises Invalid and NotFound."""
    row, spec = _current(work, kind, key)
    others = {other: said for other, said in names_of(work.session, work.store_id, kind).items() if other != key}
    refuse_twin(name, others.values(), kind)
    made = read_spec(type(spec), {**spec.plain(), "name": name.strip()})
    if kind == "message":
        _rename_live(work, row, name)
    if kind in ("source", "gateway"):
        work.specs.save(made, action="renamed")
    elif row.draft is not None or row.live_id is None or kind == "route":
        work.specs.save_draft(made)
    work.change_setup()
    return str(spec.name)


def _rename_live(work: Work, row: Any, name: str) -> None:
    """A message's name is no text that a customer reads: what is live is renamed as well."""
    live = work.session.get(RevisionRow, row.live_id) if row.live_id else None
    if live is not None:
        spec = from_stored(Message, live.spec)
        work.record("renamed", "message", row.key, {"name": spec.name}, {"name": name.strip()})
        live.spec = to_stored(read_spec(Message, {**spec.plain(), "name": name.strip()}))


def copy(work: Work, kind: str, key: str) -> str:
    """Another thing like this one, under a name of its own; gives its key. A message's copy is a draft; a gateway's is
    paused, and it and a source's take their secrets anew.
    """
    _, spec = _current(work, kind, key)
    name = name_of_copy(spec.name, names_of(work.session, work.store_id, kind).values())
    new = specs.free_key(work.session, KINDS[kind][0], work.store_id, key)
    changes: dict[str, Any] = {"key": new, "name": name}
    if kind == "gateway":
        changes["paused"] = True
    made = read_spec(type(spec), {**spec.plain(), **changes})
    if kind == "source" and specs.source_taken(work.session, new):
        raise Invalid([Problem("name", f"There is a source with the key “{new}” already.", "Rename that one first.")])
    if kind in ("message", "route"):
        work.specs.save_draft(made)
    else:
        work.specs.save(made, action="copied")
    return new


def delete(work: Work, kind: str, key: str) -> None:
    """Takes a thing out of the set-up; `restore` brings it back. Raises Invalid where something uses it."""
    row, spec = _current(work, kind, key)
    using = uses(work.session, work.store_id, kind, key)
    if using:
        where = ", ".join(f"{use.name} ({use.where})" for use in using[:5])
        more = f" and {len(using) - 5} more" if len(using) > 5 else ""
        what = f"“{spec.name}” is used by {where}{more}."
        raise Invalid([Problem("", what, "Choose another there first.")])
    row.gone_at = work.now
    work.record("deleted", kind, key, spec.plain(), None)
    work.change_setup()
    work.session.flush()


def restore(work: Work, kind: str, key: str) -> str:
    """Undoes a deletion; gives the thing's name. Raises Invalid where something else has it by now, and NotFound."""
    row = found(work.specs.row(kind, key), f"There is no {kind} “{key}”.")
    others = names_of(work.session, work.store_id, kind)
    there = row.gone_at is None
    row.gone_at = None
    work.session.flush()
    _, spec = _current(work, kind, key)
    if not there:
        refuse_twin(spec.name, others.values(), kind, f"Rename that one, then restore “{key}” in Changes.")
        work.record("restored", kind, key)
        work.change_setup()
    return str(spec.name)


def name_of(session: Session, store_id: int, kind: str, key: str) -> str:
    """What a thing is called, also one that was deleted; empty where there is none."""
    table, model = KINDS[kind]
    row = session.exec(select(table).where(table.store_id == store_id, table.key == key)).first()
    if row is None:
        return ""
    return str(from_stored(model, specs.current_spec(session, row) if hasattr(row, "live_id") else row.spec).name)


def tag(work: Work, kind: str, key: str, word: str, put: bool = True) -> bool:
    """Puts a tag to a route or a message, or takes it away: to what is live and to its draft, as it changes nothing of
    what is sent. Says whether that changed anything. Raises Invalid and NotFound.
    """
    row, _ = _current(work, kind, key)
    model = KINDS[kind][1]
    live = work.session.get(RevisionRow, row.live_id) if row.live_id else None
    changed = False
    for kept, name in ((row, "draft"), (live, "spec")):
        stored = getattr(kept, name) if kept is not None else None
        if stored is None:
            continue
        spec = from_stored(model, stored)
        if put is (word in spec.tags):
            continue
        tags = [*(one for one in spec.tags if one != word), *([word] if put else [])]
        setattr(kept, name, to_stored(read_spec(model, {**spec.plain(), "tags": tags})))
        changed = True
    if changed:
        work.record("tagged" if put else "tag removed", kind, key, None, {"tag": word})
        work.change_setup()
    return changed


def uses(session: Session, store_id: int, kind: str, key: str) -> list[Use]:
    """The routes that use a message, gateway or source, as they are live and as they are drafted."""
    found_: list[Use] = []
    for row in specs.routes(session, store_id):
        for route in row.versions:
            where = _used_in(route, kind, key)
            if where:
                found_.append(Use("route", row.key, row.spec.name, where))
    return list(dict.fromkeys(found_))


def _used_in(route: Route, kind: str, key: str) -> str:
    if kind == "source":
        return "From" if key in route.sources else ""
    own = route.send if kind == "message" else route.gateway
    if own == key:
        return "Send" if kind == "message" else "By"
    options = route.fallback.options
    return "Fallback" if any((one.send if kind == "message" else one.gateway) == key for one in options) else ""


def _current(work: Work, kind: str, key: str) -> tuple[Any, Any]:
    row = work.specs.row(kind, key)
    if row is None or row.gone_at is not None:
        raise NotFound(f"There is no {kind} “{key}”. One that was deleted can be restored right after, or in Changes.")
    if kind in ("message", "route"):
        return row, from_stored(KINDS[kind][1], specs.current_spec(work.session, row))
    return row, from_stored(KINDS[kind][1], row.spec)
