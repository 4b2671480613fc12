"""Fetches tables of the shop's own from where they are kept, every so many hours or at once."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from functools import partial
from typing import Any

import structlog

from angelon.core.calls import authorization
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.fetch import TableFetch
from angelon.core.specs.origins import moved
from angelon.db.access.secrets import WrongKey
from angelon.db.rows import ShopTableRecord
from angelon.db.setup import shop_tables
from angelon.engine.followers.apart import Apart
from angelon.engine.installation import Installation
from angelon.engine.operations.shop_tables import (
    CREDENTIALS,
    MOST_BYTES,
    Changes,
    Content,
    hold_content,
    most_rows,
    read_file,
)
from angelon.engine.planner.faults import describe_fault
from angelon.engine.unit import MACHINE, Actor, Work
from angelon.gateways.fetching import CantFetch, fetch_answer

log = structlog.get_logger()

SECONDS = 30.0
AGAIN = dt.timedelta(hours=1)
"""After how long one is tried again that could not be fetched, or whose fetching was interrupted."""
LONGEST = dt.timedelta(days=1)
AT_ONCE = 2


def fetch_of(table: ShopTableRecord) -> TableFetch | None:
    """From where a table is fetched; None where it is not set up."""
    return read_spec(TableFetch, table.fetch) if table.fetch else None


def mark_of(table: ShopTableRecord) -> str:
    """A mark of how fetching is set up, which is another one once it was changed."""
    return hashlib.sha256(json.dumps(table.fetch, sort_keys=True).encode()).hexdigest()[:16]


def save(work: Work, key: str, fetch: TableFetch, secret: str = "", seen: str | None = None) -> None:
    """From where a table is fetched, and how often; where it is on, at once. `seen` is the mark of what was changed.
    Raises NotFound, Invalid.
    """
    table = shop_tables.get(work.connection, work.store_id, key)
    if table is None:
        raise NotFound("There is no such table any more.")
    if seen is not None and seen != mark_of(table):
        what = "Somebody else changed from where it is fetched meanwhile."
        raise Invalid([Problem("", what, "Open the table’s page anew to see that; what you typed is below.")])
    was, needs = fetch_of(table), fetch.auth.scheme != "none"
    kept = bool(work.vault.get(work.session, CREDENTIALS, table.id, work.now))
    if kept and not secret and (not needs or (was is not None and moved(was.url, fetch.url))):
        work.vault.drop(work.session, CREDENTIALS, table.id)  # it is for the address that it was given for
        kept = False
    if secret and needs:
        work.vault.put(work.session, CREDENTIALS, table.id, secret, work.now)
        work.record("secret replaced", "table", key, None, {"of": "fetching"})
    elif needs and fetch.on and not kept:
        raise Invalid([Problem("secret", "There is no password or token for this address.", "Type it in.")])
    values = {"fetch": fetch.plain(), "due_at": work.now if fetch.on else None, "problem": ""}
    shop_tables.change(work.connection, table.id, **values)
    work.record("changed", "table", key, was.plain() if was else None, fetch.plain())


def request_content(
    installation: Installation, store_id: int, table: ShopTableRecord, fetch: TableFetch, secret: str = ""
) -> Content:
    """What the address says now. An empty `secret` stands for the one that is kept, which goes to its own address
    alone. Raises Invalid, or CantFetch where asking later may come to something else.
    """
    was = fetch_of(table)
    if not secret and fetch.auth.scheme != "none" and was is not None and not moved(was.url, fetch.url):
        with installation.database.reading() as session:
            kept = installation.vault.get(session, CREDENTIALS, table.id, installation.clock.now())
        secret = kept[0].text if kept else ""
    if fetch.auth.scheme != "none" and not secret:
        raise Invalid([Problem("secret", "There is no password or token for this address.", "Type it in.")])
    private = installation.setups.get(store_id).setup.store.private_hosts
    found = fetch_answer(fetch.url, private, MOST_BYTES, SECONDS, authorization(fetch.auth, secret))
    name = found.url.partition("?")[0].rpartition("/")[2]
    return read_file(name, found.body, most_rows(table), fetch.items_at)


def fetch_table(
    installation: Installation, store_id: int, key: str, actor: Actor = MACHINE, careful: bool = True
) -> Changes:
    """Fetches a table, and has it hold what came. `careful` refuses what lacks columns of the table or has less than
    half its rows. What went wrong is kept with the table, too. Raises Invalid, NotFound.
    """
    with installation.database.reading() as session:
        table = shop_tables.get(session.connection(), store_id, key)
    fetch = fetch_of(table) if table is not None else None
    if table is None or fetch is None:
        raise NotFound("There is no such table any more, or it is not fetched.")
    now, wait = installation.clock.now(), AGAIN
    try:
        content = request_content(installation, store_id, table, fetch)
        changes = hold_content(installation, store_id, key, content, actor, careful)
        problem = None
    except Invalid as error:
        problem = error.problems[0]
    except CantFetch as error:
        problem, wait = Problem("url", str(error)), max(AGAIN, min(dt.timedelta(seconds=error.wait), LONGEST))
    except WrongKey as error:
        problem = Problem("secret", str(error))
    except Exception as error:
        log.exception("a table could not be fetched", table=key)
        problem = Problem("", describe_fault(error))
    values: dict[str, Any] = {"problem": problem.said if problem else ""}
    if problem is None:
        wait = dt.timedelta(hours=fetch.every_hours)
        values["fetched_at"] = now
    if fetch.on:
        values["due_at"] = now + wait
    with installation.database.connection(purpose="table") as connection:
        shop_tables.note_fetched(connection, table, **values)
    if problem is not None:
        raise Invalid([problem])
    return changes


class TableFetcher:
    """One for each process that plans."""

    def __init__(self, installation: Installation) -> None:
        self._installation, self._apart = installation, Apart("table", AT_ONCE)

    def step(self) -> None:
        """Has what is due fetched, and waits for none of it."""
        for table in self._due():
            self._apart.begin(table.id, partial(self._fetch, table))

    def run_due(self) -> int:
        """Fetches what is due, one after the other; says how many changed."""
        return sum(self._fetch(table) for table in self._due())

    def _due(self) -> list[ShopTableRecord]:
        with self._installation.database.reading() as session:
            return shop_tables.due(session.connection(), self._installation.clock.now())

    def _fetch(self, table: ShopTableRecord) -> bool:
        """Fetches one where nobody else does; says whether it changed."""
        with self._installation.database.connection(purpose="table") as connection:
            if not shop_tables.claim(connection, table, self._installation.clock.now() + AGAIN):
                return False
        try:
            changes = fetch_table(self._installation, table.store_id, table.key)
        except (Invalid, NotFound) as error:
            log.warning("a table could not be fetched", table=table.key, reason=str(error))
            return False
        return bool(changes)
