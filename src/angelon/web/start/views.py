"""The first page of an empty installation."""

from __future__ import annotations

from typing import Any

from babel.numbers import list_currencies
from flask import Blueprint, flash, redirect, render_template, request, url_for

from angelon.core.countries import countries, languages
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.db import specs
from angelon.engine.operations import first_store
from angelon.web.forms import CODE, TEXT, Spelling, filled
from angelon.web.services import actor, services, session

pages = Blueprint("start", __name__, url_prefix="/start", template_folder="templates")

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


def _page(spec: dict[str, Any], problems: list[Problem] | None = None) -> str:
    return render_template(
        "start/start.html",
        spec=spec,
        problems=problems or [],
        countries=countries(),
        languages=languages(),
        currencies=sorted(list_currencies()),
        zones=sorted({zone for country in countries() for zone in country.zones} | {"UTC"}),
    )


@pages.post("")
def create() -> Any:
    """Creates the store, and goes on to the overview, which leads on."""
    spec, problems = filled(request.form, _BLANK, _FIELDS)
    spec["key"] = key_of(str(spec["name"])) or "shop"
    try:
        if not str(spec["name"]).strip():
            raise Invalid([Problem("name", "The shop has no name yet.", "Write what customers call it.")])
        if problems:
            raise Invalid(problems)
        first_store.create(services().installation, read_spec(Store, spec), actor())
    except Invalid as error:
        return _page(spec, error.problems), 422
    flash("The shop is there. The steps below lead to its first mail.", "good")
    return redirect(url_for("overview.index"))
