"""Parcels: listed, and told of."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from angelon.client import models
from angelon.core.parcels.numbers import doubt, guesses, normal
from angelon.core.parcels.stages import Progress, Stage
from angelon.core.parcels.words import stage_of
from angelon.db.log import orders, parcels
from angelon.db.log.parcels import Item
from angelon.engine.orders.parcels import Parcels, Telling, carrier_of
from angelon.engine.unit import Work
from angelon.web.api.operation import cursor_of, operation, read_cursor
from angelon.web.services import actor, services, session, store_id, work


@operation("GET", "/parcels", "orders.read", "List parcels", models.Parcels, query=models.ParcelsQuery)
def list_parcels(query: models.ParcelsQuery) -> models.Parcels:
    """Those first of which something was told last."""
    after = read_cursor(query.cursor)
    begin = (after[0], int(after[1])) if after is not None and isinstance(after[1], int) else None
    wanted = parcels.Wanted(query.stage, query.carrier, query.trouble, query.number)
    rows = parcels.listed(session(), store_id(), wanted, query.limit + 1, begin)
    shown = rows[: query.limit]
    in_them = parcels.orders_in(session(), [row.id for row in shown])
    last = shown[-1] if len(rows) > query.limit else None
    return models.Parcels(
        items=[parcel_of(row, [number for _, number in in_them.get(row.id, ())]) for row in shown],
        next=cursor_of(last.last_at, last.id) if last is not None else None,
    )


@operation(
    "POST", "/parcels", "parcels.write", "Report parcels", models.ParcelsTold, body=models.TellParcels, status=200
)
def tell_parcels(body: models.TellParcels) -> models.ParcelsTold:
    """Adds parcels to orders, or says how far they are: each as a source of parcels would. What is told again changes
    nothing. Those that can't be taken are named; the others are.
    """
    problems: list[models.Problem] = []
    with work() as unit:
        told = []
        called = orders.ids_called(unit.connection, unit.store_id, [one.order for one in body.parcels])
        for place, one in enumerate(body.parcels):
            made = _telling(unit, one, called.get(one.order.strip(), []))
            if isinstance(made, str):
                problems.append(models.Problem(where=f"parcels[{place}]", what=made))
            else:
                told.append(made)
        Parcels(unit.connection, unit.live, services().clock).tell(told)
        unit.wake()
    return models.ParcelsTold(taken=len(told), problems=problems)


def _telling(work_: Work, one: models.TellParcel, ids: list[int]) -> Telling | str:
    """What is told, or what is wrong with it."""
    if len(normal(one.number)) < 4:
        return f"“{one.number}” is no parcel’s number."
    if len(ids) > 1:
        return f"Several orders are called {one.order}."
    known = parcels.by_number(work_.connection, work_.store_id, [normal(one.number)])
    if not ids and not known and not one.order:
        return f"No parcel {one.number} is known yet: say for which order it is."
    carriers = work_.live.setup.store.carriers
    if not one.carrier and not known and (why := doubt(guesses(carriers, one.number))):
        return f"The number {why}."
    carrier = carrier_of(carriers, one.carrier) if one.carrier else None
    stage = stage_of(one.status, carrier) if one.status else Stage.LABEL_PRINTED
    if stage is None:
        return f"Nobody knows what “{one.status}” means. Say so on the carrier’s page, or send a stage."
    return Telling(
        one.number,
        actor().name,
        one.carrier,
        one.status,
        stage,
        one.at,
        one.expected_on,
        one.place,
        tuple(Item(sku[:100]) for sku in one.items),
        tuple(ids),
        one.order,
        silent=one.silent or not one.status,
        unheard=one.silent,
    )


def parcel_of(row: Any, numbers: Sequence[str]) -> models.Parcel:
    delivered = Progress.from_stored(row.told).delivered
    return models.Parcel(
        id=row.id,
        number=row.number,
        carrier=row.carrier,
        stage=row.stage,
        estimated=bool(delivered is not None and delivered.estimated),
        trouble=row.trouble,
        expected_on=dt.date.fromisoformat(row.expected_on) if row.expected_on else None,
        delivered_at=row.delivered_at,
        orders=list(numbers),
    )


def parcels_of(order_id: int, number: str) -> list[models.Parcel]:
    """An order's parcels."""
    found = parcels.of_orders(session().connection(), [order_id]).get(order_id, [])
    return [parcel_of(one.row, [number]) for one in found]
