"""Events about an order that come from here, and not from its store: derived from the order's newest delivery."""

from __future__ import annotations

from angelon.db.log import events
from angelon.db.records import NewEvent
from angelon.engine.unit import Work


def tell(work: Work, order_id: int, type_: str, key: str, name: str, was: str = "", now: str = "") -> None:
    """Makes an event of an order, once by its `key`, where something of the order was ever delivered."""
    newest = events.of_orders(work.connection, [order_id]).get(order_id)
    if not newest:
        return
    root = next((one for one in newest if one.parent_id is None), newest[0])
    id_ = work.clock.new_id("ev", work.now)
    made = NewEvent.derived(root, id_, key, name, type_, work.now, order_id, was, now)
    events.derive_once(work.connection, made)
    work.wake()
