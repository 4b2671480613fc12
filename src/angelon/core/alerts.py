"""Trouble with an installation itself: when it begins, when it is told, and when it is over. Pure.

Trouble that comes and goes is told once: it has to last before it is told, and to stay away before it is over.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Literal
from zoneinfo import ZoneInfo

from angelon.core.specs.alerts import AlertKind, Alerts

LASTS = dt.timedelta(seconds=15)
"""How long trouble has been seen before it is told."""
AWAY = dt.timedelta(seconds=90)
"""How long it has not been seen before it is over."""
URGENT: frozenset[AlertKind] = frozenset(
    {"gateway_unreachable", "gateway_refuses", "worker_missing", "backlog", "disk", "orders_missing"}
)
"""Customers hear nothing, or soon will not."""
LABELS: dict[AlertKind, str] = {
    "gateway_unreachable": "A gateway can’t be reached",
    "gateway_refuses": "A gateway refuses nearly everything",
    "worker_missing": "No worker process runs",
    "backlog": "Events or sends wait too long",
    "disk": "The disk is nearly full",
    "returns_silent": "Returned mail can’t be taken",
    "export_failing": "The nightly export fails",
    "archive_failing": "The archive can’t be written to",
    "handler_failing": "A handler or look-up does not answer",
    "orders_missing": "Orders of a store can’t be fetched",
    "held": "Sends are held or have failed",
    "not_processed": "Events could not be processed",
    "drift": "A payload no longer has what a mapping needs",
    "new_status": "An order has a status that was never seen before",
    "credit": "Credit or quota runs low",
    "certificate": "A certificate runs out",
}


@dataclass(frozen=True, slots=True)
class Trouble:
    """What is wrong now. `subject` tells two of a kind apart; `what` is a sentence, `href` a page of ours."""

    kind: AlertKind
    subject: str
    what: str
    href: str = "/"


@dataclass(frozen=True, slots=True)
class Known:
    """Trouble that was seen. Moments are aware."""

    trouble: Trouble
    began_at: dt.datetime
    told_at: dt.datetime | None = None
    gone_at: dt.datetime | None = None
    """Since when it is not seen any more."""
    over_at: dt.datetime | None = None
    """When it was taken to be over."""
    id: int | None = None

    @property
    def key(self) -> tuple[AlertKind, str]:
        return self.trouble.kind, self.trouble.subject


def looked(known: Sequence[Known], now_seen: Collection[Trouble], now: dt.datetime) -> list[Known]:
    """What is known after a look: what began, what is seen again, what is gone, and what is over. What was never told
    and is over comes with `over_at` too: nobody needs to hear of it.
    """
    seen = {(one.kind, one.subject): one for one in now_seen}
    found = []
    for one in known:
        trouble = seen.pop(one.key, None)
        if trouble is not None:
            found.append(replace(one, trouble=trouble, gone_at=None))
        else:
            gone = one.gone_at or now
            found.append(replace(one, gone_at=gone, over_at=now if now - gone >= AWAY else None))
    return found + [Known(trouble, now) for trouble in seen.values()]


@dataclass(frozen=True, slots=True)
class Telling:
    """What is to be told now."""

    begun: tuple[Known, ...]
    over: tuple[Known, ...]

    def __bool__(self) -> bool:
        return bool(self.begun or self.over)


def to_tell(
    known: Sequence[Known], spec: Alerts, now: dt.datetime, zone: ZoneInfo, last: dt.datetime | None
) -> Telling:
    """What has lasted and was not told, and what was told and is over. `last` is when something that is not urgent was
    told before.
    """
    gathered = last is None or now - last >= dt.timedelta(minutes=spec.gather_minutes)
    calm = gathered and not is_quiet(spec, now, zone)

    def may(one: Known) -> bool:
        return one.trouble.kind not in spec.leave_out and (one.trouble.kind in URGENT or calm)

    begun = [one for one in known if one.told_at is None and one.gone_at is None and now - one.began_at >= LASTS]
    over = [one for one in known if one.told_at is not None and one.over_at is not None]
    return Telling(tuple(filter(may, begun)), tuple(filter(may, over)))


def is_quiet(spec: Alerts, now: dt.datetime, zone: ZoneInfo) -> bool:
    """Whether a moment is in the quiet hours, which may lie across midnight."""
    if not spec.quiet_from or not spec.quiet_until or spec.quiet_from == spec.quiet_until:
        return False
    at = now.astimezone(zone).strftime("%H:%M")
    if spec.quiet_from < spec.quiet_until:
        return spec.quiet_from <= at < spec.quiet_until
    return at >= spec.quiet_from or at < spec.quiet_until


def subject_of(telling: Telling, shop: str) -> str:
    """The subject of a mail: what is worst, and how much else there is."""
    first = sorted([*telling.begun, *telling.over], key=_worst)[0]
    over = "Over: " if first in telling.over else ""
    more = len(telling.begun) + len(telling.over) - 1
    return f"{shop}: {over}{LABELS[first.trouble.kind]}{f', and {more} more' if more else ''}"


def _worst(one: Known) -> tuple[bool, bool, dt.datetime]:
    return one.over_at is not None, one.trouble.kind not in URGENT, one.began_at


def text_of(telling: Telling, zone: ZoneInfo, base_url: str) -> str:
    """What is told, in plain text."""
    lines = []
    for title, part in (("Problems", telling.begun), ("Over", telling.over)):
        if part:
            lines.append(title)
        for one in sorted(part, key=_worst):
            since = one.began_at.astimezone(zone)
            lines.append(f"- {LABELS[one.trouble.kind]}: {one.trouble.what} Since {since:%H:%M on %-d %B}.")
            if base_url and one in telling.begun:
                lines.append(f"  {base_url}{one.trouble.href}")
        lines += [""] if part else []
    lines.append(f"All alerts: {base_url}/settings/alerts" if base_url else "All alerts: Settings, Alerts.")
    return "\n".join(lines) + "\n"


SMS_LENGTH = 300
"""Characters: two or three SMS."""


def sms_of(telling: Telling, shop: str) -> str:
    """What is urgent, in one SMS; empty where nothing is."""
    urgent = sorted((one for one in (*telling.begun, *telling.over) if one.trouble.kind in URGENT), key=_worst)
    if not urgent:
        return ""
    said = [f"{'Over: ' if one in telling.over else ''}{one.trouble.what}" for one in urgent]
    text = f"{shop}: {said[0]}"
    more = f" And {len(said) - 1} more." if len(said) > 1 else ""
    return text[: SMS_LENGTH - len(more)] + more


def event_of(one: Known, over: bool, shop: str, base_url: str, now: dt.datetime) -> dict[str, object]:
    """A problem as an event (CloudEvents 1.0, JSON format): its type is `angelon.` and the kind of problem. One that is
    not kept, as a test is, has an id of its moment.
    """
    return {
        "specversion": "1.0",
        "id": f"alert-{one.id or f'{now:%Y%m%dT%H%M%S.%f}'}-{'over' if over else 'begun'}",
        "source": base_url or "angelon",
        "type": f"angelon.{one.trouble.kind}",
        "subject": one.trouble.subject or one.trouble.kind,
        "time": now.isoformat(),
        "datacontenttype": "application/json",
        "data": {
            "shop": shop,
            "state": "over" if over else "begun",
            "urgent": one.trouble.kind in URGENT,
            "label": LABELS[one.trouble.kind],
            "what": one.trouble.what,
            "page": f"{base_url}{one.trouble.href}",
            "began_at": one.began_at.isoformat(),
        },
    }


def status(one: Known) -> Literal["now", "going", "over"]:
    """How it stands: seen now; not seen since a moment; over."""
    return "over" if one.over_at is not None else "going" if one.gone_at is not None else "now"
