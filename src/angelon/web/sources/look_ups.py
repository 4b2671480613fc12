"""What a source asks elsewhere about its deliveries: set up, and tried with the sample event."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlencode

from flask import flash, g, redirect, render_template, request, url_for

from angelon.core import curl_commands
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.enrichment import Enrichment
from angelon.db.log import inquiries
from angelon.engine.asking.addresses import ask, secret_kind, secret_of
from angelon.engine.operations import look_ups as operations
from angelon.engine.operations import store as store_operations
from angelon.web import sample_event as sample_events
from angelon.web.forms import TEXT, Spelling, filled
from angelon.web.numbers import whole
from angelon.web.services import live, services, session, work, work_or_back
from angelon.web.sources.documentation import filled_in

SHOWN = 20_000


def page(
    source: Source,
    source_id: int,
    spec: dict[str, Any] | None = None,
    problems: Sequence[Problem] = (),
    was: str = "",
    **shown: Any,
) -> Any:
    """The page of what is asked; `spec` is what was typed where it could not be saved, for a look-up that was named
    `was`; `shown` is what the part about the documentation shows.
    """
    sample = sample_events.select(live(), [source.key])
    root = (sample.event.parent_id or sample.event.id) if sample.event else ""
    asked = inquiries.of_event(session().connection(), root, inquiries.LOOK_UP)
    trying = request.args.get("try", "")
    one = _named(source, trying)
    tried = None
    if one is not None and sample.reading is not None:
        secret = secret_of(services().vault, session(), source_id, one, g.now)
        url, value, problem, _ = ask(live(), one, sample.reading.context, secret)
        tried = {
            "name": one.name,
            "method": one.method,
            "url": url,
            "value": json.dumps(value, ensure_ascii=False, indent=2)[:SHOWN],
            "problem": problem,
        }
    opened = _named(source, request.args.get("open", ""))
    was = was or (opened.name if opened else "")
    spec = spec or (opened or _BLANK).model_dump(mode="json")
    names = sorted({*source.event_names})
    return render_template(
        "sources/ask.html",
        source=source,
        sample=sample,
        asked={row.name: row for row in asked},
        tried=tried,
        spec=spec,
        was=was,
        names=names,
        problems=problems,
        allowed=", ".join(live().setup.store.private_hosts),
        has_secret=bool(was and services().vault.get(session(), secret_kind(was), source_id, g.now)),
        latest=sample_events.recent_of(source_id),
        **shown,
    )


def from_documentation(source: Source, source_id: int) -> Any:
    """Fills the form with what a command or an operation says; nothing is saved yet."""

    def filled_page(typed: dict[str, Any], **shown: Any) -> Any:
        spec = _BLANK.model_dump(mode="json")
        spec |= typed | {"auth": spec["auth"] | typed.get("auth", {})}
        return page(source, source_id, spec, **shown)

    return filled_in(filled_page, curl_commands.looked_up, ("GET", "POST"))


def _named(source: Source, name: str) -> Enrichment | None:
    return next((one for one in source.enrichments if one.name == name), None)


def _parameters(text: str) -> dict[str, Any]:
    """A parameter a line: `name = $.path`, or a fixed value, in quotes or not."""
    made: dict[str, Any] = {}
    for line in text.splitlines():
        name, sign, value = (piece.strip() for piece in line.partition("="))
        if not line.strip():
            continue
        if not sign or not value:
            raise ValueError(f"“{line.strip()[:40]}” has no value.\nWrite number = $.reference, or kind = full.")
        fixed = value[1:-1] if len(value) > 1 and value[0] == value[-1] == '"' else value
        made[name] = value if value.startswith("$") else {"default": fixed}
    return made


def _with_steps(parameters: dict[str, Any], was: Enrichment | None) -> dict[str, Any]:
    """Parameters as typed; one whose path stays keeps what else its recipe holds, which the form does not show."""
    if was is None:
        return parameters
    kept = {name: recipe for name, recipe in was.parameters.items() if recipe.path}
    return {
        name: kept[name].model_dump(mode="json") if name in kept and value == kept[name].path else value
        for name, value in parameters.items()
    }


def kilobytes(text: str) -> int:
    number = whole(text, 1_000_000)
    if number is None:
        raise ValueError(f"“{text.strip()[:40]}” is no number of kilobytes.\nWrite it like 500.")
    return number * 1000


_BLANK = Enrichment(name="new", url="https://shop.example/").model_copy(update={"name": "", "url": ""})
_FIELDS: dict[str, Spelling] = {
    **dict.fromkeys(("name", "method", "url", "format", "timeout_seconds"), TEXT),
    **dict.fromkeys(("body", "auth.scheme", "auth.username", "auth.header"), TEXT),
    "parameters": Spelling(_parameters, str),
    "max_bytes": Spelling(kilobytes, str),
}


def save(source: Source, source_id: int) -> Any:
    """Keeps an enrichment, new or changed."""
    form = request.form
    was = form.get("was", "")
    spec, unread = filled(form, _named(source, was) or _BLANK, _FIELDS)
    spec["events"] = form.getlist("events")
    if isinstance(spec.get("parameters"), dict):
        spec["parameters"] = _with_steps(spec["parameters"], _named(source, was))
    try:
        if unread:
            raise Invalid(unread)
        made = read_spec(Enrichment, spec)
        with work() as unit:
            operations.save(unit, source.key, made, was, form.get("secret", "").strip())
    except Invalid as error:
        return page(source, source_id, spec, error.problems, was), 422
    flash("Saved. It is asked for every delivery from now on; try it with the sample event.", "good")
    return redirect(f"{url_for('.asked', key=source.key)}?{urlencode({'try': made.name})}")


def remove(source: Source) -> Any:
    with work() as unit:
        operations.remove(unit, source.key, request.form.get("name", ""))
    flash("It is asked no more. Recipes that look under its root find nothing in new deliveries.", "good")
    return redirect(url_for(".asked", key=source.key))


def allow(source: Source) -> Any:
    """The hosts that may be asked although their addresses are private."""
    hosts = [host.strip() for host in request.form.get("hosts", "").split(",") if host.strip()]
    with work_or_back(url_for(".asked", key=source.key)) as unit:
        store_operations.change(unit, {"private_hosts": hosts}, None, "hosts")
    flash("Saved.", "good")
    return redirect(url_for(".asked", key=source.key))
