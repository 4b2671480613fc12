"""The settings of the shop, a page a subject. Each page changes its own fields and leaves the others."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

from email_validator import EmailNotValidError
from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.datastructures import MultiDict

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.countries import countries, currencies, languages
from angelon.core.messages.known_fields import SHOP_FIELDS
from angelon.core.problems import Invalid, Problem
from angelon.core.sending.trial import LABELS
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.store import Keep
from angelon.db.log import sends
from angelon.db.upkeep import forgetting
from angelon.engine.operations import store as operations
from angelon.web.conflicts import edits_seen
from angelon.web.forms import CODE, LINES, OR_ZERO, TEXT, WORDS, Spelling, filled, rows
from angelon.web.services import kinds_of_events, live, routes, services, session, store, store_id, work, work_or_back

pages = Blueprint("settings", __name__, url_prefix="/settings", template_folder="templates")

_SHOP: dict[str, Spelling] = {
    **dict.fromkeys(("name", "locale", "timezone", "reader_times"), TEXT),
    **dict.fromkeys(("support_email", "support_phone", "website", "hours", "base_url"), TEXT),
    "currency": CODE,
    "country": CODE,
    "locales": WORDS,
    **dict.fromkeys((f"keep.{name}" for name in Keep.model_fields), OR_ZERO),
}
_RULES: dict[str, Spelling] = dict.fromkeys(("rules.forbidden", "rules.link_hosts", "private_hosts"), LINES)


@pages.get("")
def shop() -> Any:
    return _shop_page(live().setup.store.model_dump(mode="json"))


def _shop_page(spec: dict[str, Any], problems: Sequence[Problem] = (), leaving: int = 0) -> str:
    """`leaving` is how many orders would go, which has to be said yes to."""
    return page_of(
        "shop",
        problems,
        spec=spec,
        countries=countries(),
        languages=languages(),
        currencies=currencies(),
        zones=sorted({zone for country in countries() for zone in country.zones} | {"UTC", spec["timezone"]}),
        shop_fields=SHOP_FIELDS,
        installed_at=services().settings.base_url,
        archive=services().settings.archive.partition("?")[0],
        leaving=leaving,
        many=forgetting.MOST_COUNTED,
    )


def page_of(part: str, problems: Sequence[Problem], **shown: Any) -> str:
    """One of the pages, with what was typed where it could not be saved."""
    edits = request.form.get("edits", store().edits)
    return render_template(f"settings/{part}.html", part=part, problems=problems, edits=edits, **shown)


@pages.post("")
def save_shop() -> Any:
    """Name, languages, money and time, and ways to reach the shop."""
    spec, problems = filled(request.form, live().setup.store, _SHOP)
    spec["locales"] = [tag for tag in spec["locales"] if tag != spec["locale"]]
    problems += _addresses(spec)
    leaving = _leaving(spec["keep"]["orders_days"])
    if leaving and not problems and not request.form.get("orders_go"):
        return _shop_page(spec, leaving=leaving), 422
    changed = {part: spec[part] for part in {name.partition(".")[0] for name in _SHOP}}
    try:
        save_store(changed, problems, "settings")
    except Invalid as error:
        if error.is_conflict:
            raise
        return _shop_page(spec, error.problems), 422
    flash("Saved. It counts from the next send on.", "good")
    return redirect(url_for(".shop"))


def _leaving(days: Any) -> int:
    """How many orders go at once where they are kept for so many days, and were kept for longer."""
    kept, asked = live().setup.store.keep.orders_days, str(days)
    wanted = int(asked) if asked.isdecimal() and len(asked) <= 4 else 0  # the spec refuses what is longer
    if not wanted or (kept and wanted >= kept):
        return 0
    before = services().clock.now() - dt.timedelta(days=wanted)
    return forgetting.would_go(session().connection(), store_id(), before)


def _addresses(spec: dict[str, Any]) -> list[Problem]:
    """What is wrong with the ways to reach the shop; the number is written in the international form."""
    found = []
    if spec["support_email"]:
        try:
            spec["support_email"] = check_email(spec["support_email"])
        except EmailNotValidError as error:
            what = f"“{spec['support_email'][:60]}” is no email address: {error}"
            found.append(Problem("support_email", what, "Write it like hello@shop.example."))
    if spec["support_phone"]:
        try:
            spec["support_phone"] = phone_text(read_phone(spec["support_phone"], spec["country"] or None))
        except BadPhone as error:
            what = f"“{spec['support_phone'][:60]}” is no phone number: {error}"
            found.append(Problem("support_phone", what, "Write it like +353 20 915 1234."))
    return found


def save_store(changed: Mapping[str, Any], problems: Sequence[Problem], what: str) -> None:
    """Raises Invalid and Conflict."""
    if problems:
        raise Invalid(list(problems))
    with work() as unit:
        operations.change(unit, changed, edits_seen(), what)


@pages.post("/languages")
def add_language() -> Any:
    """Adds one to the languages that the shop speaks, from where a text in it was found."""
    tag, back = request.form.get("language", "").strip(), request.form.get("back", "")
    the_store = live().setup.store
    back = back if back.startswith("/") and not back.startswith(("//", "/\\")) else url_for(".shop")
    if tag == the_store.locale or tag in the_store.locales:
        return redirect(back)
    try:
        with work() as unit:
            operations.change(unit, {"locales": [*the_store.locales, tag]}, what="languages")
        flash(f"The shop uses {tag} from now on: texts in it are sent to its readers.", "good")
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
    return redirect(back)


# ---- the team


@pages.get("/trial")
def trial() -> Any:
    return page_of(
        "trial", (), labels=LABELS, trial=store().trial, waiting=sends.waiting(session().connection(), store_id())
    )


@pages.post("/trial")
def set_trial() -> Any:
    """Puts the store on trial, or has its messages go to customers again."""
    with work_or_back(url_for(".trial")) as unit:
        waiting = operations.set_trial(unit, request.form.get("trial", ""))
    if store().trial:
        said = "The store is on trial. Everything is decided and kept as ever, and no customer is written to."
    else:
        said = "The trial is over: customers get what is sent from now on."
        said += f" {waiting:,} sends wait, and go to customers when they are due." if waiting else ""
    flash(said, "good")
    return redirect(url_for(".trial"))


@pages.get("/team")
def team() -> Any:
    return page_of(
        "team", (), members=[member.model_dump(mode="json") for member in live().setup.store.team], uses=_roles()
    )


def _roles() -> dict[str, list[str]]:
    """The names of the routes that write to each role, by the role in lower case."""
    found: dict[str, list[str]] = {}
    for row in routes():
        wanted = [recipient.who for recipient in row.spec.to if recipient.kind == "role"]
        for role in [*wanted, *([row.spec.fallback.tell] if row.spec.fallback.tell else [])]:
            found.setdefault(role.casefold(), []).append(row.spec.name)
    return found


@pages.post("/team")
def save_team() -> Any:
    members = rows(request.form, name="member.name", role="member.role", email="member.email", phone="member.phone")
    nameless = _without_name(request.form)
    try:
        save_store({"team": members}, nameless, "team")
    except Invalid as error:
        if error.is_conflict:
            raise
        return page_of("team", error.problems, members=_typed_members(request.form), uses=_roles()), 422
    flash("Saved.", "good")
    return redirect(url_for(".team"))


_MEMBER = {"name": "member.name", "role": "member.role", "email": "member.email", "phone": "member.phone"}


def _typed_members(form: MultiDict[str, str]) -> list[dict[str, str]]:
    columns = [form.getlist(field) for field in _MEMBER.values()]
    members = [dict(zip(_MEMBER, row, strict=True)) for row in zip(*columns, strict=False)]
    return [member for member in members if any(value.strip() for value in member.values())]


def _without_name(form: MultiDict[str, str]) -> list[Problem]:
    return [
        Problem("team", f"Somebody has no name ({member['email'] or member['phone'] or member['role']}).", "Write one.")
        for member in _typed_members(form)
        if not member["name"].strip()
    ]


# ---- the rules


@pages.get("/rules")
def rules() -> Any:
    return _rules_page(live().setup.store.model_dump(mode="json"))


def _rules_page(
    spec: dict[str, Any], problems: Sequence[Problem] = (), typed: Sequence[tuple[str, str]] | None = None
) -> str:
    named = {row.key: row.spec.name for row in routes()}
    ages = [*(typed if typed is not None else spec["good_for"].items()), ("", ""), ("", "")]
    return page_of("rules", problems, spec=spec, named=named, ages=ages, types=kinds_of_events())


@pages.post("/rules")
def save_rules() -> Any:
    """What no message may say or point to: everywhere, and for a channel or some routes."""
    form = request.form
    spec, problems = filled(form, live().setup.store, _RULES)
    spec["more_rules"] = []
    for number in form.getlist("set"):
        one = {
            "channel": form.get(f"{number}.channel", ""),
            "routes": form.getlist(f"{number}.routes"),
            "forbidden": LINES.read(form.get(f"{number}.forbidden", "")),
            "link_hosts": LINES.read(form.get(f"{number}.link_hosts", "")),
        }
        if one["forbidden"] or one["link_hosts"]:
            spec["more_rules"].append(one)
    spans = form.getlist("age.hours")
    events_ = form.getlist("age.type")
    ages = [(event.strip(), span.strip()) for event, span in zip(events_, spans, strict=False)]
    spec["good_for"] = {type_: hours for type_, hours in ages if type_}
    problems += [
        Problem("good_for", f"“{hours[:20]}” hours belong to no event.", "Choose the event beside them.")
        for type_, hours in ages
        if hours and not type_
    ]
    changed = {name: spec[name] for name in ("rules", "more_rules", "private_hosts", "good_for")}
    try:
        _checked_hosts(spec)
        save_store(changed, problems, "rules")
    except Invalid as error:
        if error.is_conflict:
            raise
        return _rules_page(spec, error.problems, [pair for pair in ages if any(pair)]), 422
    flash("Saved. Messages are looked at by these rules when they are published.", "good")
    return redirect(url_for(".rules"))


def _checked_hosts(spec: dict[str, Any]) -> None:
    """Raises Invalid for a host that is written as an address."""
    found = [
        Problem("link_hosts", f"“{host}” is an address rather than a host.", "Write the host alone, like shop.example.")
        for one in [spec["rules"], *spec["more_rules"]]
        for host in one["link_hosts"]
        if "/" in host or ":" in host
    ]
    read_spec(Store, spec)
    if found:
        raise Invalid(found)
