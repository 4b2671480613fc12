"""How a shop's invoices are worked out: where it is registered, its rules, its goods and rates, its texts."""

from __future__ import annotations

import io
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, send_file, url_for

from angelon.core.countries import countries, country_name
from angelon.core.documents.rates import AS_OF, COLUMNS, KINDS, UNION, known_rates, read_rates
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.documents import Documents
from angelon.core.specs.keys import key_of
from angelon.engine.operations import documents as operations
from angelon.web.conflicts import edits_seen
from angelon.web.forms import LINES, TEXT, Spelling, filled, rows, with_text
from angelon.web.services import live, public_address, store, work

pages = Blueprint("document_settings", __name__, url_prefix="/documents/settings", template_folder="templates")
CHOICES = ("prices", "rounding", "postage")
SWITCHES = ("small_seller", "reverse_charge", "check_business", "export", "page", "on")
FIELDS: dict[str, Spelling] = {
    **dict.fromkeys(("home", *CHOICES, "check_url", "invoice_series", "credit_series"), TEXT),
    **dict.fromkeys(("page_days", "page_changes", "questions"), TEXT),
    **dict.fromkeys((f"seller.{name}" for name in ("name", "postcode", "city", "tax_id", "bank")), TEXT),
    "seller.lines": LINES,
}
BLANK_ROWS = 2


@pages.get("")
def show() -> Any:
    return _page(operations.settings_of(live()).model_dump(mode="json"))


def _page(spec: dict[str, Any], problems: list[Problem] | None = None, status: int = 200) -> Any:
    shop, locale = live().setup.store, _locale()
    home = spec.get("home") or shop.country
    near = {home, *(str(one.get("country", "")) for one in spec["registrations"])}
    known = [rate for rate in known_rates() if rate.country in near and rate.until is None]
    made = render_template(
        "documents/settings.html",
        spec=spec,
        problems=problems or [],
        edits=request.form.get("edits", store().edits),
        countries=countries(),
        kinds=KINDS,
        known=sorted(known, key=lambda rate: (rate.country, list(KINDS).index(rate.kind))),
        as_of=AS_OF,
        union=UNION,
        home=home,
        country_name=country_name,
        locale=locale,
        languages=list(dict.fromkeys([shop.locale, *shop.locales])),
        blank=range(BLANK_ROWS),
        where=f"{public_address()}/invoice/{shop.key}",
        group_countries=lambda one: ", ".join(f"{c} {k}" for c, k in (one.get("by_country") or {}).items()),
    )
    return (made, status) if status != 200 else made


def _locale() -> str:
    shop = live().setup.store
    wanted = request.values.get("lang", "")
    return wanted if wanted in (shop.locale, *shop.locales) else shop.locale


@pages.post("")
def save() -> Any:
    before = operations.settings_of(live())
    spec, problems = filled(request.form, before, FIELDS, switches=SWITCHES)
    spec["registrations"] = [_dated(one) for one in rows(request.form, country="reg.country", number="reg.number",
                                                         since="reg.since", until="reg.until")]  # fmt: skip
    spec["rates"] = [_dated(one) for one in rows(request.form, country="rate.country", kind="rate.kind",
                     percent="rate.percent", since="rate.since", until="rate.until", source="rate.source")]  # fmt: skip
    exchange = rows(request.form, currency="ex.currency", to="ex.to", rate="ex.rate", day="ex.day")
    spec["exchange"] = [one | {"currency": one["currency"].upper(), "to": one["to"].upper()} for one in exchange]
    spec["groups"], wrong = _groups()
    elsewhere = request.form.get("elsewhere", "")
    spec |= {"one_stop": elsewhere == "one_stop", "below_threshold": elsewhere == "threshold"}
    locale = request.form.get("lang", "")
    for part in ("above", "under"):
        if part in request.form:
            spec["texts"][part] = with_text(spec["texts"].get(part) or {}, locale or _locale(), request.form[part])
    try:
        if problems or wrong:
            raise Invalid([*problems, *wrong])
        made = read_spec(Documents, spec)
        with work() as unit:
            operations.save_settings(unit, made, edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return _page(spec, error.problems, 422)
    flash(
        "Saved. It counts for documents that are made from now on." if made.on else "Saved. Invoices are off.", "good"
    )
    return redirect(url_for(".show", lang=_locale()))


def _dated(row: dict[str, str]) -> dict[str, Any]:
    """A row of the form without the days that are not typed."""
    return {name: value for name, value in row.items() if value or name not in ("since", "until")}


def _groups() -> tuple[list[dict[str, Any]], list[Problem]]:
    """Kinds of goods as the form has them."""
    made: list[dict[str, Any]] = []
    problems = []
    for row in rows(request.form, name="group.name", skus="group.skus", kind="group.kind", by="group.by"):
        by_country = {}
        for part in row["by"].replace(";", ",").split(","):
            country, _, kind = part.strip().partition(" ")
            if not part.strip():
                continue
            if kind.strip().replace(" ", "_") not in KINDS:
                what = f"{row['name']}: “{part.strip()[:40]}” is no country with a kind of rate."
                problems.append(Problem("groups", what, "Write it like GB zero, IE zero."))
                continue
            by_country[country.upper()] = kind.strip().replace(" ", "_")
        key = key_of(row["name"]) or f"goods-{len(made) + 1}"
        skus = [one.strip() for one in row["skus"].replace(";", ",").split(",") if one.strip()]
        made.append({"key": key, "name": row["name"], "skus": skus, "kind": row["kind"], "by_country": by_country})
    return made, problems


@pages.post("/rates")
def take_rates() -> Any:
    """The rates of a file, in place of the shop's own."""
    file = request.files.get("file")
    data = file.read(1_000_000) if file is not None and file.filename else b""
    spec = operations.settings_of(live()).model_dump(mode="json")
    try:
        found = read_rates(data.decode("utf-8-sig", "replace")) if data else []
        if not found:
            raise Invalid([Problem("file", "No file was chosen, or it is empty.", "Choose one with rates.")])
        made = read_spec(Documents, spec | {"rates": found})
        with work() as unit:
            operations.save_settings(unit, made)
    except Invalid as error:
        return _page(spec, error.problems, 422)
    flash(f"{len(found)} rates were taken, in place of the shop’s own.", "good")
    return redirect(url_for(".show"))


@pages.get("/rates.csv")
def rates_file() -> Any:
    """Every rate that is known here, to be checked, changed and uploaded."""
    lines = [",".join(COLUMNS)]
    for rate in known_rates():
        until = rate.until.isoformat() if rate.until else ""
        lines.append(f"{rate.country},{rate.kind},{rate.percent},{rate.since},{until},{rate.source}")
    data = io.BytesIO(("\r\n".join(lines) + "\r\n").encode())
    return send_file(data, "text/csv", download_name="rates.csv", as_attachment=True)
