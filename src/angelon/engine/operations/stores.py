"""Stores of an installation: the first, and others beside it."""

from __future__ import annotations

from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Bundle, Store
from angelon.db.setup import bundles, changes, specs
from angelon.engine.installation import Installation
from angelon.engine.unit import Actor


def create(installation: Installation, store: Store, actor: Actor) -> int:
    """Creates a store; gives its id. Raises Invalid where there is one of its key or name."""
    with installation.database.writing() as session:
        for row in specs.stores(session):
            if row.key == store.key or str(row.spec.get("name", "")).casefold() == store.name.casefold():
                what = f"There is a store “{row.spec.get('name') or row.key}” already."
                raise Invalid([Problem("name", what, "Give this one another name.")])
        bundles.apply(session, Bundle(store=store), installation.clock.now())
        row = next(one for one in specs.stores(session) if one.key == store.key)
        made = row.id or 0
        changes.add(session, made, installation.clock.now(), actor.name, "created", "store", row.key, after=row.spec)
    installation.setups.forget()
    installation.notifier.notify()
    return made
