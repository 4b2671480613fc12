"""Fetching a store's orders page by page: which address is next, what a page holds, how far it is known. Pure.

A *pass* is one run over all pages from one starting point. Where it begins (`since`) moves on only when a pass is
through, so that whatever interrupts one, nothing is left out; what comes again unchanged is no news (`news_of`).
"""

from __future__ import annotations

import datetime as dt
import email.utils
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import parse_qsl, urlencode, urljoin, urlsplit, urlunsplit

import orjson

from angelon.core.calls import authorization
from angelon.core.deliveries import locate
from angelon.core.payload.paths import MISSING, BadPath, compile_path, list_at
from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.coerce import epoch
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.recipes.evaluate import evaluate
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.origins import origin
from angelon.core.specs.source import Source
from angelon.core.specs.variable import Recipe, Type

MOST_PAGES = 5000
"""Pages of one pass; a store that has more than these goes in circles."""
MOST_PASSES = 4
"""How often pages by number are gone through until a pass brings nothing new."""


@dataclass(frozen=True, slots=True)
class Position:
    """How far a source is fetched, as it is stored between two requests."""

    since: str = ""
    """The newest time (ISO 8601, UTC) or id of the last pass that was gone through; empty: from the beginning."""
    highest: str = ""
    """The newest of this pass so far."""
    page: str = ""
    """The next page of this pass: an address, a cursor, a number; empty for the first."""
    pages: int = 0
    passes: int = 0
    new: bool = False
    """Whether this pass brought something new so far."""
    began: str = ""
    """When the store answered first in this pass, by its clock (ISO 8601, UTC)."""

    def plain(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__slots__}

    @classmethod
    def of(cls, plain: Mapping[str, Any] | None) -> Position:
        return cls(**{name: value for name, value in (plain or {}).items() if name in cls.__slots__})


@dataclass(frozen=True, slots=True)
class Page:
    """What one answer holds."""

    items: Sequence[Any]
    next: str = ""
    """Where the next page is, as `Position.page`; empty where this is the last."""
    highest: str = ""
    without_time: int = 0
    """Orders with no time or id where one is looked for."""
    answered: str = ""
    """When the store answered, by its clock (ISO 8601, UTC)."""


@dataclass(frozen=True, slots=True)
class Item:
    """One order of a page, as it is compared with what was known."""

    payload: Any
    body: bytes
    """Its JSON, keys sorted."""
    key: str
    """A digest of what the order is called; of the whole where nothing says."""
    digest: str
    at: str = field(default="")
    """When the store changed it (ISO 8601, UTC); empty where it does not say."""


def request_of(fetch: Fetch, position: Position, secret: str = "") -> tuple[str, dict[str, str]]:
    """The address and headers of the next request. Raises Invalid where credentials are missing."""
    if fetch.auth.scheme != "none" and not secret:
        word = "password" if fetch.auth.scheme == "basic" else "token"
        raise Invalid([Problem("secret", f"There is no {word} yet.", "Type it where fetching is set up.")])
    headers = {"Accept": "application/json", **authorization(fetch.auth, secret)}
    if position.page and (fetch.pages == "link" or "://" in position.page):
        return position.page, headers
    parts = urlsplit(fetch.url)
    query = [(name, value) for name, value in parse_qsl(parts.query, keep_blank_values=True)]
    if fetch.since_parameter and position.since:
        query.append((fetch.since_parameter, since_text(fetch, position.since)))
    if fetch.pages == "number":
        query.append((fetch.page_parameter, position.page or str(fetch.first_page)))
    elif fetch.pages == "cursor" and position.page:
        query.append((fetch.page_parameter, position.page))
    return urlunsplit((parts.scheme, parts.netloc, parts.path, urlencode(query), "")), headers


def since_text(fetch: Fetch, since: str) -> str:
    """The newest time or id as the store takes it; a time goes back by the overlap."""
    if fetch.since_form == "id":
        return since
    at = dt.datetime.fromisoformat(since) - dt.timedelta(seconds=fetch.overlap_seconds)
    if fetch.since_form == "unix":
        return str(int(at.timestamp()))
    return at.date().isoformat() if fetch.since_form == "date" else f"{at.replace(tzinfo=None).isoformat()}Z"


