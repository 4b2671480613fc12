"""Parcels as they are told of: by the order's own events, a source of parcels, a file, a person, or the clock. What is
news becomes an event of each order that is in the parcel, once.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from types import SimpleNamespace
from typing import Any, cast

import structlog
from sqlalchemy import Connection

from angelon.core.documents.document import KINDS
from angelon.core.event_types import STOPS
from angelon.core.messages.known_fields import SAMPLE_FOLLOW
from angelon.core.orders import alike_number
from angelon.core.parcels import days, numbers, stages
from angelon.core.parcels.stages import ADDED, LABELS, LATE, LOST, RANK, Progress, Stage, Told
from angelon.core.parcels.words import plain, stage_of
from angelon.core.planning.purchases import UNDONE
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import evaluate
from angelon.core.specs.asked import AskedParcel
from angelon.core.specs.carrier import Carrier
from angelon.core.specs.source import Source
from angelon.core.specs.variable import Recipe, Type
from angelon.core.values import Day, Value, show, unpack
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import documents, events, parcels
from angelon.db.log import orders as order_queries
from angelon.db.log.parcels import Item, OfOrder
from angelon.db.records import NewEvent
from angelon.db.rows import ParcelRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.feedback import call_answers
from angelon.engine.setups import Setups

log = structlog.get_logger()

USED_AGAIN = dt.timedelta(days=120)
"""After how long without news a number that is told is another parcel's: carriers use numbers again."""
MOST_IN_EVENT = 100
"""Parcels of one event that are taken in: a delivery with more is to be split into events, which are planned apart."""
OLD_NEWS = dt.timedelta(days=7)
"""What happened longer ago than this is taken in, and is nobody's news."""
BY_HAND = "hand>"
"""How the key of an event begins that somebody has made by setting an order's status."""
AGAIN = dt.timedelta(minutes=30)
"""When a parcel is looked at again that could not be looked at."""


@dataclass(frozen=True, slots=True)
class Telling:
    """What somebody tells of a parcel. Moments are aware."""

    number: str
    by: str
    """Who: a source's key, `file`, `API`, or somebody's name."""
    carrier: str = ""
    """A carrier's key or name; empty where it is guessed by the number."""
    words: str = ""
    """The parcel's state in the teller's words."""
    stage: Stage | None = None
    """The stage, where it is known without reading those."""
    at: dt.datetime | None = None
    expected_on: dt.date | None = None
    place: str = ""
    items: tuple[Item, ...] = ()
    order_ids: tuple[int, ...] = ()
    order: str = ""
    """The number of the order, where that is not known by its id."""
    country: str = ""
    meanings: Mapping[str, str] = field(default_factory=dict)
    """What the source says its statuses mean."""
    silent: bool = False
    """Whether nobody is to hear of the stage: the order's own status tells of it, or the teller wishes so."""
    heard: dt.datetime | None = None
    """When it was told (aware); now, where that is not said."""
    unheard: bool = False
    """Whether nobody is to hear that there is a parcel, either."""
    parcel_id: int | None = None
    """Which parcel, where that is known, whoever else has its number."""


def read_tellings(source: Source, reading: Reading, order_id: int | None, heard: dt.datetime) -> list[Telling]:
    """What an event tells of parcels, by the parts of its source's mapping. A parcel without a status of its own is as
    far as its order, whose own change of status is the news.
    """
    found = []
    zone = reading.context.zone
    for one in reading.value("parcels") or ():
        if not isinstance(one, dict) or not show(one.get("number")).strip():
            continue
        words = show(one.get("status")).strip()
        follows = not words and order_id is not None
        stage = _stage_of_order(reading) if follows else None
        expected = one.get("expected_on")
        at = one.get("at")
        found.append(
            Telling(
                show(one["number"]).strip()[: numbers.MOST],
                source.key,
                show(one.get("carrier")).strip()[:100],
                words[:200],
                stage,
                _moment(at, zone) or reading.moment("changed_at"),
                _date(expected),
                show(one.get("place")).strip()[:100],
                _items(one.get("items")),
                (order_id,) if order_id is not None else (),
                "" if order_id is not None else show(one.get("order")).strip()[:200] or reading.number,
                reading.context.country if reading.text("country") else "",
                source.meanings("status"),
                silent=follows,
                heard=heard,
            )
        )
    return found


