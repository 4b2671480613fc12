"""The grid: every moment of an order's life by every channel, switched on at once, each with a text to begin with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import flash, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.problems import Invalid
from angelon.core.specs import Variable
from angelon.core.specs.base import read_spec
from angelon.engine.operations import messages as message_operations
from angelon.engine.operations import routes as route_operations
from angelon.engine.operations import stages
from angelon.engine.operations import store as store_operations
from angelon.engine.operations.checks import ChecksFailed
from angelon.web.messages import starters
from angelon.web.messages.views import samples_for
from angelon.web.services import live, mapped_variables, messages, routes, work, work_or_back

CHANNELS = ("email", "sms", "chat")
MOMENTS = (*event_types.LINE, *((type_, label) for type_, label, _ in event_types.SIDINGS))
NOT_NEWS = frozenset({"how-it-went", "please-confirm", "owner-new-order"})
"""Starters that begin with a moment and do not tell the customer of it."""


@dataclass(frozen=True, slots=True)
class Cell:
    """One moment by one channel: what speaks there, or what would."""

    type: str
    channel: str
    route: str = ""
    on: bool = False
    message: str = ""
    """The message that would be sent, by its key; empty for a new one."""
    text: str = ""
    """What that text is called; empty where there is none to begin with."""
    gateway: bool = True

    @property
    def value(self) -> str:
        return f"{self.type}|{self.channel}"


def cells() -> list[tuple[str, list[Cell]]]:
    """A row for each moment."""
    ways = {gateway.channel for gateway in live().setup.gateways.values()}
    return [(label, [_cell(type_, channel, channel in ways) for channel in CHANNELS]) for type_, label in MOMENTS]


def _cell(type_: str, channel: str, gateway: bool) -> Cell:
    for row in routes():
        if type_ in row.spec.when and row.spec.channel == channel and not row.spec.handler:
            return Cell(type_, channel, row.key, row.on)
    own = next((row for row in messages() if row.spec.tells_of == type_ and channel in row.spec.channels()), None)
    if own is not None:
        return Cell(type_, channel, message=own.key, text=own.spec.name, gateway=gateway)
    starter = starter_for(type_)
    return Cell(type_, channel, text=starter.name if starter else "", gateway=gateway)


def starter_for(type_: str) -> starters.Starter | None:
    """The starter that tells a customer of a moment."""
    return next((one for one in starters.STARTERS if one.event == type_ and one.key not in NOT_NEWS), None)


def page() -> Any:
    said = live().setup.store.said_elsewhere
    return render_template(
        "overview/grid.html",
        rows=cells(),
        channels=CHANNELS,
        labels=CHANNEL_LABELS,
        said=[(type_, label, said.get(type_, "")) for type_, label in MOMENTS],
    )


def save_said() -> Any:
    """What others send themselves at each moment."""
    known = {type_ for type_, _ in MOMENTS}
    typed = {type_: request.form.get(f"said.{type_}", "").strip()[:200] for type_ in known}
    others = {type_: text for type_, text in live().setup.store.said_elsewhere.items() if type_ not in known}
    said = others | {type_: text for type_, text in typed.items() if text}
    with work_or_back(url_for("overview.grid_page")) as unit:
        store_operations.change(unit, {"said_elsewhere": said}, None, "what others say")
    flash("Kept. The overview shows it, and where a route says the same.", "good")
    return redirect(url_for("overview.grid_page"))


def save() -> Any:
    """Sets up what was ticked, each by itself: what can't go live yet stays a draft, and is told."""
    by_value = {cell.value: cell for _, row in cells() for cell in row}
    chosen = [by_value[value] for value in request.form.getlist("cell") if value in by_value]
    if not chosen:
        flash("Nothing is ticked.", "bad")
        return redirect(url_for("overview.grid_page"))
    live_now, drafts = 0, []
    made: dict[str, str] = {}
    for cell in chosen:
        if cell.route:
            continue
        why = _switched_on(cell, made)
        live_now += not why
        if why:
            drafts.append(why)
    if live_now:
        flash(f"{live_now} {'route is' if live_now == 1 else 'routes are'} live now.", "good")
    for why in drafts[:6]:
        flash(why, "bad")
    return redirect(url_for("overview.grid_page"))


def _switched_on(cell: Cell, made: dict[str, str]) -> str:
    """Sets one cell up; gives why it is not live, empty where it is. `made` are messages that this has made already, by
    the event.
    """
    named = f"{event_types.label(cell.type)} by {CHANNEL_LABELS[cell.channel]}"
    found = starter_for(cell.type)
    starter = found.for_shop(mapped_variables()) if found else None
    shop = live().setup.store
    spec = starter.spec("new", starter.name, shop.locale, [shop.locale, *shop.locales]) if starter else None
    variables = [read_spec(Variable, variable) for variable in starter.variables] if starter else []
    try:
        with work() as unit:
            stage = stages.set_up(
                unit, cell.type, cell.channel, cell.message or made.get(cell.type, ""), spec, variables
            )
    except Invalid as error:
        return f"{named}: {error.problems[0].said}"
    if stage.new_message:
        made[cell.type] = stage.message
    try:
        if cell.channel not in _published(stage.message):
            samples = samples_for(stage.message)
            with work() as unit:
                message_operations.publish(unit, stage.message, samples, channels=[cell.channel])
        with work() as unit:
            route_operations.publish_and_switch_on(unit, stage.route)
    except ChecksFailed as error:
        return f"{named} is a draft: a check fails, “{error.outcomes[0].check.name}”."
    except Invalid as error:
        return f"{named} is a draft: {error.problems[0].said}"
    return ""


def _published(key: str) -> list[str]:
    """The channels of a message that are live."""
    found = live().setup.messages.get(key)
    return found.channels() if found is not None else []
