"""A parcel as pages show it: where it is on its line, what is expected of it, who told so."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask import g

from angelon.core.parcels import numbers
from angelon.core.parcels.stages import LABELS, LINE, RANK, Progress, Stage, Told
from angelon.db.log.parcels import Item
from angelon.engine.orders.parcels import ahead_of, called
from angelon.web.services import live

STOPS = (
    (Stage.LABEL_PRINTED, "label"),
    (Stage.PICKED_UP, "picked up"),
    (Stage.IN_TRANSIT, "in transit"),
    (Stage.OUT_FOR_DELIVERY, "out"),
    (Stage.DELIVERED, "delivered"),
)
"""The stops of a parcel's line and what they are called on it. One that waits to be collected stands at the fourth."""
TROUBLES = {"late": "late", "lost": "no update", "failed": "delivery failed"}


@dataclass(frozen=True, slots=True)
class Stop:
    label: str
    reached: bool
    told: Told | None = None


@dataclass(frozen=True, slots=True)
class Shown:
    """A parcel (a row of its table) as pages show it."""

    row: Any
    carrier: str
    stops: list[Stop]
    at: int
    """Which stop it is at, from 0; -1 for none."""
    now: str
    """How far it is, in words."""
    shape: str
    expected: dt.date | None
    note: str
    """What follows if nothing else is told, or who told what last."""
    link: str
    checked: bool
    """Whether its number's check digit fits."""
    estimated: bool
    inside: str
    orders: Sequence[tuple[int, str]] = ()


def show(row: Any, items: Sequence[Item] = (), orders: Sequence[tuple[int, str]] = ()) -> Shown:
    progress = Progress.from_stored(row.told)
    carrier = live().setup.store.carrier(row.carrier)
    known = ahead_of(live(), row, progress)
    rank = progress.rank
    collects = progress.stage is Stage.READY_TO_COLLECT
    stops = []
    for stage, label in STOPS:
        there = stage if not (collects and stage is Stage.OUT_FOR_DELIVERY) else Stage.READY_TO_COLLECT
        said = LABELS[there] if there is Stage.READY_TO_COLLECT else label
        stops.append(Stop(said, rank >= RANK[stage], progress.since(there)))
    now, delivered = progress.now, progress.delivered
    country = row.country or live().setup.store.country
    forms = carrier.forms if carrier is not None else []
    return Shown(
        row,
        called(live(), row.carrier),
        stops,
        sum(stop.reached for stop in stops) - 1,
        LABELS[now] if now is not None else "nothing told yet",
        _shape(row, now),
        known.expected,
        _note(row, progress, known.counts),
        numbers.page_of(carrier, row.number, country, "", live().setup.store.locale) if carrier else "",
        any(one.check and numbers.fits(one, row.number_key) for one in forms),
        bool(delivered is not None and delivered.estimated),
        ", ".join(one.said for one in items if one.item),
        orders,
    )


def _shape(row: Any, now: Stage | None) -> str:
    if row.trouble in ("lost", "failed"):
        return "failed"
    if row.trouble == "late" or now is Stage.RETURNED:
        return "problem"
    return "delivered" if now is Stage.DELIVERED else "scheduled" if now is None or RANK.get(now, 0) == 0 else "sending"


def _note(row: Any, progress: Progress, counts: dt.datetime | None) -> str:
    delivered, last = progress.delivered, progress.last
    if delivered is not None and delivered.estimated:
        return "Estimated: the carrier has reported nothing since."
    if row.trouble == "lost":
        return f"No update since {row.last_at.astimezone(g.zone):%-d %B}."
    if counts is not None and (row.trouble == "late" or counts - g.now < dt.timedelta(days=3)):
        return f"Counts as delivered on {counts.astimezone(g.zone):%A}, unless something else is reported."
    if row.unknown:
        return f"“{row.unknown}” is not understood."
    return f"Reported by {teller(last.by)}." if last is not None and last.by else ""


def teller(by: str) -> str:
    """Who told something: a source by its name, a person by theirs."""
    source = live().setup.sources.get(by)
    return source.name if source is not None else by


def told_of(shown: Shown) -> list[Told]:
    """What was told of it, the newest first."""
    return list(reversed(Progress.from_stored(shown.row.told).told))


STAGES: Mapping[str, str] = {stage.value: LABELS[stage] for stage in (*LINE, Stage.FAILED, Stage.RETURNED)}
"""How far parcels are: what lists are narrowed by."""
SAID: Mapping[str, str] = {stage.value: LABELS[stage] for stage in Stage}
"""What may be said of a parcel, by a person and by a carrier's words."""
