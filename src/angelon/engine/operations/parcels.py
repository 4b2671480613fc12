"""What people do with parcels: add a number to an order, say how far one is, take one out, read a file of them."""

from __future__ import annotations

import csv
import datetime as dt
import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from zoneinfo import ZoneInfo

from angelon.core.parcels import numbers
from angelon.core.parcels.stages import LABELS, Progress, Stage, Told, happened
from angelon.core.parcels.words import stage_of
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import evaluate
from angelon.core.specs.variable import Recipe, Type
from angelon.core.tables_out import active_again
from angelon.core.values import Day
from angelon.db.log import orders, parcels
from angelon.db.log.parcels import Item
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.installation import Installation
from angelon.engine.orders.parcels import Parcels, Telling, called, carrier_of, text_of
from angelon.engine.unit import Actor, Work, found, unit

ADDED, MOVED, TAKEN_OUT = "parcel added", "parcel stage set", "parcel taken out"
COLUMNS = ("order", "number", "carrier", "status", "at", "expected", "place", "items")
"""The columns of a file of parcels; the first two are needed."""
_CALLED = {
    **{name: name for name in COLUMNS},
    **{"order_number": "order", "reference": "order", "tracking": "number", "tracking_number": "number"},
    **{"parcel": "number", "state": "status", "stage": "status", "since": "at", "expected_on": "expected"},
    **{"lines": "items", "sku": "items", "skus": "items", "courier": "carrier", "town": "place"},
}
MOST_ROWS = 100_000
AT_ONCE = 50
"""Rows of a file that one transaction takes: others write in between."""


class Choices(Exception):
    """Whose a number is can't be said: these carriers could be it, with the reason of each; none where none fits."""

    def __init__(self, guesses: Sequence[numbers.Guess]) -> None:
        super().__init__("the number does not say whose it is")
        self.guesses = list(guesses)


def add(work: Work, clock: Clock, order_id: int, number: str, carrier: str = "", items: Sequence[str] = ()) -> str:
    """Adds a parcel to an order; gives the carrier's name. `items` are the skus, else names, of the lines in it; none
    where all are. Raises Invalid, NotFound, and Choices where the number does not say whose it is.
    """
    order = found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    key = numbers.normal(number)
    if len(key) < 4:
        what = f"“{number[:40]}” is no parcel’s number." if number.strip() else "The number is empty."
        raise Invalid([Problem("number", what, "Write it as on the label.")])
    carriers = work.live.setup.store.carriers
    chosen = work.live.setup.store.carrier(carrier)
    if carrier and chosen is None:
        raise Invalid([Problem("carrier", "There is no such carrier any more.", "Choose another.")])
    country = text_of(order.read, "country")[:2].upper()
    if chosen is None and carriers:
        guesses = numbers.guesses(carriers, key, country)
        settled = numbers.settled(guesses)
        if settled is None:
            raise Choices(guesses)
        chosen = settled.carrier
    lines = {_sku(line): line for line in (order.read or {}).get("lines") or [] if isinstance(line, dict)}
    inside = tuple(
        Item(sku, text_of(lines[sku], "name"), text_of(lines[sku], "quantity")) for sku in items if sku in lines
    )
    if inside and len(inside) == len(lines):
        inside = ()
    told = Telling(
        number.strip()[: numbers.MOST],
        work.actor.name,
        chosen.key if chosen else "",
        stage=Stage.LABEL_PRINTED,
        items=inside,
        order_ids=(order_id,),
        country=country,
        silent=True,
    )
    Parcels(work.connection, work.live, clock).tell([told])
    name = chosen.name if chosen else ""
    work.record(ADDED, "order", str(order_id), None, {"text": f"Parcel {number.strip()} {name}".strip()})
    work.wake()
    return name


def _sku(line: Mapping[str, object]) -> str:
    return (text_of(line, "sku") or text_of(line, "name"))[:100]


