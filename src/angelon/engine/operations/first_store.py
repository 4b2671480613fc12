"""The first thing that an empty installation needs: a store."""

from __future__ import annotations

from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Bundle, Store
from angelon.db import bundles, changes, specs
from angelon.engine.installation import Installation
from angelon.engine.unit import Actor


def create(installation: Installation, store: Store, actor: Actor) -> int:
    """Creates the first store; gives its id. Raises Invalid where there is one already."""
    with installation.database.writing() as session:
        if specs.stores(session):
            raise Invalid([Problem("", "There is a store already.", "Open the overview.")])
        bundles.apply(session, Bundle(store=store), installation.clock.now())
        row = specs.stores(session)[0]
        made = row.id or 0
        changes.add(session, made, installation.clock.now(), actor.name, "created", "store", row.key, after=row.spec)
    installation.setups.forget()
    installation.notifier.notify()
    return made
