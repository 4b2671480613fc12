"""The pages of handlers: what is registered, what each call came to, a rehearsal on the sample event."""

from __future__ import annotations

import datetime as dt
from dataclasses import fields
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.db.log import inquiries
from angelon.db.setup import handlers as stored
from angelon.engine.arrivals.event_reader import event_of
from angelon.engine.handlers.about import as_plain
from angelon.engine.handlers.registry import key_for
from angelon.engine.operations import handlers as operations
from angelon.engine.operations import routes as route_operations
from angelon.handlers import Person
from angelon.handlers.wire import event_from
from angelon.web import sample_event as sample_events
from angelon.web.routes.sentence import known, rendered
from angelon.web.services import live, names, routes, services, session, work

pages = Blueprint("handlers", __name__, url_prefix="/handlers", template_folder="templates")

SPAN = dt.timedelta(days=30)


@pages.get("")
def index() -> Any:
    folder = stored.folder(session())
    return render_template(
        "handlers/index.html",
        folder=folder,
        setting=services().settings.handlers,
        rows=[(row, _told(folder, row.spec.handler)) for row in routes() if row.spec.handler],
        tallies=inquiries.tallies(session(), g.now - SPAN),
        names=names(),
    )


def _told(folder: Any, name: str) -> dict[str, Any] | None:
    """What the folder says of a handler; None where it is not in it."""
    return next((one for one in (folder.handlers if folder else None) or [] if one["name"] == name), None)


@pages.get("/<name>")
def show(name: str) -> Any:
    return _page(name)


def _page(name: str, tried: bool = False) -> Any:
    row = next((one for one in routes() if one.spec.handler == name), None)
    if row is None:
        abort(404, f"There is no handler “{name}”.")
    folder = stored.folder(session())
    told = _told(folder, name)
    sample = sample_events.select(live(), row.spec.sources, row.spec.when)
    found = _rehearse(row.spec, sample) if tried else None
    first = told["line"] if told else 1
    return render_template(
        "handlers/one.html",
        row=row,
        name=name,
        told=told,
        folder=folder,
        problems=[one for one in (folder.problems if folder else None) or []],
        lines=list(enumerate((told["source"] if told else "").splitlines(), first)),
        sample=sample,
        tried=found,
        shown=[(send, rendered(send, live())) for send in found.decision.sends] if found else [],
        tally=inquiries.tallies(session(), g.now - SPAN).get(name, inquiries.Tally()),
        runs=inquiries.calls(session(), name, 30),
        names=names(),
        can_run=services().handlers is not None,
        fields=_fields(sample),
    )


def _fields(sample: sample_events.SampleEvent) -> list[tuple[str, str]]:
    """Contents of the sample event, by the name that a handler's author writes, with its value."""
    if not sample.event or not sample.source or sample.reading is None or sample.variables is None:
        return []
    event = event_of(sample.event, sample.source, sample.payload)
    one = event_from(as_plain(event, sample.reading, sample.variables, 1))
    plain = [(f"event.{name}", getattr(one, name)) for name in ("type", "name", "source", "received_at", "was", "now")]
    person = [(f"event.person.{field.name}", getattr(one.person, field.name)) for field in fields(Person)]
    order = [(f"event.order.{name}", getattr(one.order, name)) for name in ("reference", "number", "status", "total")]
    parts = [(f'event.order.parts["{name}"]', value) for name, value in one.order.parts.items()]
    values = [(f'event.values["{name}"]', value) for name, value in one.values.items()]
    return [(place, repr(value)) for place, value in (*plain, *person, *order, *parts, *values)]


def _rehearse(route: Any, sample: sample_events.SampleEvent) -> operations.Tried | None:
    own = services().handlers
    if own is None or sample.event is None or sample.reading is None or sample.variables is None:
        return None
    facts = known(sample, [route], live())
    return operations.rehearse(
        session().connection(),
        live(),
        own,
        route,
        sample.event,
        sample.payload,
        sample.reading,
        sample.variables,
        facts,
    )


@pages.post("/<name>/rehearse")
def rehearse(name: str) -> Any:
    """Calls the handler on the sample event, and shows what would come of it."""
    return _page(name, tried=True)


@pages.post("/<name>/switch")
def switch(name: str) -> Any:
    """Switches a handler on from now, or off."""
    try:
        with work() as unit:
            if request.form.get("on") == "yes":
                route_operations.publish_and_switch_on(unit, key_for(name))
                told = "It is on: it is called for every event that comes in from now on."
            else:
                route_operations.switch_off(unit, key_for(name))
                told = "It is off. What it has scheduled still goes out."
        flash(told, "good")
    except Invalid as error:
        flash(f"Not switched on: {error.problems[0].said}", "bad")
    return redirect(url_for(".index") if request.form.get("back") == "list" else url_for(".show", name=name))
