"""The first page of an empty installation, and the page on which another store is added."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for

from angelon.core.countries import countries, currencies, languages
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.db.setup import specs
from angelon.engine.operations import stores as operations
from angelon.web.forms import CODE, TEXT, Spelling, filled
from angelon.web.services import actor, services, session
from angelon.web.stores import PREFIX

pages = Blueprint("start", __name__, url_prefix="/start", template_folder="templates")
others = Blueprint("stores", __name__, url_prefix="/stores", template_folder="templates")

_BLANK = Store(key="shop", name="shop", timezone="UTC")
_FIELDS: dict[str, Spelling] = {
    **dict.fromkeys(("name", "locale", "timezone", "support_email"), TEXT),
    "currency": CODE,
    "country": CODE,
}


@pages.get("")
def show() -> Any:
    if specs.stores(session()):
        return redirect(url_for("overview.index"))
    return _page(_BLANK.model_dump(mode="json") | {"name": ""})


def _page(
    spec: dict[str, Any], problems: list[Problem] | None = None, template: str = "start/start.html", **more: Any
) -> str:
    return render_template(
        template,
        **more,
        spec=spec,
        problems=problems or [],
        countries=countries(),
        languages=languages(),
        currencies=currencies(),
        zones=sorted({zone for country in countries() for zone in country.zones} | {"UTC"}),
    )


@pages.post("")
def create() -> Any:
    """Creates the store, and goes on to the overview, which leads on."""
    spec, problems = filled(request.form, _BLANK, _FIELDS)
    spec["key"] = key_of(str(spec["name"])) or "shop"
    if specs.stores(session()):
        return redirect(url_for("stores.index"))
    problem = _create(spec, problems)
    if problem is not None:
        return _page(spec, problem), 422
    flash("The shop is there. The steps below lead to its first mail.", "good")
    return redirect(url_for("overview.index"))


def _create(spec: dict[str, Any], problems: list[Problem]) -> list[Problem] | None:
    """Creates a store; gives what keeps it from being."""
    try:
        if not str(spec["name"]).strip():
            raise Invalid([Problem("name", "The shop has no name yet.", "Write what customers call it.")])
        if problems:
            raise Invalid(problems)
        operations.create(services().installation, read_spec(Store, spec), actor())
    except Invalid as error:
        return list(error.problems)
    return None


@others.get("")
def index() -> Any:
    """Every store, and a form for another."""
    return _stores(_BLANK.model_dump(mode="json") | {"name": ""})


def _stores(spec: dict[str, Any], problems: list[Problem] | None = None) -> str:
    return _page(spec, problems, "start/stores.html", part="stores", rows=specs.stores(session()))


@others.post("")
def add() -> Any:
    """Creates a store beside those that are there, and opens it."""
    spec, problems = filled(request.form, _BLANK, _FIELDS)
    spec["key"] = key_of(str(spec["name"])) or "shop"
    problem = _create(spec, problems)
    if problem is not None:
        return _stores(spec, problem), 422
    flash(f"{spec['name']} is there, at an address of its own. The steps below lead to its first mail.", "good")
    return redirect(f"{PREFIX}{spec['key']}/")