def asked_telling(
    one: AskedParcel, handler: str, reading: Reading, order_id: int | None, heard: dt.datetime
) -> Telling:
    """What a handler tells of a parcel. Days and moments that can't be read are left out."""

    def day(text: str) -> Value:
        return evaluate(Recipe(path="$"), Type.DATE, replace(reading.context, payload=text, root=text), "at").value

    return Telling(
        one.number[: numbers.MOST],
        handler,
        one.carrier[:100],
        one.status[:200],
        None if one.status else Stage.LABEL_PRINTED,
        _moment(day(one.at), reading.context.zone),
        _date(day(one.expected_on)),
        one.place[:100],
        order_ids=(order_id,) if order_id is not None and not one.order else (),
        order=one.order[:200],
        silent=not one.status,
        heard=heard,
    )


def _stage_of_order(reading: Reading) -> Stage:
    """How far an order's parcel is that has no status of its own: as far as the order's line of stops says."""
    stops = (Stage.PICKED_UP, Stage.IN_TRANSIT, Stage.OUT_FOR_DELIVERY, Stage.DELIVERED)
    reached = [stage for stage in stops if reading.stage is not None and reading.stage >= STOPS[f"parcel.{stage}"]]
    return reached[-1] if reached else Stage.LABEL_PRINTED


def _moment(value: Value, zone: dt.tzinfo) -> dt.datetime | None:
    if not isinstance(value, Day):
        return None
    if isinstance(value.value, dt.datetime):
        return value.value
    return dt.datetime.combine(value.value, dt.time(12), zone)


def _date(value: Value) -> dt.date | None:
    if not isinstance(value, Day):
        return None
    return value.value.date() if isinstance(value.value, dt.datetime) else value.value


def _items(value: Any) -> tuple[Item, ...]:
    """What is in a parcel, as a source lists it: skus, or objects with sku, name, quantity."""
    if value is None or value == "":
        return ()
    made = []
    for one in value if isinstance(value, list) else str(show(value)).split(","):
        if isinstance(one, dict):
            sku, name = show(one.get("sku")).strip(), show(one.get("name") or one.get("title")).strip()
            made.append(Item((sku or name)[:100], name[:200], show(one.get("quantity"))[:20]))
        else:
            made.append(Item(show(one).strip()[:100]))
    return tuple(item for item in made[:100] if item.item)


def carrier_of(carriers: Iterable[Carrier], said: str) -> Carrier | None:
    """The carrier that is meant by a key or a name, in whatever case."""
    wanted = plain(said)
    for one in carriers if wanted else ():
        if wanted in (plain(one.key), plain(one.name), *(plain(name) for name in one.names.values())):
            return one
    return None


