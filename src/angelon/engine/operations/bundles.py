"""A whole set-up applied at once, and what it changes."""

from __future__ import annotations

from angelon.core.specs import Bundle
from angelon.db import bundles, changes, specs
from angelon.db.tables import StoreRow
from angelon.engine.installation import Installation
from angelon.engine.unit import MACHINE, Actor


def apply(installation: Installation, bundle: Bundle, actor: Actor = MACHINE) -> list[str]:
    """Creates or updates everything in a bundle and publishes it, all or nothing; says what changed, a line each.

    Raises Invalid with what keeps it.
    """
    now = installation.clock.now()
    with installation.database.writing() as session:
        lines = bundles.apply(session, bundle, now)
        row: StoreRow = next(one for one in specs.stores(session) if one.key == bundle.store.key)
        for line in lines:
            thing, _, what = line.partition(": ")
            kind, _, key = thing.partition(" ")
            changes.add(session, row.id or 0, now, actor.name, f"bundle applied: {what}"[:200], kind, key)
    installation.setups.forget()
    installation.notifier.notify()
    return lines