def move(work: Work, clock: Clock, parcel_id: int, stage: str) -> None:
    """Says how far a parcel is, as of now. Raises Invalid, where that would change nothing too, and NotFound."""
    row = found(parcels.get(work.connection, work.store_id, parcel_id), "There is no such parcel.")
    if stage not in {one.value for one in Stage}:
        raise Invalid([Problem("stage", "That is no stage of a parcel.", "Choose one of them.")])
    before, new = Progress.from_stored(row.told), Told(work.now, Stage(stage), work.actor.name)
    after = before.with_told(new)
    if not happened(before, after, new.stage) and (before.now, before.delivered) == (after.now, after.delivered):
        known = LABELS[before.now] if before.now is not None else "not known"
        back = (
            f"To take that back, choose “{LABELS[Stage.NOT_DELIVERED]}”." if before.delivered else "Choose a later one."
        )
        raise Invalid([Problem("stage", f"It is “{known}” already, and stages only go forward.", back)])
    told = Telling(row.number, work.actor.name, row.carrier, stage=new.stage, at=work.now, parcel_id=parcel_id)
    Parcels(work.connection, work.live, clock).tell([told])
    text = f"Parcel {row.number}: {LABELS[Stage(stage)]}"
    for order_id in parcels.orders_of(work.connection, [parcel_id]).get(parcel_id, []):
        work.record(MOVED, "order", str(order_id), None, {"text": text})
    work.wake()


def take_out(work: Work, order_id: int, parcel_id: int) -> None:
    """Takes an order out of a parcel that it is not in. Raises NotFound."""
    row = found(parcels.get(work.connection, work.store_id, parcel_id), "There is no such parcel.")
    if order_id not in parcels.orders_of(work.connection, [parcel_id]).get(parcel_id, []):
        raise NotFound("The order is not in this parcel.")
    parcels.take_out(work.connection, parcel_id, order_id)
    work.record(TAKEN_OUT, "order", str(order_id), None, {"text": f"Parcel {row.number} taken out"})


# ---- files


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a file, as it would be taken; or what is wrong with it."""

    number: int
    """Which line of the file, from 1; the heading is the first."""
    cells: dict[str, str]
    telling: Telling | None = None
    carrier: str = ""
    stage: str = ""
    problem: str = ""
    known: bool = False
    """Whether the parcel is known already."""


def parse(data: bytes) -> tuple[list[str], list[tuple[int, dict[str, str]]]]:
    """The columns of a CSV file and its lines, by their number. Raises Invalid."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("cp1252", "replace")
    if "\x00" in text:
        raise Invalid([Problem("file", "The file is no CSV.", "Save it as CSV, in UTF-8.")])
    head = text.partition("\n")[0]
    delimiter = max(";,\t|", key=head.count)
    try:
        rows = list(csv.reader(io.StringIO(text), delimiter=delimiter))
    except csv.Error as error:
        raise Invalid([Problem("file", f"The file is no CSV: {str(error)[:100]}", "Save it as CSV anew.")]) from None
    if not rows:
        raise Invalid([Problem("file", "The file is empty.", "Choose one with a line for each parcel.")])
    called_ = ["_".join(cell.strip().casefold().split()) for cell in rows[0]]
    columns = [_CALLED.get(name, name) for name in called_]
    if "number" not in columns or "order" not in columns:
        what = f"The first line has no column {'order' if 'order' not in columns else 'number'}."
        raise Invalid([Problem("file", what, f"The columns are {', '.join(COLUMNS)}; the first two are needed.")])
    if len(rows) > MOST_ROWS + 1:
        raise Invalid([Problem("file", f"The file has more than {MOST_ROWS:,} lines.", "Split it.")])
    lines = [
        (place, {name: active_again(cell.strip()) for name, cell in zip(columns, row, strict=False)})
        for place, row in enumerate(rows[1:], 2)
        if any(cell.strip() for cell in row)
    ]
    return columns, lines