class Parcels:
    """Takes in what is told of one store's parcels, in the caller's transaction."""

    def __init__(self, connection: Connection, live: LiveSetup, clock: Clock) -> None:
        self._connection, self._live, self._clock = connection, live, clock
        self._now = clock.now()
        self._carriers = {one.key: one for one in live.setup.store.carriers}
        self._made: list[NewEvent] = []
        self._told = 0
        """How many events were made so far."""

    def tell(self, tellings: Sequence[Telling]) -> list[int]:
        """Takes in what is told, in turn; gives the parcels' ids. What is news becomes events that are planned next."""
        keys = {key for one in tellings if (key := numbers.normal(one.number))}
        known = parcels.by_number(self._connection, self._live.store_id, keys) if keys else {}
        ids = []
        for one in tellings:
            if key := numbers.normal(one.number):
                self._now = one.heard or self._clock.now()
                ids.append(self._tell(one, key, known))
        self._store_events()
        return ids

    def _tell(self, told: Telling, key: str, known: dict[str, list[ParcelRecord]]) -> int:
        order_ids = told.order_ids or self._orders_called(told.order)
        row = self._found(told, known.get(key, []))
        carrier = self._carrier(told, key, row)
        before = Progress.from_stored(row.told) if row is not None else Progress()
        orders = parcels.orders_of(self._connection, [row.id]).get(row.id, []) if row is not None else []
        base = row if row is not None else _with(_BLANK, self._first(told, key, known.get(key, [])))
        after, stage, values = self._taken(told, base, before, carrier)
        if not order_ids and not orders and told.order:
            values["said_order"] = alike_number(told.order)
        elif base.said_order and (orders or order_ids):
            values["said_order"] = ""
        stored = self._stored(row, base, after, values)
        new = [id_ for id_ in order_ids if parcels.put_in(self._connection, stored.id, id_, told.items)]
        known[key] = [stored, *(one for one in known.get(key, []) if one.id != stored.id)]
        self._news(stored, before, after, stage, orders, new, told)
        return int(stored.id)

    def _first(self, told: Telling, key: str, others: Sequence[ParcelRecord]) -> dict[str, Any]:
        """What does not change of a parcel that is new."""
        turn = max((one.turn for one in others), default=-1) + 1
        named = {"store_id": self._live.store_id, "number": told.number, "number_key": key}
        return named | {"turn": turn, "created_at": self._now}

    def _stored(
        self, row: ParcelRecord | None, base: ParcelRecord, after: Progress, values: dict[str, Any]
    ) -> ParcelRecord:
        """Stores a parcel as it is known now, a new one where `row` is None; gives it."""
        now = _with(base, self._known(base, after, values))
        all_of_it = {name: getattr(now, name) for name in parcels.TOLD}
        if row is not None:
            parcels.save(self._connection, row.id, all_of_it)
            return now
        fixed = {name: getattr(base, name) for name in ("store_id", "number", "number_key", "turn", "created_at")}
        return _with(now, {"id": parcels.add(self._connection, fixed | all_of_it)})

    def _taken(
        self, told: Telling, row: ParcelRecord, before: Progress, carrier: str
    ) -> tuple[Progress, Stage | None, dict[str, Any]]:
        """What is known of a parcel once something was told of it: its progress, the stage that was told, and what else
        changes of its row.
        """
        values: dict[str, Any] = {"carrier": carrier, "last_at": self._now}
        stage = told.stage or stage_of(told.words, self._carriers.get(carrier), dict(told.meanings))
        if told.words:
            values["unknown"] = "" if stage is not None else told.words[:100]
        at = min(told.at or self._now, self._now).astimezone(dt.UTC)
        after = before.with_told(Told(at, stage, told.by, told.place, told.words)) if stage is not None else before
        if told.expected_on is not None and (row.expected_told_at is None or at >= row.expected_told_at):
            values |= {"expected_on": told.expected_on.isoformat(), "expected_told_at": at}
        country = told.country or row.country or self._country_of(told.order_ids)
        if country and country != row.country:
            values["country"] = country[:2]
        return after, stage, values

    def _found(self, told: Telling, rows: Sequence[ParcelRecord]) -> ParcelRecord | None:
        """The parcel that is meant: the one that is named, else of this number and carrier, and not one of so long ago
        that the number is used again. An order's own parcel is its own for ever.
        """
        carrier = carrier_of(self._carriers.values(), told.carrier)
        name = carrier.key if carrier is not None else told.carrier
        for row in rows:
            if told.parcel_id is not None:
                if row.id == told.parcel_id:
                    return row
                continue
            if name and row.carrier and plain(row.carrier) != plain(name):
                continue
            if self._now - row.last_at <= USED_AGAIN:
                return row
            if told.order_ids and set(told.order_ids) & set(
                parcels.orders_of(self._connection, [row.id]).get(row.id, [])
            ):
                return row
        return None

    def _carrier(self, told: Telling, key: str, row: ParcelRecord | None) -> str:
        """Whose parcel it is: as was told, as was known, else as the number says where it says it clearly."""
        if told.carrier:
            found = carrier_of(self._carriers.values(), told.carrier)
            return found.key if found is not None else told.carrier
        if row is not None and row.carrier:
            return str(row.carrier)
        country = told.country or self._country_of(told.order_ids)
        guess = numbers.settled(numbers.guesses(self._carriers.values(), key, country))
        return guess.carrier.key if guess is not None else ""

    def _country_of(self, order_ids: Sequence[int]) -> str:
        read = order_queries.read_of(self._connection, order_ids[0]) if order_ids else {}
        return show(unpack(read["country"]))[:2].upper() if read.get("country") else ""

    def _orders_called(self, number: str) -> tuple[int, ...]:
        """The order of a number; none where two have it."""
        found = order_queries.ids_called(self._connection, self._live.store_id, [number]).get(number.strip(), [])
        return tuple(found) if len(found) == 1 else ()

    def _known(self, row: ParcelRecord, after: Progress, values: dict[str, Any]) -> dict[str, Any]:
        """What is known of a parcel now: `values`, what follows from its progress, and when it is looked at next."""
        now = after.now
        delivered, picked = after.delivered, next((t for t in after.told if RANK.get(t.stage, -1) >= 1), None)
        values |= {
            "told": after.stored(),
            "stage": now.value if now is not None else "",
            "delivered_at": delivered.at if delivered is not None else None,
            "picked_at": picked.at if picked is not None else None,
        }
        another_day = values.get("expected_on", row.expected_on) != row.expected_on
        over = {"failed": True, "lost": True, "late": another_day}.get(row.trouble, False)
        if now is Stage.FAILED:
            values["trouble"] = "failed"
        elif delivered is not None or now is Stage.RETURNED or over:
            values["trouble"] = ""
        return values | {"look_at": self._next_look(_with(row, values), after)}

    def _next_look(self, row: ParcelRecord, progress: Progress) -> dt.datetime | None:
        known = ahead_of(self._live, row, progress)
        done = {"": 0, "failed": 0, "late": 1, "lost": 3}[row.trouble]
        moments = (known.late if done < 1 else None, known.counts, known.lost if done < 3 else None)
        return min((one for one in moments if one is not None), default=None)

    # ---- what is news

    def _news(
        self,
        row: ParcelRecord,
        before: Progress,
        after: Progress,
        told: Stage | None,
        orders: Sequence[int],
        new: Sequence[int],
        telling: Telling,
    ) -> None:
        """Makes the events that follow: for each order in the parcel, what is news to it, and of the order itself."""
        said = next((one for one in after.told if one not in before.told), None)
        old = said is not None and not said.estimated and self._now - said.at > OLD_NEWS
        news = [] if telling.silent or old else stages.happened(before, after, told)
        for order_id in dict.fromkeys((*orders, *new)):
            first = order_id in new
            if first and not telling.unheard:
                self._happened(row, order_id, ADDED, "")
            known = after.now if first and not telling.silent and not old else None
            for stage in [known] if known is not None else [] if first else news:
                self._happened(row, order_id, f"parcel.{stage}", _once(after, stage))
            if not telling.silent and not old and (news or first):
                self._order_news(row, order_id, before if not first else None, after)

    def _order_news(self, row: ParcelRecord, order_id: int, before: Progress | None, after: Progress) -> None:
        """The events of an order that follow from all of its parcels together."""
        of_order = parcels.of_orders(self._connection, [order_id]).get(order_id, [])
        then = {one.row.id: Progress.from_stored(one.row.told) for one in of_order} | {row.id: after}
        was = {**then, row.id: before} if before is not None else {k: v for k, v in then.items() if k != row.id}
        lines = order_queries.read_of(self._connection, order_id).get("lines") or []
        for type_ in stages.of_order(was, then, not left_over(lines, of_order)):
            back = sum(one.stage is Stage.NOT_DELIVERED for progress in then.values() for one in progress.told)
            again = f">{len(then)}>{back}" if type_ == stages.ALL_DELIVERED else ""
            self._happened(row, order_id, type_, again)

    def _happened(self, row: ParcelRecord, order_id: int, type_: str, again: str) -> None:
        """An event of an order about a parcel; the same one is stored once. `was` says which parcel it is about."""
        about = "od" if type_.startswith("order.") else f"pc-{row.id}"
        key = f"{about}>{type_}{again}>{order_id}"
        newest = events.newest_of(self._connection, order_id)
        if newest is None:
            log.warning("nothing is kept of the order of a parcel", parcel=row.id, order=order_id)
            return
        name = f"{called(self._live, row.carrier)} {row.number}".strip()
        at = self._now + dt.timedelta(microseconds=self._told)  # in this order
        self._told += 1
        id_ = self._clock.new_id("ev", at)
        self._made.append(NewEvent.derived(newest, id_, key, name, type_, at, order_id, f"pc-{row.id}", row.stage))

    def _store_events(self) -> None:
        if self._made:
            events.derive_once(self._connection, *self._made)
            self._made = []

    # ---- orders that come after their parcels

    def meet(self, orders: Mapping[str, tuple[int, dt.datetime]]) -> None:
        """Puts orders that are new, by their number, into the parcels that were told for them before; with when each
        came.
        """
        alike = {alike_number(number): met for number, met in orders.items() if number}
        for row in parcels.said(self._connection, self._live.store_id, alike):
            order_id, heard = alike[row.said_order]
            self.tell([Telling(row.number, "", row.carrier, order_ids=(order_id,), heard=heard)])

    # ---- the clock

    def look(self, row: ParcelRecord) -> bool:
        """Looks at a parcel whose time has come; says whether anything follows. What should have been said long ago is
        noted, and is nobody's news; of an order that was cancelled or paid back nothing is expected any more.
        """
        progress = Progress.from_stored(row.told)
        known = ahead_of(self._live, row, progress)
        of_it = parcels.orders_of(self._connection, [row.id]).get(row.id, [])
        undone = events.orders_with(self._connection, of_it, UNDONE)
        orders = [order_id for order_id in of_it if order_id not in undone]
        if of_it and not orders:
            parcels.change(self._connection, row.id, trouble="", look_at=None)
            return False
        now, values, made = self._now, {"trouble": row.trouble}, []
        if known.counts is not None and known.counts <= now:
            after = progress.with_told(Told(known.counts, Stage.DELIVERED, stages.ESTIMATE))
            row = self._stored(row, row, after, {})
            telling = Telling(row.number, stages.ESTIMATE, silent=now - known.counts > OLD_NEWS)
            self._news(row, progress, after, Stage.DELIVERED, orders, [], telling)
            self._store_events()
            return True
        if known.lost is not None and known.lost <= now:
            values["trouble"], made = "lost", [(LOST, known.lost)]
        elif known.late is not None and known.late <= now and row.trouble not in ("late", "lost"):
            values["trouble"], made = "late", [(LATE, known.late)]
        merged = _with(row, values)
        parcels.change(self._connection, row.id, **values, look_at=self._next_look(merged, progress))
        for type_, at in made:
            for order_id in orders if now - at <= OLD_NEWS else ():
                self._happened(merged, order_id, type_, "")
        self._store_events()
        return bool(made)


