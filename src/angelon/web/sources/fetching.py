"""How a source's orders are fetched: set up, tried, switched on; what the last passes brought."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Sequence
from typing import Any

from flask import flash, g, redirect, render_template, request, url_for

from angelon.core import curl_commands
from angelon.core.fetching import Position
from angelon.core.payload.redact import redacted
from angelon.core.payload.tree import Field
from angelon.core.payload.tree import fields as payload_fields
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.origins import moved
from angelon.db.log import events, fetches
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.fetching import Answer, request_page, secret_of
from angelon.engine.operations import fetching as operations
from angelon.engine.operations import sources as source_operations
from angelon.engine.unit import found
from angelon.web.conflicts import edits_seen
from angelon.web.forms import TEXT, Spelling, filled
from angelon.web.services import live, services, session, store_id, work, work_or_back
from angelon.web.sources.documentation import filled_in
from angelon.web.sources.look_ups import kilobytes

SHOWN = 12_000
SAMPLES = 3
BLANK = Fetch(url="https://shop.example/").model_copy(update={"url": ""})
FIELDS: dict[str, Spelling] = {
    **dict.fromkeys(("url", "items_at", "pages", "next_at", "page_parameter", "first_page"), TEXT),
    **dict.fromkeys(("since_parameter", "since_at", "since_form", "overlap_seconds"), TEXT),
    **dict.fromkeys(("every_minutes", "an_hour", "timeout_seconds"), TEXT),
    **dict.fromkeys(("auth.scheme", "auth.username", "auth.header"), TEXT),
    "max_bytes": Spelling(kilobytes, str),
}


def page(
    source: Source,
    source_id: int,
    spec: dict[str, Any] | None = None,
    problems: Sequence[Problem] = (),
    tried: Answer | None = None,
    made: Fetch | None = None,
    **shown: Any,
) -> Any:
    """The page; `spec` is what was typed where it is not saved, `tried` what the first request of `made` brought,
    `shown` what the part about the documentation shows.
    """
    state = fetches.of_sources(session().connection(), [source_id]).get(source_id)
    row = found(specs.by_key(session(), SourceRow, store_id(), source.key), "source")
    saved = source.fetch or BLANK
    first = tried.page.items[0] if tried is not None and tried.page is not None and tried.page.items else None
    return render_template(
        "sources/fetch.html",
        source=source,
        spec=spec or saved.model_dump(mode="json"),
        tells=request.form.get("tells", source.tells if source.fetch else "orders"),
        edits=request.form.get("edits", row.edits),
        state=state,
        position=Position.of(state.position) if state else Position(),
        since=_mark(Position.of(state.position).since, source.fetch) if state else "",
        highest=_mark(tried.page.highest, made) if tried is not None and tried.page is not None else "",
        passes=[_pass(one) for one in reversed(state.log or [])] if state else [],
        waits=bool(state and source.fetch and state.in_hour >= source.fetch.an_hour and state.due_at > g.now),
        problems=problems,
        tried=tried,
        first=json.dumps(redacted(first), ensure_ascii=False, indent=2)[:SHOWN] if first is not None else "",
        has_secret=bool(services().vault.get(session(), specs.FETCH, source_id, g.now)),
        latest=events.recent(session(), source_id, 1),
        answered=_answered(tried, first),
        **shown,
    )


def _answered(tried: Answer | None, first: Any) -> dict[str, list[Field]]:
    """The fields of an answer, and of its first order, of which paths are chosen."""
    whole = payload_fields(redacted(tried.payload), 40) if tried is not None and tried.payload is not None else []
    of_first = payload_fields(redacted(first), 80) if first is not None else []
    return {"whole": [one for one in whole if one.depth < 2], "first": of_first}


def from_documentation(source: Source, source_id: int) -> Any:
    """Fills the form with what a command or an operation says; nothing is saved yet."""

    def filled_page(typed: dict[str, Any], **shown: Any) -> Any:
        spec = (source.fetch or BLANK).model_dump(mode="json")
        spec |= typed | {"auth": spec["auth"] | typed.get("auth", {})}
        return page(source, source_id, spec, **shown)

    return filled_in(filled_page, curl_commands.fetched, ("GET",))


def _mark(text: str, fetch: Fetch | None) -> dt.datetime | str:
    """The newest time or id that was read; empty where there is none."""
    return dt.datetime.fromisoformat(text) if text and fetch and fetch.since_form != "id" else text


def _pass(entry: dict[str, Any]) -> dict[str, Any]:
    moments = {name: dt.datetime.fromisoformat(entry[name]) for name in ("at", "ended") if entry[name]}
    return entry | moments


def typed(source: Source) -> tuple[dict[str, Any], list[Problem]]:
    return filled(request.form, source.fetch or BLANK, FIELDS, switches=("on",))


def save(source: Source, source_id: int) -> Any:
    """Keeps what was typed, or only tries it."""
    spec, unread = typed(source)
    secret = request.form.get("secret", "").strip()
    try:
        if unread:
            raise Invalid(unread)
        trying = request.form.get("act") == "try"
        if trying and not spec["since_at"]:  # which the answer shows; the first request says nothing of it
            made = read_spec(Fetch, spec | {"since_parameter": ""})
        else:
            made = read_spec(Fetch, spec)
        if trying:
            return page(source, source_id, spec, (), _tried(source, source_id, made, secret), made)
        with work() as unit:
            operations.save(unit, source.key, made, request.form.get("tells", ""), secret, edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return page(source, source_id, spec, error.problems), 422
    on = "Its orders are fetched from now on." if made.on else "It is not switched on: nothing is fetched yet."
    flash(f"Saved. {on}", "good")
    return redirect(url_for(".fetched", key=source.key))


def _tried(source: Source, source_id: int, made: Fetch, secret: str) -> Answer:
    """What the first request brings, as it is typed. A kept secret goes to its own address alone."""
    if not secret and source.fetch is not None and not moved(source.fetch.url, made.url):
        secret = secret_of(services().vault, session(), source_id, source.fetch, g.now)
    return request_page(made, Position(), secret, live().setup.store.private_hosts, g.now)


def sample(source: Source, source_id: int) -> Any:
    """Keeps the first orders of the answer as samples, to be mapped."""
    if source.fetch is None:
        raise Invalid([Problem("url", "Nothing is set up to be fetched.", "Save how orders are fetched first.")])
    answer = _tried(source, source_id, source.fetch, "")
    if answer.page is None or not answer.page.items:
        flash(f"No order was kept. {answer.problem or 'The answer holds none.'} {answer.hint}".strip(), "bad")
        return redirect(url_for(".fetched", key=source.key))
    with work_or_back(url_for(".fetched", key=source.key), "Not kept") as unit:
        for one in answer.page.items[:SAMPLES]:
            body = json.dumps(one, ensure_ascii=False).encode("utf-8", "replace")
            id_ = source_operations.add_sample(unit, source.key, "", {"content-type": "application/json"}, body)
    flash("Kept as samples: nobody is written to about them. Say where the order's parts stand.", "good")
    return redirect(url_for("mappings.read", key=source.key, sample=id_))


def now(source: Source) -> Any:
    with work_or_back(url_for(".fetched", key=source.key)) as unit:
        operations.fetch_now(unit, source.key)
    flash("It is fetched now; what it brings is below in a moment.", "good")
    return redirect(url_for(".fetched", key=source.key))


def again(source: Source) -> Any:
    since = request.form.get("since", "").strip()
    with work_or_back(url_for(".fetched", key=source.key)) as unit:
        operations.fetch_from(unit, source.key, since)
    flash("It is fetched again from there. Orders that say nothing new make no event.", "good")
    return redirect(url_for(".fetched", key=source.key))
