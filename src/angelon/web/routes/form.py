"""A route's form, read back into what it changes of the spec: one part of the sentence at a time."""

from __future__ import annotations

import json
from itertools import zip_longest
from typing import Any

from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route
from angelon.web.forms import OR_NONE, OR_ZERO, TEXT, Spelling, filled, rows
from angelon.web.numbers import row_ids, whole
from angelon.web.services import live

FIELDS: dict[str, Spelling] = {
    **dict.fromkeys(("name", "send", "gateway", "sender", "once"), TEXT),
    **dict.fromkeys(("priority", "once_days", "fallback.within_minutes", "timing.amount"), OR_ZERO),
    **dict.fromkeys(("guards.after_route", "fallback.tell", "fallback.no_address"), TEXT),
    **dict.fromkeys(("timing.unit", "timing.at", "timing.zone", "timing.late"), TEXT),
    **dict.fromkeys(("timing.window.start", "timing.window.end"), TEXT),
    **dict.fromkeys(("timing.not_before", "timing.not_after"), OR_NONE),
}
SWITCHES = {
    "when": ("only_new_orders", "by_hand"),
    "guards": tuple(
        f"guards.{one}"
        for one in (
            *("skip_discounted", "skip_refunded", "after_answer", "unless_answered", "unless_asking"),
            "even_if_notified",
        )
    ),
    "timing": ("timing.yearly", "urgent"),
}
"""The boxes of each part of the sentence that are values themselves."""


def changes_from(form: Any, route: Route) -> dict[str, Any]:
    """What one part of the form says of the route's spec, over the route as it stands. Raises Invalid where the form
    can't be read.
    """
    parts = {path.partition(".")[0] for path in FIELDS if path in form}
    parts |= {name.removesuffix(".there") for name in form if name.endswith(".there")}
    switches = [switch for part in parts for switch in SWITCHES.get(part, ())]
    made, problems = filled(form, route, FIELDS, {"timing.window": "timing.windowed"}, switches)
    if problems:
        raise Invalid(problems)
    changes = {part: made[part] for part in parts if part in made}
    for part in ("when", "sources"):
        if part in parts:
            changes[part] = form.getlist(part)
    if form.get("own_type", "").strip():
        changes["when"] = [*changes.get("when", []), form["own_type"].strip()]
    if "when" in parts:
        changes |= {switch: made[switch] for switch in SWITCHES["when"]}
    if "timing" in parts:
        changes |= {"timing": _timing(form, made["timing"]), "urgent": made["urgent"]}
    if "to" in parts:
        changes["to"] = _recipients(form)
    if "guards" in parts:
        caps = rows(form, most="cap.most", per="cap.per", days="cap.days")
        changes["guards"]["caps"] = [{**cap, "days": cap["days"] or 0} for cap in caps]
    if "fallback" in parts:
        changes["fallback"]["options"] = [
            option | {"channel": _channel(option["gateway"])}
            for option in rows(form, gateway="fallback.gateway", send="fallback.send")
        ]
    if "marks" in parts:
        changes["marks"] = form.get("marks.text", "")
    if "asks" in parts:
        changes["asks"] = _prompts(form)
    if "only_if" in form:
        try:
            changes["only_if"] = json.loads(form["only_if"])
        except (ValueError, RecursionError):
            raise Invalid([Problem("if", "The page sent conditions that can’t be read.", "Reload it.")]) from None
    if live().setup.gateways.get(changes.get("gateway", "")) is not None:
        changes["channel"] = _channel(changes["gateway"])
    return changes


def _prompts(form: Any) -> list[dict[str, Any]]:
    """What is asked where somebody runs the route; a page that does not know choices leaves them out."""
    fields = (form.getlist(f"asks.{name}") for name in ("variable", "text", "options", "required"))
    return [
        {"variable": variable, "asks": asks.strip(), "options": _choices(options), "required": required == "yes"}
        for variable, asks, options, required in zip_longest(*fields, fillvalue="")
        if variable
    ]


def _choices(text: str) -> list[str]:
    return [one.strip() for one in text.split(";") if one.strip()]


def _channel(gateway: str) -> str:
    found = live().setup.gateways.get(gateway)
    return found.channel if found is not None else "email"


def _recipients(form: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = [{"kind": "customer"}] if form.get("to.customer") else []
    found += [{"kind": "role", "who": role} for role in form.getlist("to.role")]
    for line in form.get("to.addresses", "").splitlines():
        name, comma, address = line.strip().rpartition(",")
        if line.strip():
            found.append({"kind": "address", "who": address.strip(), "name": name.strip() if comma else ""})
    found += [{"kind": "variable", "who": name} for name in form.getlist("to.variable") if name]
    return found + [
        {"kind": "path", "who": line.strip()} for line in form.get("to.paths", "").splitlines() if line.strip()
    ]


def _timing(form: Any, made: dict[str, Any]) -> dict[str, Any]:
    """The timing with what takes two fields: before or after, the day of a variable, days of a window."""
    anchor = form.get("timing.anchor", "event")
    day = anchor.partition(":")[2] if anchor.startswith("day:") else ""
    made |= {"anchor": "expected", "variable": day} if day else {"anchor": anchor, "variable": ""}
    if form.get("timing.before") == "yes" and whole(str(made["amount"]).lstrip("-")) is not None:
        made["amount"] = -abs(int(made["amount"]))
    if "timing.windowed" in form:
        window = made.get("window") or {}
        made["window"] = {
            "start": window.get("start") or "08:00",
            "end": window.get("end") or "20:00",
            "weekdays": row_ids(form.getlist("timing.window.weekdays")),
            "holidays": not form.get("timing.no_holidays"),
        }
    return made
