"""What a source asks elsewhere about its deliveries: set up, and tried with the sample event."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import urlencode

from flask import flash, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.enrichment import Enrichment
from angelon.db import answers
from angelon.engine.enrichments import ask
from angelon.engine.operations import sources as operations
from angelon.engine.operations import store as store_operations
from angelon.web import sample_event as sample_events
from angelon.web.numbers import whole
from angelon.web.services import live, session, work

SHOWN = 20_000


def page(source: Source, source_id: int, given: dict[str, Any] | None = None, problems: list[Any] | None = None) -> Any:
    """The page of what is asked; `given` is a form that could not be kept."""
    sample = sample_events.select(live(), [source.key])
    asked = answers.all_of(session().connection(), sample.event.parent_id or sample.event.id) if sample.event else []
    trying = request.args.get("try", "")
    one = next((one for one in source.enrichments if one.name == trying), None)
    tried = None
    if one is not None and sample.reading is not None:
        url, value, problem, _ = ask(live(), one, sample.reading.context)
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
        sample=sample,
        asked={row.name: row for row in asked},
        tried=tried,
        given=changed,
        names=names,
        problems=problems or [],
        allowed=", ".join(live().setup.store.private_hosts),
        latest=sample_events.recent_of(source_id),
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
    fields = ("name", "url", "parameters", "format", "timeout_seconds", "max_kb", "was")
    given: dict[str, Any] = {name: form.get(name, "") for name in fields} | {"events": form.getlist("events")}
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
        with work() as unit:
            operations.save_look_up(unit, source.key, made, given["was"])
    except Invalid as error:
        return page(source, source_id, given, error.problems), 422
    flash("Saved. It is asked for every delivery from now on; try it with the sample event.", "good")
    return redirect(f"{url_for('.asked', key=source.key)}?{urlencode({'try': made.name})}")


def remove(source: Source) -> Any:
    with work() as unit:
        operations.remove_look_up(unit, source.key, request.form.get("name", ""))
    flash("It is asked no more. Recipes that look under its root find nothing in new deliveries.", "good")
    return redirect(url_for(".asked", key=source.key))


def allow(source: Source) -> Any:
    """The hosts inside the house that may be asked."""
    hosts = [host.strip() for host in request.form.get("hosts", "").split(",") if host.strip()]
    try:
        with work() as unit:
            store_operations.change(unit, {"private_hosts": hosts}, None, "hosts")
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".asked", key=source.key))
    flash("Saved.", "good")
    return redirect(url_for(".asked", key=source.key))
