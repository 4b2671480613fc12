"""From where a table is fetched: tried, saved, switched on, fetched at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from flask import flash, redirect, request, url_for

from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.fetch import TableFetch
from angelon.engine.arrivals import table_fetching
from angelon.engine.operations.shop_tables import CREDENTIALS, Changes, Content, compare
from angelon.gateways.fetching import CantFetch
from angelon.web.forms import TEXT, filled
from angelon.web.services import actor, read_anew, services, session, store_id, work

BLANK = TableFetch(url="https://shop.example/").model_copy(update={"url": "", "on": True})
FIELDS = dict.fromkeys(("url", "items_at", "every_hours", "auth.scheme", "auth.username", "auth.header"), TEXT)
FIRST_ROWS = 5


@dataclass(frozen=True)
class Tried:
    """What an address said, of what is typed; or why it said nothing."""

    problem: Problem | None = None
    content: Content | None = None
    changes: Changes | None = None

    @property
    def rows(self) -> list[list[str]]:
        return list(self.content.rows.values())[:FIRST_ROWS] if self.content else []


def shown(table: Any, spec: dict[str, Any] | None = None, problems: Sequence[Problem] = (), tried: Any = None) -> Any:
    """What the page needs to draw the form: what was typed, else what is kept."""
    kept = services().vault.get(session(), CREDENTIALS, table.id, services().clock.now())
    saved = table_fetching.fetch_of(table)
    return {
        "fetch": saved,
        "spec": spec or (saved or BLANK).model_dump(mode="json"),
        "seen": request.form.get("seen", table_fetching.mark_of(table)),
        "problems": problems,
        "tried": tried,
        "has_secret": bool(kept),
    }


def tried(table: Any, made: TableFetch, secret: str) -> Tried:
    try:
        content = table_fetching.request_content(services().installation, store_id(), table, made, secret)
        return Tried(content=content, changes=compare(session().connection(), table, content)[1])
    except Invalid as error:
        return Tried(error.problems[0])
    except CantFetch as error:
        return Tried(Problem("url", str(error)))


def save(table: Any, page: Any) -> Any:
    """Keeps what was typed, or only tries it; `page` draws it again."""
    spec, unread = filled(request.form, table_fetching.fetch_of(table) or BLANK, FIELDS, switches=("on",))
    secret = request.form.get("secret", "").strip()
    try:
        if unread:
            raise Invalid(unread)
        made = read_spec(TableFetch, spec)
        if request.form.get("act") == "try":
            return page(shown(table, spec, (), tried(table, made, secret)))
        with work() as unit:
            table_fetching.save(unit, table.key, made, secret, request.form.get("seen"))
    except Invalid as error:
        return page(shown(table, spec, error.problems)), 422
    flash(f"Saved. {'It is fetched within seconds.' if made.on else 'It is switched off.'}", "good")
    return redirect(url_for(".one", key=table.key))


def now(table: Any) -> Any:
    """Fetches it while whoever asks waits; with fewer rows or columns where that was accepted."""
    careful = request.form.get("less") != "yes"
    try:
        changes = table_fetching.fetch_table(services().installation, store_id(), table.key, actor(), careful)
    except Invalid as error:
        flash(error.problems[0].said, "bad")
    else:
        read_anew()
        flash(f"Fetched: {changes}." if changes else "Fetched: it says what it said before.", "good")
    return redirect(url_for(".one", key=table.key))
