"""Parcels as rows of a file."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from angelon.db.log import parcels
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.exports.lines import AT_ONCE, Rows, moment
from angelon.engine.exports.listed import Listed
from angelon.engine.orders.parcels import called

COLUMNS = ("order", "number", "carrier", "status", "at", "expected", "place", "items", "delivered", "estimated")


class Parcels(Listed):
    """The rows of parcels that fit, one for each order that is in one; those with the newest update first."""

    columns = COLUMNS

    def __init__(self, live: LiveSetup, wanted: parcels.Wanted) -> None:
        self.store_id, self.wanted = live.store_id, wanted
        self.names = {one.key: called(live, one.key) for one in live.setup.store.carriers}

    def read(self, session: Session) -> tuple[Rows, int]:
        found = parcels.listed(session, self.store_id, self.wanted, AT_ONCE, self.after)
        if found:
            self.after = (found[-1].last_at, found[-1].id)
        in_them = parcels.orders_in(session, [row.id for row in found])
        ids = {order_id for pairs in in_them.values() for order_id, _ in pairs}
        of_them = parcels.of_orders(session.connection(), ids)
        inside = {(one.row.id, id_): [item.item for item in one.items] for id_, of in of_them.items() for one in of}
        rows = [
            self._row(row, number, inside.get((row.id, order_id), ()))
            for row in found
            for order_id, number in in_them.get(row.id) or [(0, row.said_order)]
        ]
        return rows, len(found)

    def _row(self, row: Any, order: str, items: Any) -> Mapping[str, Any]:
        told = [one for one in row.told or [] if one[1] == row.stage]
        return {
            "order": order,
            "number": row.number,
            "carrier": self.names.get(row.carrier, row.carrier),
            "status": row.stage,
            "at": told[-1][0] if told else "",
            "expected": row.expected_on,
            "place": told[-1][3] if told else "",
            "items": ", ".join(items),
            "delivered": moment(row.delivered_at),
            "estimated": "yes" if told and told[-1][2] == "estimate" else "",
        }