def _with(row: ParcelRecord, values: Mapping[str, Any]) -> ParcelRecord:
    """A parcel's row with values that have changed since it was read."""
    known: dict[str, Any] = row.__dict__ if isinstance(row, SimpleNamespace) else row._asdict()  # type: ignore[attr-defined]
    return cast("ParcelRecord", SimpleNamespace(**known | dict(values)))


_BLANK: ParcelRecord = SimpleNamespace(  # type: ignore[assignment]
    **dict.fromkeys(("carrier", "stage", "country", "expected_on", "trouble", "said_order", "unknown"), ""),
    **dict.fromkeys(("expected_told_at", "picked_at", "delivered_at", "look_at", "last_at", "id")),
    told=[],
)
"""A parcel of which nothing is known yet."""


def _once(after: Progress, stage: Stage) -> str:
    """What tells an event of a stage apart from an earlier one of the same parcel: attempts that fail are each one, and
    so is a delivery after one was taken back.
    """
    if stage in (Stage.FAILED, Stage.RETURNED):
        last = next(one for one in reversed(after.told) if one.stage is stage)
        return f">{last.at:%Y%m%d%H%M}"
    back = sum(one.stage is Stage.NOT_DELIVERED for one in after.told)
    real = stage is Stage.NOT_DELIVERED or (after.delivered is not None and not after.delivered.estimated)
    estimated = sum(one.estimated for one in after.told) if real else 0
    return f">{back}.{estimated}" if back or estimated else ""


