"""How a source's orders are fetched: set up, tried, switched on, done at once, begun again from a day."""

from __future__ import annotations

import datetime as dt
from zoneinfo import ZoneInfo

from angelon.core.fetching import Position
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.origins import moved
from angelon.db.log import fetches
from angelon.db.setup.specs import FETCH
from angelon.engine.operations.sources import current
from angelon.engine.unit import Work


def save(
    work: Work, key: str, fetch: Fetch, tells: str = "orders", secret: str = "", expected: int | None = None
) -> None:
    """How the orders of a source are fetched, live at once where it is on. Raises Invalid, Conflict."""
    source = current(work, key)
    source_id = work.live.source_ids[key]
    kept = bool(work.vault.get(work.session, FETCH, source_id, work.now))
    needs = fetch.auth.scheme != "none"
    asks_anew = source.fetch is not None and needs and kept and moved(source.fetch.url, fetch.url)
    if asks_anew and not secret:
        what = "The address has changed, and the password or token that is kept belongs to the old one."
        raise Invalid([Problem("secret", what, "Type the one for the new address.")])
    if fetch.on:
        _refuse_unready(source, fetch, kept or bool(secret))
    spec = source.model_dump(mode="json") | {"fetch": fetch.model_dump(mode="json"), "tells": tells}
    work.specs.save(read_spec(Source, spec), expected)
    if not needs:
        work.vault.drop(work.session, FETCH, source_id)
    elif secret:
        work.vault.put(work.session, FETCH, source_id, secret, work.now)
        work.record("secret replaced", "source", key, None, {"of": "fetching"})
    _begin(work, source, source_id, fetch)


def _refuse_unready(source: Source, fetch: Fetch, has_secret: bool) -> None:
    """Raises Invalid with what has to be done before orders are fetched."""
    found = []
    if not source.knows_orders:
        what = "Neither the order's reference nor its number is mapped yet, so no order could be told from another."
        found.append(Problem("on", what, "Try the address, keep an order as a sample, and map it first."))
    if fetch.auth.scheme != "none" and not has_secret:
        found.append(Problem("secret", "There is no password or token yet.", "Type it in."))
    if found:
        raise Invalid(found)


def _begin(work: Work, source: Source, source_id: int, fetch: Fetch) -> None:
    """Where fetching goes on after a change: a source that was never fetched begins now, one whose pages follow
    otherwise begins its pass anew.
    """
    row = fetches.of_sources(work.connection, [source_id]).get(source_id)
    was = source.fetch
    if row is None:
        if fetch.on:
            begun = work.now.isoformat() if fetch.since_parameter and fetch.since_form != "id" else ""
            fetches.start(work.connection, source_id, due_at=work.now, position=Position(begun).plain())
        return
    position = Position.of(row.position)
    other = was is not None and ("id" in (was.since_form, fetch.since_form)) and was.since_form != fetch.since_form
    other = other or (was is not None and moved(was.url, fetch.url))
    since = "" if other and fetch.since_form == "id" else work.now.isoformat() if other else position.since
    fetches.change(
        work.connection,
        source_id,
        position=Position(since).plain(),
        due_at=work.now if fetch.on else row.due_at,
        held_until=None,  # whoever fetches just now does so as it was set up before, and stores no more of it
        problem="",
        failures=0,
    )


def fetch_now(work: Work, key: str) -> None:
    """Has a source fetched at once. Raises Invalid where it is off."""
    fetch = current(work, key).fetch
    if fetch is None or not fetch.on:
        raise Invalid([Problem("on", "Fetching is off.", "Switch it on first.")])
    fetches.start(work.connection, work.live.source_ids[key], due_at=work.now, failures=0)
    work.record("fetched at once", "source", key)


def fetch_from(work: Work, key: str, since: str) -> None:
    """Begins again from a day (`2026-11-30`, its midnight in the shop's zone) or an id; empty: from the beginning. What
    is known and unchanged is no news again. Raises Invalid.
    """
    fetch = current(work, key).fetch
    if fetch is None:
        raise Invalid([Problem("since", "Nothing is set up to be fetched.", "Save how orders are fetched first.")])
    if since and fetch.since_form != "id":
        try:
            day = dt.date.fromisoformat(since)
        except ValueError:
            raise Invalid([Problem("since", f"“{since[:40]}” is no day.", "Write it like 2026-11-30.")]) from None
        if day > work.now.date() + dt.timedelta(days=1):
            raise Invalid([Problem("since", "This day is yet to come.", "Choose one that is past.")])
        midnight = dt.datetime.combine(day, dt.time(), ZoneInfo(work.live.setup.store.timezone))
        since = midnight.astimezone(dt.UTC).isoformat()
    source_id = work.live.source_ids[key]
    fetches.start(
        work.connection, source_id, due_at=work.now, position=Position(since[:200]).plain(), problem="", held_until=None
    )
    work.record("fetched again from", "source", key, None, {"since": since})