def read_page(
    fetch: Fetch,
    position: Position,
    url: str,
    body: bytes,
    headers: Mapping[str, str],
    now: dt.datetime,
    link: str = "",
) -> Page:
    """An answer as a page. `headers` has lower-case names, `now` is aware, `link` is the next page's address by the
    Link header. Raises Invalid.
    """
    try:
        payload = orjson.loads(body)
    except orjson.JSONDecodeError as error:
        start = body[:60].decode("utf-8", "replace").strip()
        hint = f"It begins “{start}”. Check the address and the credentials."
        raise Invalid([Problem("url", f"The answer is not JSON: {error}.", hint)]) from None
    items = list_at(fetch.items_at, payload, "the answer")
    answered = min(_date(headers) or now, now)
    latest = min(answered + dt.timedelta(seconds=1), now)
    told = [_mark(fetch, item) for item in items] if fetch.since_at else []
    marks = [mark for mark in told if mark and (fetch.since_form == "id" or _moment(mark) <= latest)]
    following = _next(fetch, position, url, payload, link, items)
    return Page(items, following, _highest(fetch, marks), sum(not m for m in told), answered.isoformat())


def _at(path: str, payload: Any) -> Any:
    try:
        return compile_path(path).find(payload)
    except BadPath:
        return MISSING


def _date(headers: Mapping[str, str]) -> dt.datetime | None:
    """When the store answered by its own clock (RFC 9110, section 6.6.1): what claims to be later is a mistake, which
    must not have all that follows left out.
    """
    try:
        at = email.utils.parsedate_to_datetime(headers.get("date", ""))
    except ValueError:
        return None
    return at.replace(tzinfo=at.tzinfo or dt.UTC).astimezone(dt.UTC)


def _mark(fetch: Fetch, item: Any) -> str:
    """The time (ISO 8601, UTC) or id of an order; empty where there is none."""
    found = _at(fetch.since_at, item)
    if found is MISSING or found is None or isinstance(found, bool | dict | list):
        return ""
    if fetch.since_form == "id":
        return str(found)[:200]
    try:
        at = epoch(float(found)) if isinstance(found, int | float) or str(found).isdigit() else _written(str(found))
    except (ValueError, OverflowError, StepFailed):
        return ""
    return at.astimezone(dt.UTC).isoformat()


def _written(text: str) -> dt.datetime:
    at = dt.datetime.fromisoformat(text.strip())
    return at if at.tzinfo else at.replace(tzinfo=dt.UTC)


def _moment(mark: str) -> dt.datetime:
    return dt.datetime.fromisoformat(mark)


def _highest(fetch: Fetch, marks: Sequence[str]) -> str:
    """The newest of these; numbers count as numbers, other ids as the store orders them: the last one is the newest."""
    if not marks:
        return ""
    if fetch.since_form != "id":
        return max(marks, key=_moment)
    return max(marks, key=int) if all(mark.isdigit() and len(mark) < 40 for mark in marks) else marks[-1]


def _next(fetch: Fetch, position: Position, url: str, payload: Any, link: str, items: Sequence[Any]) -> str:
    """Where the next page is. Raises Invalid where it is at somebody else's, who must not see the credentials, or is
    this one again.
    """
    if fetch.pages == "number":
        return str(int(position.page or fetch.first_page) + 1) if items else ""
    if fetch.pages == "link":
        found: Any = urljoin(url, link) if link else ""
    elif fetch.pages == "cursor":
        found = _at(fetch.next_at, payload)
        found = str(found) if isinstance(found, str | int) and not isinstance(found, bool) and found != "" else ""
    else:
        return ""
    if "://" in found and origin(found) != origin(fetch.url):
        what = f"The next page is at {origin(found)}, and the credentials are for {origin(fetch.url)}."
        raise Invalid([Problem("pages", what, "Ask the store for an address that stays at one host.")])
    if found and found == position.page:
        raise Invalid([Problem("pages", "The answer names itself as the next page.", "Check how pages follow.")])
    return str(found)