def called(live: LiveSetup, carrier: str, locale: str = "") -> str:
    """What a carrier is called, by its key; as it was told where it is none that is set up."""
    known = live.setup.store.carrier(carrier)
    return known.called(locale) if known is not None else carrier


def ahead_of(live: LiveSetup, row: ParcelRecord, progress: Progress) -> days.Ahead:
    """What is expected of a parcel (a row of its table)."""
    carrier = live.setup.store.carrier(row.carrier) or days.PLAIN
    told = dt.date.fromisoformat(row.expected_on) if row.expected_on else None
    shop = live.setup.store
    return days.ahead(progress, carrier, told, row.country or shop.country, shop.timezone, row.last_at)


def left_over(lines: Sequence[Any], of_order: Sequence[OfOrder]) -> list[Any]:
    """Those of an order's lines that are in none of its parcels."""
    packed = {item.item for one in of_order for item in one.items}
    if not of_order or "" in packed:
        return [] if of_order else list(lines)
    return [line for line in lines if not {text_of(line, "sku"), text_of(line, "name")} & packed - {""}]


def text_of(read: Any, part: str) -> str:
    """A part of what was read of an order, or of one of its lines, as text."""
    value = read.get(part) if isinstance(read, dict) else None
    return show(unpack(value)).strip()[:200] if value is not None else ""


