"""Parcels as rows of a file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from angelon.db.database import Database
from angelon.db.log import parcels
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.exports.lines import AT_ONCE, moment
from angelon.engine.orders.parcels import called

COLUMNS = ("order", "number", "carrier", "status", "at", "expected", "place", "items", "delivered", "estimated")


def parts(
    database: Database, setup: LiveSetup, store_id: int, wanted: parcels.Wanted
) -> Iterator[list[Mapping[str, Any]]]:
    """The rows of parcels that fit, one for each order that is in one; those with the newest update first."""
    after = None
    while True:
        with database.reading() as reading:
            found = parcels.listed(reading, store_id, wanted, AT_ONCE, after)
            in_them = parcels.orders_in(reading, [row.id for row in found])
            ids = {order_id for pairs in in_them.values() for order_id, _ in pairs}
            of_them = parcels.of_orders(reading.connection(), ids)
        inside = {(one.row.id, id_): [item.item for item in one.items] for id_, of in of_them.items() for one in of}
        rows: list[Mapping[str, Any]] = []
        for row in found:
            told = [one for one in row.told or [] if one[1] == row.stage]
            for order_id, number in in_them.get(row.id) or [(0, row.said_order)]:
                rows.append(
                    {
                        "order": number,
                        "number": row.number,
                        "carrier": called(setup, row.carrier),
                        "status": row.stage,
                        "at": told[-1][0] if told else "",
                        "expected": row.expected_on,
                        "place": told[-1][3] if told else "",
                        "items": ", ".join(inside.get((row.id, order_id), ())),
                        "delivered": moment(row.delivered_at),
                        "estimated": "yes" if told and told[-1][2] == "estimate" else "",
                    }
                )
        yield rows
        if len(found) < AT_ONCE:
            return
        after = (found[-1].last_at, found[-1].id)
