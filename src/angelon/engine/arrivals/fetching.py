"""Fetches the orders of stores that call nobody: a few pages of each source that is due, each stored together with how
far fetching is, so that whatever interrupts it, nothing is left out and nothing comes twice.
"""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import orjson
import structlog
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.deliveries import STATED, UNNAMED, read_delivery
from angelon.core.fetching import Item, Page, Position, after, items_of, news_of, read_page, request_of
from angelon.core.ids import sibling
from angelon.core.payload.body import JSON_TYPES, NotReadable, parse_body, surely_readable
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.source import Source
from angelon.db.access.secrets import Vault, WrongKey
from angelon.db.database import Database
from angelon.db.log import events, fetches
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.rows import FetchRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import FETCH
from angelon.engine.clock import Clock
from angelon.engine.followers.apart import Apart
from angelon.engine.planner.faults import describe_fault
from angelon.engine.setups import Setups
from angelon.gateways.fetching import CantFetch, fetch_answer

log = structlog.get_logger()

AT_ONCE = 4
"""Sources that one process fetches at the same time."""
A_TURN = 20
"""Pages that a source has fetched before another one's turn comes."""
A_PART = 200
"""Orders that one transaction stores."""
LONGEST_WAIT = dt.timedelta(hours=1)
LONGEST_ASKED = dt.timedelta(hours=6)
"""How long a failing store is left alone at most; and where it says for how long."""
REFUSED = "refused at "
"""How the digest of an order begins that was refused; the limit that it met follows."""
MARGIN = dt.timedelta(seconds=60)
HOUR = dt.timedelta(hours=1)


class TakenOver(RuntimeError):
    """Another process fetches this source now."""


@dataclass(frozen=True)
class Answer:
    """One request, and what it brought; `problem` where it brought nothing."""

    url: str
    page: Page | None = None
    problem: str = ""
    hint: str = ""
    wait: float = 0
    """Seconds for which the store wants to be left alone."""
    for_good: bool = False
    size: int = 0
    payload: Any = None
    """What was answered, where that is JSON, whether or not orders were found in it."""


def secret_of(vault: Vault, session: Session, source_id: int, fetch: Fetch, now: dt.datetime) -> str:
    """The password or token of fetching; empty where it needs or has none. Raises WrongKey."""
    kept = vault.get(session, FETCH, source_id, now) if fetch.auth.scheme != "none" else []
    return kept[0].text if kept else ""


def request_page(fetch: Fetch, position: Position, secret: str, private: Collection[str], now: dt.datetime) -> Answer:
    """Asks for one page. Never raises."""
    url, payload = fetch.url, None
    try:
        url, headers = request_of(fetch, position, secret)
        found = fetch_answer(url, private, fetch.max_bytes, fetch.timeout_seconds, headers)
        payload = _json(found.body)
        page = read_page(fetch, position, found.url, found.body, found.headers, now, found.next)
        return Answer(url, page, size=len(found.body), payload=payload)
    except Invalid as error:
        return Answer(url, problem=error.problems[0].what, hint=error.problems[0].hint, payload=payload)
    except CantFetch as error:
        return Answer(url, problem=str(error), wait=error.wait, for_good=error.for_good)
    except Exception as error:
        log.exception("an address could not be fetched", url=url)
        return Answer(url, problem=describe_fault(error))


def _json(body: bytes) -> Any:
    try:
        return orjson.loads(body)
    except orjson.JSONDecodeError:
        return None


def refuse_unfit(source: Source, body: bytes) -> None:
    """Raises NotReadable for an order (JSON) that is too large, too deep, or holds what is no text."""
    if len(body) > source.max_bytes:
        what = f"The order has {len(body):,} bytes, and {source.max_bytes:,} are allowed."
        raise NotReadable(Problem("body", what, "Raise the limit on the source's page, and try it again."), 413)
    if not surely_readable(body, JSON_TYPES[0]):
        parse_body(body, JSON_TYPES[0])


def take_in(
    connection: Connection,
    source: Source,
    source_id: int,
    items: Sequence[Item],
    clock: Clock,
    name: str = "",
) -> int:
    """Stores those orders that say something new as deliveries of their source; gives how many these are. What is too
    large, or can't be read, is kept as refused. `name` stands in place of the event's own.
    """
    now = clock.now()
    known = fetches.known(connection, source_id, [one.key for one in items])
    made: list[NewDelivery] = []
    refused: list[dict[str, Any]] = []
    said: dict[str, tuple[str, str]] = {}
    for number, item in enumerate(news_of(items, known)):
        at = now + dt.timedelta(microseconds=number)  # in the order in which they came
        try:
            refuse_unfit(source, item.body)
            made.append(_delivery(source, source_id, item, clock, at, name))
            said[item.key] = (item.digest, item.at)
        except NotReadable as error:  # refused once, and looked at again where the limit is another one
            mark = f"{REFUSED}{source.max_bytes} {item.digest}"
            if known.get(item.key, ("", ""))[0] != mark:
                refused.append(_refused(source_id, at, item, error))
                said[item.key] = (mark, item.at)
    if made:
        events.add(connection, made)
    if refused:
        events.refuse(connection, refused)
    again = {one.key for one in items} - said.keys()
    fetches.note(connection, source_id, said, again, now)
    return len(made)