def values_of(live: LiveSetup, one: OfOrder, locale: str = "") -> dict[str, Value]:
    """A parcel as texts know it."""
    progress = Progress.from_stored(one.row.told)
    expected, delivered = ahead_of(live, one.row, progress).expected, progress.delivered
    carrier = live.setup.store.carrier(one.row.carrier)
    country = one.row.country or live.setup.store.country
    own = numbers.page_of(carrier, one.row.number, country, "", locale or live.setup.store.locale) if carrier else ""
    link = SAMPLE_FOLLOW if live.setup.store.pages.follow else own
    return {
        "carrier": called(live, one.row.carrier, locale) or None,
        "number": one.row.number,
        "stage": one.row.stage or None,
        "status": LABELS[progress.now] if progress.now is not None else None,
        "expected_on": Day(expected) if expected is not None else None,
        "delivered_on": Day(delivered.at.date()) if delivered is not None else None,
        "estimated": bool(delivered is not None and delivered.estimated),
        "late": one.row.trouble in ("late", "lost"),
        "link": link or None,
        "items": ", ".join(item.said for item in one.items if item.item),
    }


def know(connection: Connection, live: LiveSetup, read: Sequence[tuple[Any, int | None, Reading]]) -> None:
    """Tells readings of events (rows of their table, with the id of the order) what is known besides what their
    deliveries say: of the order's parcels, its invoice, and of a status that somebody set by hand.
    """
    ids = {order_id for _, order_id, _ in read if order_id is not None}
    found, answered = parcels.of_orders(connection, ids), call_answers.known(connection, live, ids)
    papers = documents.of_orders(connection, ids) if live.setup.store.documents.on else {}
    for row, order_id, reading in read:
        if row.delivery_key.startswith(BY_HAND):
            reading.say_status(row.now)
        if order_id in answered:
            reading.order()["calls"] = answered[order_id]
        if order_id in papers:
            about = next((one for one in papers[order_id] if f"dc-{one.id}" == row.was), None)
            one = about or papers[order_id][0]
            reading.say_document(KINDS.get(one.kind, one.kind), one.name, about.email if about else "")
        if order_id is None or order_id not in found:
            continue
        locale = reading.text("language")
        known = [values_of(live, one, locale) for one in found[order_id]]
        mine = next((n for n, one in enumerate(found[order_id]) if f"pc-{one.row.id}" == row.was), len(known) - 1)
        reading.know(known, known[mine])


class LateParcels:
    """Looks at parcels whose time has come. Each is dealt with once, and what raises harms that one alone."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database, self._setups, self._clock = database, setups, clock

    def run_due(self, limit: int = 100) -> int:
        """Deals with up to `limit` of them; gives of how many something follows."""
        now = self._clock.now()
        with self._database.reading() as session:
            due = parcels.due(session.connection(), now, limit)
        made = 0
        for store_id in dict.fromkeys(row.store_id for row in due):
            live = self._setups.get(store_id)
            with self._database.connection(locks.of_store(store_id), "parcels") as connection:
                for row in parcels.due(connection, now, limit, store_id):
                    made += self._guarded(connection, live, row, now)
        return made

    def _guarded(self, connection: Connection, live: LiveSetup, row: ParcelRecord, now: dt.datetime) -> bool:
        try:
            with connection.begin_nested():
                return Parcels(connection, live, self._clock).look(row)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a parcel could not be looked at", parcel=row.id)
            parcels.change(connection, row.id, look_at=now + AGAIN)
            return False
