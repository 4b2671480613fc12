"""The pages of gateways."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.db import setup
from angelon.db.sends import gateway_states
from angelon.db.tables import GatewayRow
from angelon.web.services import live, services, session, store

pages = Blueprint("gateways", __name__, url_prefix="/gateways", template_folder="templates")


@pages.get("")
def index() -> Any:
    states = gateway_states(session(), store().id or 0, g.now - dt.timedelta(days=7))
    rows = [(gateway, states.get(live().gateway_ids[key], {})) for key, gateway in live().setup.gateways.items()]
    return render_template("gateways/index.html", rows=rows)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
    if not key:
        flash("Give the gateway a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    if key in live().setup.gateways:
        flash(f"There is a gateway called “{key}” already. Choose another name.", "bad")
        return redirect(url_for(".index"))
    address = live().setup.store.support_email or "shop@example.com"
    with services().database.writing() as writing:
        setup.save_plain(writing, GatewayRow, store().id or 0, read_spec(Gateway, {"key": key, "name": name, "sender": {"address": address}}), g.now)
    services().setups.forget()
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    return _page(_gateway(key), [], {})


def _gateway(key: str) -> Gateway:
    found = live().setup.gateways.get(key)
    if found is None:
        abort(404, f"There is no gateway “{key}”.")
    return found


def _page(gateway: Gateway, problems: list[Any], given: dict[str, str]) -> str:
    secrets = services().vault.get(session(), "gateway", live().gateway_ids[gateway.key], g.now)
    return render_template("gateways/edit.html", gateway=gateway, problems=problems, given=given, has_password=bool(secrets))


@pages.post("/<key>")
def save(key: str) -> Any:
    gateway = _gateway(key)
    form = request.form
    spec = gateway.model_dump(mode="json")
    for name in ("name", "host", "port", "tls", "username", "timeout_seconds"):
        spec[name] = form.get(name, spec[name])
    spec["sender"] = {name: form.get(f"sender.{name}", "") for name in ("address", "name", "reply_to")}
    spec["retry"] = {name: form.get(f"retry.{name}", value) for name, value in spec["retry"].items()}
    try:
        made = read_spec(Gateway, spec)
    except Invalid as error:
        return _page(gateway, error.problems, dict(form)), 422
    with services().database.writing() as writing:
        row = setup.save_plain(writing, GatewayRow, store().id or 0, made, g.now)
        if form.get("password"):
            services().vault.put(writing, "gateway", row.id, form["password"], g.now)
    services().setups.forget()
    flash("Saved. The next try uses it.", "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/pause")
def pause(key: str) -> Any:
    """Pauses, so that due sends are held; or goes on, and releases what was held for it."""
    gateway = _gateway(key).model_copy(update={"paused": request.form.get("paused") == "yes"})
    with services().database.writing() as writing:
        row = setup.save_plain(writing, GatewayRow, store().id or 0, gateway, g.now)
        released = 0 if gateway.paused else setup.release_paused(writing, row.id, f"{gateway.name} is paused.", services().clock.now())
    services().setups.forget()
    services().bell.ring()
    flash("Paused: what is due is held." if gateway.paused else f"It runs again. {released} held sends were released.", "good")
    return redirect(url_for(".edit", key=key))