def _delivery(source: Source, source_id: int, item: Item, clock: Clock, at: dt.datetime, name: str) -> NewDelivery:
    headers = {"content-type": "application/json"}
    received = read_delivery(source, headers, item.body)[0]
    name = name or (STATED if received.name == UNNAMED else received.name)
    id_ = clock.new_id("dv", at)
    event_id = sibling("ev", id_)
    key = f"d:{received.delivery_id}" if received.delivery_id else f"f:{event_id}"
    event = NewEvent(event_id, source_id, id_, key, name, source.event_names.get(name, ""), at)
    return NewDelivery(id_, source_id, at, headers["content-type"], headers, item.body, (event,))


def _refused(source_id: int, at: dt.datetime, item: Item, error: NotReadable) -> dict[str, Any]:
    return {
        "source_id": source_id,
        "at": at,
        "status": error.status,
        "reason": error.problem.what,
        "hint": error.problem.hint,
        "headers": {},
        "body_start": item.body[:2000].decode(errors="replace"),
        "body_bytes": len(item.body),
        "body": None,
        "signing": None,
    }


class Fetcher:
    """One for each process that plans. Each source has a thread of its own while it is fetched: a slow store keeps no
    other waiting.
    """

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        vault: Vault,
        wake: Callable[[], None] = lambda: None,
        stop: threading.Event | None = None,
    ) -> None:
        """`wake` is called when something new was stored, or a source may be fetched on."""
        self._database, self._setups, self._clock, self._vault, self._wake = database, setups, clock, vault, wake
        self._stop = stop or threading.Event()
        self._apart = Apart("fetch", AT_ONCE)

    def run_due(self, turns: int = 1) -> int:
        """Fetches what is due, one after the other; gives how many orders were new."""
        new = 0
        for _ in range(turns):
            new += sum(self._turn(live, source_id) for live, source_id in self._due())
        return new

    def step(self) -> None:
        """Has what is due fetched, and waits for none of it."""
        for live, source_id in self._due():
            self._apart.begin(source_id, partial(self._turn_apart, live, source_id))

    def _turn_apart(self, live: LiveSetup, source_id: int) -> None:
        try:
            if self._turn(live, source_id):
                self._wake()
        except Exception:
            self._stop.wait(5)
            raise

    def _due(self) -> list[tuple[LiveSetup, int]]:
        """The sources whose time has come, those that wait longest first."""
        now = self._clock.now()
        fetched = {
            live.source_ids[key]: live
            for live in map(self._setups.get, self._setups.ids())
            for key, source in live.setup.sources.items()
            if source.is_fetched
        }
        if not fetched:
            return []
        with self._database.reading() as session:
            rows = fetches.of_sources(session.connection(), fetched)
        if new := fetched.keys() - rows.keys():
            with self._database.connection(purpose="fetched") as connection:
                fetches.begin(connection, sorted(new), now)
                rows = fetches.of_sources(connection, fetched)
        free = [row for row in rows.values() if row.due_at <= now and (row.held_until is None or row.held_until < now)]
        return [(fetched[row.source_id], row.source_id) for row in sorted(free, key=lambda row: row.due_at)]

    def _turn(self, live: LiveSetup, source_id: int) -> int:
        """Some pages of one source; gives how many orders were new."""
        source = live.setup.sources[live.source_key(source_id)]
        assert source.fetch is not None
        now = self._clock.now()
        until = now + dt.timedelta(seconds=source.fetch.timeout_seconds) + MARGIN
        with self._database.connection(purpose="fetched") as connection:
            row = fetches.claim(connection, source_id, now, until)
        if row is None:
            return 0
        new = 0
        try:
            with self._database.reading() as session:
                secret = secret_of(self._vault, session, source_id, source.fetch, now)
            for number in range(A_TURN):
                came, row = self._page(live, source, source_id, row, secret, number + 1 == A_TURN)
                new += came
                if row is None or self._stop.is_set():
                    break
        except TakenOver:
            log.info("another process fetches this source", source=source.key)
        except WrongKey as error:
            self._failed(source.fetch, row, Answer(source.fetch.url, problem=str(error)))
        if row is not None and self._stop.is_set():
            with self._database.connection(purpose="fetched") as connection:
                fetches.change(connection, source_id, held_until=None)
        return new

    def _page(
        self, live: LiveSetup, source: Source, source_id: int, row: FetchRecord, secret: str, last: bool
    ) -> tuple[int, Any]:
        """One page: (how many orders were new, the row to go on from; None where this turn is over)."""
        fetch, now = source.fetch, self._clock.now()
        assert fetch is not None
        hour_at, in_hour = (row.hour_at, row.in_hour) if row.hour_at and now - row.hour_at < HOUR else (now, 0)
        if in_hour >= fetch.an_hour:
            with self._database.connection(purpose="fetched") as connection:
                fetches.change(connection, source_id, due_at=hour_at + HOUR, held_until=None)
            return 0, None
        position = Position.of(row.position)
        answer = request_page(fetch, position, secret, live.setup.store.private_hosts, now)
        used = {"hour_at": hour_at, "in_hour": in_hour + 1, "tried_at": now}
        if answer.page is None:
            self._failed(fetch, row, answer, used)
            return 0, None
        items = sorted(items_of(source, answer.page.items, fetch), key=lambda item: item.at)
        parts = [items[start : start + A_PART] for start in range(0, len(items), A_PART)] or [[]]
        new = 0
        for number, part in enumerate(parts):
            with self._database.connection(purpose="fetched") as connection:
                current = fetches.hold(connection, source_id)
                if current is None or current.held_until != row.held_until:
                    raise TakenOver
                new += take_in(connection, source, source_id, part, self._clock)
                if number + 1 == len(parts):
                    row = self._moved(connection, fetch, current, answer, new, used, last)
        return new, row

    def _moved(
        self,
        connection: Connection,
        fetch: Fetch,
        row: FetchRecord,
        answer: Answer,
        new: int,
        used: dict[str, Any],
        last: bool,
    ) -> Any:
        """Stores how far the source is after a page; the row to go on from, None where this turn is over."""
        now, position = self._clock.now(), Position.of(row.position)
        assert answer.page is not None
        why = ""
        try:
            moved, through = after(fetch, position, answer.page, bool(new))
        except Invalid as error:
            moved, through, why = Position(position.since), True, error.problems[0].what
        values: dict[str, Any] = {
            **used,
            "position": moved.plain(),
            "problem": why,
            "failures": 0,
            "log": _noted(row.log, now, position, answer, new, through, why),
        }
        if through:
            values |= {"through_at": now, "due_at": self._next(fetch, now), "held_until": None}
        elif last:
            values |= {"due_at": now, "held_until": None}
        else:
            values |= {"held_until": now + dt.timedelta(seconds=fetch.timeout_seconds) + MARGIN}
        fetches.change(connection, row.source_id, **values)
        return None if through or last else fetches.hold(connection, row.source_id)

    def _next(self, fetch: Fetch, now: dt.datetime) -> dt.datetime:
        """When it is fetched next: every so many minutes, up to a tenth sooner or later, so that many are not fetched
        in the same second.
        """
        return now + dt.timedelta(minutes=fetch.every_minutes) * (0.9 + 0.2 * self._clock.rng.random())

    def _failed(self, fetch: Fetch, row: FetchRecord, answer: Answer, used: dict[str, Any] | None = None) -> None:
        """A request that brought nothing: said, and made again later, each time a while longer. A page in the middle
        that is gone for good has the pass begin anew.
        """
        now, position = self._clock.now(), Position.of(row.position)
        failures = row.failures + 1
        wait = min(dt.timedelta(seconds=30) * 2 ** min(failures - 1, 10), LONGEST_WAIT)
        wait = max(wait, min(dt.timedelta(seconds=answer.wait), LONGEST_ASKED))
        if answer.for_good and position.page:
            position = Position(position.since)
        problem = f"{answer.problem} {answer.hint}".strip()
        values = {
            **(used or {}),
            "position": replace(position).plain(),
            "problem": problem,
            "failures": failures,
            "due_at": now + wait * (0.9 + 0.2 * self._clock.rng.random()) if not answer.wait else now + wait,
            "held_until": None,
            "log": _noted(row.log, now, Position.of(row.position), answer, 0, True, problem),
        }
        with self._database.connection(purpose="fetched") as connection:
            current = fetches.hold(connection, row.source_id)
            if current is not None and current.held_until == row.held_until:
                fetches.change(connection, row.source_id, **values)


def _noted(
    log_: Any, now: dt.datetime, position: Position, answer: Answer, new: int, through: bool, why: str
) -> list[dict[str, Any]]:
    """The newest passes, with a page added to the one that is under way, or to a new one."""
    entries = list(log_ or [])
    if not entries or entries[-1]["ended"]:
        entries.append({"at": now.isoformat(), "requests": 0, "orders": 0, "new": 0, "without_time": 0, "why": ""})
    page = answer.page
    one = entries[-1]
    entries[-1] = one | {
        "requests": one["requests"] + 1,
        "orders": one["orders"] + (len(page.items) if page else 0),
        "new": one["new"] + new,
        "without_time": one["without_time"] + (page.without_time if page else 0),
        "why": why,
        "ended": now.isoformat() if through else "",
    }
    return entries[-fetches.KEPT_LOG :]
