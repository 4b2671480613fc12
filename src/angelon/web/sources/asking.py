"""What a source asks elsewhere about its deliveries: set up, and tried with the event in hand."""

from __future__ import annotations

import json
from typing import Any

from flask import flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.core.specs import Source, Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.enrichment import Enrichment
from angelon.db import answers, setup
from angelon.db.tables import SourceRow
from angelon.engine.enriching import ask
from angelon.web import hand as hands
from angelon.web.numbers import whole
from angelon.web.services import live, services, session, store

SHOWN = 20_000


def page(source: Source, source_id: int, given: dict[str, Any] | None = None, problems: list[Any] | None = None) -> Any:
    """The page of what is asked; `given` is a form that could not be kept."""
    hand = hands.take(live(), [source.key])
    asked = answers.all_of(session().connection(), hand.event.parent_id or hand.event.id) if hand.event else []
    trying = request.args.get("try", "")
    one = next((one for one in source.enrichments if one.name == trying), None)
    tried = None
    if one is not None and hand.reading is not None:
        url, value, problem, _ = ask(live(), one, hand.reading.context)
        tried = {
            "name": one.name,
            "url": url,
            "value": json.dumps(value, ensure_ascii=False, indent=2)[:SHOWN],
            "problem": problem,
        }
    changed = given or _form(next((one for one in source.enrichments if one.name == request.args.get("open")), None))
    names = sorted({*source.event_names})
    return render_template(
        "sources/ask.html",
        source=source,
        hand=hand,
        asked={row.name: row for row in asked},
        tried=tried,
        given=changed,
        names=names,
        problems=problems or [],
        allowed=", ".join(live().setup.store.private_hosts),
        latest=hands.recent_of(source_id),
    )


def _form(one: Enrichment | None) -> dict[str, Any]:
    if one is None:
        return {
            "name": "",
            "url": "",
            "parameters": "",
            "format": "json",
            "events": [],
            "timeout_seconds": 5,
            "max_kb": 500,
            "was": "",
        }
    lines = [f"{name} = {recipe.path}" for name, recipe in one.parameters.items()]
    return {
        "name": one.name,
        "url": one.url,
        "parameters": "\n".join(lines),
        "format": one.format,
        "events": one.events,
        "timeout_seconds": one.timeout_seconds,
        "max_kb": one.max_bytes // 1000,
        "was": one.name,
    }


def save(source: Source, source_id: int) -> Any:
    """Keeps an enrichment, new or changed."""
    form = request.form
    given = {
        name: form.get(name, "") for name in ("name", "url", "parameters", "format", "timeout_seconds", "max_kb", "was")
    } | {"events": form.getlist("events")}
    parameters: dict[str, Any] = {}
    for line in given["parameters"].splitlines():
        name, sign, path = line.partition("=")
        if line.strip():
            parameters[name.strip()] = path.strip() if sign else ""
    kept = next((one for one in source.enrichments if one.name == given["was"]), None)
    spec = (kept.model_dump(mode="json") if kept else {}) | {
        "name": given["name"],
        "url": given["url"],
        "parameters": parameters,
        "format": given["format"] or "json",
        "events": given["events"],
        "timeout_seconds": given["timeout_seconds"] or 5,
        "max_bytes": (whole(given["max_kb"], 1_000_000) or 500) * 1000,
    }
    try:
        made = read_spec(Enrichment, spec)
        others = [one for one in source.enrichments if one.name != given["was"]]
        changed = read_spec(
            Source,
            source.model_dump(mode="json")
            | {"enrichments": [*(one.model_dump(mode="json") for one in others), made.model_dump(mode="json")]},
        )
    except Invalid as error:
        return page(source, source_id, given, error.problems), 422
    with services().database.writing() as writing:
        setup.save_plain(writing, SourceRow, store().id or 0, changed, g.now)
    services().setups.forget()
    flash("Kept. It is asked for every delivery from now on; try it with the event in hand.", "good")
    return redirect(url_for(".asked", key=source.key, **{"try": made.name}))


def drop(source: Source) -> Any:
    left = [one for one in source.enrichments if one.name != request.form.get("name")]
    with services().database.writing() as writing:
        setup.save_plain(writing, SourceRow, store().id or 0, source.model_copy(update={"enrichments": left}), g.now)
    services().setups.forget()
    flash("It is asked no more. Recipes that look under its root find nothing in new deliveries.", "good")
    return redirect(url_for(".asked", key=source.key))


def allow(source: Source) -> Any:
    """The hosts inside the house that may be asked."""
    hosts = [host.strip() for host in request.form.get("hosts", "").split(",") if host.strip()]
    try:
        made = read_spec(Store, {**store().spec, "private_hosts": hosts})
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".asked", key=source.key))
    with services().database.writing() as writing:
        setup.save_store(writing, store().id or 0, made)
    services().setups.forget()
    flash("Kept.", "good")
    return redirect(url_for(".asked", key=source.key))