def read_lines(
    work: Work, lines: Sequence[tuple[int, Mapping[str, str]]], by: str, silent: bool, unheard: bool
) -> list[Line]:
    """What lines of a file would tell, and what is wrong with the others."""
    live = work.live
    keys = {numbers.normal(cells.get("number", "")) for _, cells in lines} - {""}
    known = parcels.by_number(work.connection, work.store_id, keys)
    called_ = orders.ids_called(work.connection, work.store_id, [cells.get("order", "") for _, cells in lines])
    made = []
    for place, cells in lines:
        one = _read_line(live, called_, place, dict(cells), by)
        if one.telling is not None:
            told = replace(one.telling, silent=silent, unheard=unheard)
            one = replace(one, telling=told, known=numbers.normal(told.number) in known)
        made.append(one)
    return made


def _read_line(
    live: LiveSetup, orders_called: Mapping[str, list[int]], place: int, cells: dict[str, str], by: str
) -> Line:
    number, called_order = cells.get("number", ""), cells.get("order", "")
    if len(numbers.normal(number)) < 4:
        return Line(place, cells, problem="has no parcel’s number")
    ids = orders_called.get(called_order.strip(), [])
    if len(ids) != 1:
        why = "has no order’s number" if not called_order else f"order {called_order[:40]} is not known"
        return Line(place, cells, problem=why if len(ids) < 2 else f"two orders are called {called_order[:40]}")
    carriers = live.setup.store.carriers
    said = cells.get("carrier", "")
    carrier = carrier_of(carriers, said) if said else None
    if said and carrier is None and carriers:
        return Line(place, cells, problem=f"there is no carrier “{said[:40]}”")
    if carrier is None:
        guesses = numbers.guesses(carriers, number)
        if why := numbers.doubt(guesses):
            return Line(place, cells, problem=why)
        guess = numbers.settled(guesses)
        carrier = guess.carrier if guess is not None else None
    words = cells.get("status", "")
    stage = stage_of(words, carrier) if words else Stage.LABEL_PRINTED
    if stage is None:
        return Line(place, cells, problem=f"nobody knows what “{words[:40]}” means")
    zone = ZoneInfo(live.setup.store.timezone)
    try:
        at, expected = _time(cells.get("at", ""), zone), _time(cells.get("expected", ""), zone)
    except ValueError as error:
        return Line(place, cells, problem=str(error))
    items = tuple(Item(sku.strip()[:100]) for sku in cells.get("items", "").replace(";", ",").split(",") if sku.strip())
    told = Telling(
        number[: numbers.MOST],
        by,
        carrier.key if carrier else said,
        words,
        stage,
        at,
        expected.astimezone(zone).date() if expected else None,
        cells.get("place", "")[:100],
        items,
        (ids[0],),
    )
    return Line(place, cells, told, called(live, told.carrier), LABELS[stage])


def _time(text: str, zone: ZoneInfo) -> dt.datetime | None:
    if not text:
        return None
    dotted = re.fullmatch(r"(\d{1,2})\.(\d{1,2})\.(\d{4})", text)
    text = f"{dotted[3]}-{int(dotted[2]):02}-{int(dotted[1]):02}" if dotted else text
    made = evaluate(Recipe(path="$"), Type.DATE, Context(payload=text, root=text, zone=zone), "at").value
    if not isinstance(made, Day):
        raise ValueError(f"“{text[:40]}” is no day (write 2026-11-30, or with a time)")
    day = made.value
    return day if isinstance(day, dt.datetime) else dt.datetime.combine(day, dt.time(12), zone)


def take_file(
    installation: Installation, store_id: int, actor: Actor, data: bytes, silent: bool, unheard: bool
) -> tuple[int, list[Line]]:
    """Takes a file of parcels, a part at a time, so that others write in between; gives how many lines were taken, and
    those that were not. What went in before a fault stays; the same file again takes the rest, and nobody is told
    twice. Raises Invalid.
    """
    _, lines = parse(data)
    taken, left = 0, list[Line]()
    for start in range(0, len(lines), AT_ONCE):
        part = lines[start : start + AT_ONCE]
        with unit(installation, store_id, actor) as work:
            read = read_lines(work, part, f"{actor.name}, by file", silent, unheard)
            tellings = [one.telling for one in read if one.telling is not None]
            Parcels(work.connection, work.live, installation.clock).tell(tellings)
            work.wake()
        taken += len(tellings)
        left += [one for one in read if one.problem]
    return taken, left
