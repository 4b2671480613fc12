"""The page on which it is said who hears of trouble with the installation, and what there is of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import Blueprint, flash, redirect, request, url_for

from angelon.core.access import ROLES
from angelon.core.alerts import LABELS, URGENT, Known, Telling, Trouble
from angelon.core.problems import Invalid, Problem
from angelon.db.upkeep import alerts as stored
from angelon.engine.followers.alerts import Alarm
from angelon.web.services import live, services, session, store_id
from angelon.web.settings.views import page_of, save_store

pages = Blueprint("alerts", __name__, url_prefix="/settings/alerts", template_folder="templates")
MOST_ALERTS = 50


@pages.get("")
def index() -> Any:
    return _alerts_page(live().setup.store.alerts.model_dump(mode="json"))


def _alerts_page(spec: dict[str, Any], problems: Sequence[Problem] = ()) -> Any:
    own = Alarm(services().installation, services().settings.home, services().settings.base_url)
    page = page_of(
        "alerts",
        problems,
        spec=spec,
        labels=LABELS,
        urgent=URGENT,
        roles=[role for role in ROLES if role != "viewer"],
        gateways=[one for one in live().setup.gateways.values() if one.kind in ("smtp", "sms")],
        systems=[one for one in live().setup.gateways.values() if one.kind == "call"],
        recipients=_everybody(own),
        listed=stored.listed(session(), store_id(), MOST_ALERTS),
        now_wrong=own.troubles(session(), live(), services().clock.now()),
    )
    return page, 422 if problems else 200


def _everybody(own: Alarm) -> list[str]:
    """Who is told: people, phones, and systems by the names of their gateways."""
    spec, gateways = live().setup.store.alerts, live().setup.gateways
    return [*own.recipients(live()), *spec.phones, *(gateways[key].name for key in spec.calls if key in gateways)]


@pages.post("")
def save() -> Any:
    """Who hears of trouble, when, and by which gateways; with `act` it is switched on or off as it is, or tried."""
    form, before = request.form, live().setup.store.alerts
    if form.get("act") in ("on", "off"):
        save_store({"alerts": {**before.model_dump(mode="json"), "on": form["act"] == "on"}}, (), "alerts")
        flash("Alerts are on." if form["act"] == "on" else "Alerts are off: no problem is reported.", "good")
        return redirect(url_for(".index"))
    if form.get("act") == "try":
        return _try_alerts()
    numbers = {name: form.get(name, "").strip() for name in ("gather_minutes", "backlog_minutes", "disk_percent")}
    spec = {
        "on": before.on,
        "roles": form.getlist("roles"),
        "emails": form.get("emails", "").replace(",", "\n").split(),
        "phones": form.get("phones", "").replace(",", "\n").splitlines(),
        "calls": form.getlist("calls"),
        "gateways": list(filter(None, form.getlist("gateways"))),
        "leave_out": [kind for kind in LABELS if kind not in form.getlist("tell")],
        **{name: form.get(name, "").strip() for name in ("quiet_from", "quiet_until", "heartbeat")},
        **{name: number or before.model_dump()[name] for name, number in numbers.items()},
    }
    try:
        save_store({"alerts": spec}, (), "alerts")
    except Invalid as error:
        if error.is_conflict:
            raise
        return _alerts_page(spec, error.problems)
    flash("Saved.", "good")
    return redirect(url_for(".index"))


def _try_alerts() -> Any:
    """Tells everybody who is told, by the same ways, as if it were urgent."""
    now = services().clock.now()
    one = Known(Trouble("backlog", "", "This is a test of alerts: nothing is wrong.", "/settings/alerts"), now)
    own = Alarm(services().installation, services().settings.home, services().settings.base_url)
    took = own.tell(live(), Telling((one,), ()), now)
    if took:
        flash(f"{' and '.join(took)} took it. It is on its way to {', '.join(_everybody(own))}.", "good")
    else:
        flash("No gateway took it, or no recipient is set. Try the gateways, and add an address.", "bad")
    return redirect(url_for(".index"))