def after(fetch: Fetch, position: Position, page: Page, new: bool) -> tuple[Position, bool]:
    """Where fetching stands after a page, of which something was `new` or not; and whether the pass is through.

    Pages by number shift when an order moves while they are read, and one may be passed over: such a pass begins anew
    from the same point until one brings nothing new. What is read may change again within the second of its last
    change, and has the same time then: the next pass goes on from where this one began. Raises Invalid for pages
    without end.
    """
    moved = replace(
        position,
        highest=_highest(fetch, [mark for mark in (position.highest, page.highest) if mark]),
        pages=position.pages + 1,
        new=position.new or new,
        began=position.began or page.answered,
    )
    if page.next:
        if moved.pages >= MOST_PAGES:
            what = f"There are more than {MOST_PAGES:,} pages: the store seems to go in circles."
            raise Invalid([Problem("pages", what, "Check how pages follow; what came so far is kept.")])
        return replace(moved, page=page.next), False
    if fetch.pages == "number" and moved.pages > 2 and moved.new:
        if moved.passes + 1 >= MOST_PASSES:  # it changes faster than it is read: from the same point, at the next time
            return Position(moved.since), True
        return Position(moved.since, moved.highest, passes=moved.passes + 1, began=moved.began), False
    marks = [mark for mark in (moved.since, moved.highest) if mark]
    newest = _highest(fetch, marks)
    if newest and moved.began and fetch.since_form != "id":
        newest = min(newest, moved.began, key=_moment)
        newest = max(newest, moved.since, key=_moment) if moved.since else newest
    return Position(newest), True


def items_of(source: Source, page: Sequence[Any], fetch: Fetch | None = None) -> list[Item]:
    """Orders as they are compared with what was known of them."""
    return [item_of(source, one, fetch) for one in page]


def item_of(source: Source, payload: Any, fetch: Fetch | None = None) -> Item:
    """An item of a list. One that names what happened is an event, and known by its own id, else by all that it says;
    any other says how an order is, and is known by what the order is called.
    """
    body = body_of(payload)
    digest = hashlib.sha256(body).hexdigest()[:32]
    event = source.tells == "events" and locate(source.event_name, {}, payload)
    name = locate(source.delivery_id, {}, payload) if event else called(source, payload)
    key = hashlib.sha256(name.encode("utf-8", "replace")).hexdigest()[:32] if name else digest
    at = _mark(fetch, payload) if fetch is not None and fetch.since_at and fetch.since_form != "id" else ""
    return Item(payload, body, key, digest, at)


def body_of(payload: Any) -> bytes:
    """An order as JSON, keys sorted."""
    try:
        return orjson.dumps(payload, option=orjson.OPT_SORT_KEYS | orjson.OPT_NON_STR_KEYS, default=str)
    except TypeError:  # a number over 64 bits, half a surrogate
        return json.dumps(payload, sort_keys=True, default=str).encode("utf-8", "replace")


def called(source: Source, payload: Any) -> str:
    """What an order is called by its mapping; empty where that is not mapped, or has no value."""
    for part in ("reference", "number"):
        recipe: Recipe | None = source.reading.get(part)
        if recipe is not None:
            found = evaluate(recipe, Type.TEXT, Context(payload, shared=source.shared_steps), f"reading.{part}")
            if found.value is not None:
                return str(found.value)
    return ""


def news_of(items: Sequence[Item], known: Mapping[str, tuple[str, str]]) -> list[Item]:
    """The items that say something new, in their order; `known` has (digest, time) by key. What an order said before it
    was changed again, read late, is none.
    """
    seen = dict(known)
    made = []
    for item in items:
        digest, at = seen.get(item.key, ("", ""))
        if digest == item.digest or (item.at and at and item.at < at):
            continue
        seen[item.key] = (item.digest, item.at)
        made.append(item)
    return made
