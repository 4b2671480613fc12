"""A route's form, read back into what it changes of the spec."""

from __future__ import annotations

import json
from typing import Any

from angelon.core.problems import Invalid, Problem
from angelon.web.numbers import row_ids, whole
from angelon.web.services import live


def changes_from(form: Any) -> dict[str, Any]:
    """What one part of the form says of the route's spec. Raises Invalid where the form can't be read."""
    spec: dict[str, Any] = {}
    for part in ("name", "send", "gateway", "once", "priority"):
        if part in form:
            spec[part] = form[part] or (0 if part == "priority" else "")
    for part in ("when", "sources"):
        if f"{part}.there" in form:
            spec[part] = form.getlist(part)
    if form.get("own_type", "").strip():
        spec["when"] = [*spec.get("when", []), form["own_type"].strip()]
    if "when.there" in form:
        spec["only_new_orders"] = bool(form.get("only_new_orders"))
    if "once_days" in form:
        spec["once_days"] = form["once_days"] or 0
    if "timing.there" in form:
        spec["timing"] = _timing(form)
    if "to.there" in form:
        spec["to"] = _recipients(form)
    if "guards.there" in form:
        spec["guards"] = _guards(form)
    if "fallback.there" in form:
        spec["fallback"] = _fallback(form)
    if "asks.there" in form:
        spec["asks"] = [
            {"variable": variable, "asks": text.strip()}
            for variable, text in zip(form.getlist("asks.variable"), form.getlist("asks.text"), strict=False)
            if variable
        ]
    if "only_if" in form:
        try:
            spec["only_if"] = json.loads(form["only_if"])
        except (ValueError, RecursionError):
            raise Invalid([Problem("if", "The page sent conditions that can’t be read.", "Reload it.")]) from None
    gateway = live().setup.gateways.get(spec.get("gateway", ""))
    if gateway is not None:
        spec["channel"] = gateway.channel
    return spec


def _recipients(form: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = [{"kind": "customer"}] if form.get("to.customer") else []
    found += [{"kind": "role", "who": role} for role in form.getlist("to.role")]
    for line in form.get("to.addresses", "").splitlines():
        name, comma, address = line.strip().rpartition(",")
        if line.strip():
            found.append({"kind": "address", "who": address.strip(), "name": name.strip() if comma else ""})
    return found + [
        {"kind": "path", "who": line.strip()} for line in form.get("to.paths", "").splitlines() if line.strip()
    ]


def _guards(form: Any) -> dict[str, Any]:
    caps = [
        {"most": most, "per": per, "days": days or 0}
        for most, per, days in zip(
            form.getlist("cap.most"), form.getlist("cap.per"), form.getlist("cap.days"), strict=False
        )
        if most.strip()
    ]
    flags = {
        name: bool(form.get(f"guards.{name}"))
        for name in ("skip_discounted", "skip_refunded", "after_answer", "even_if_notified")
    }
    return {"caps": caps, "after_route": form.get("guards.after_route", ""), **flags}


def _fallback(form: Any) -> dict[str, Any]:
    options = []
    for gateway, send in zip(form.getlist("fallback.gateway"), form.getlist("fallback.send"), strict=False):
        if gateway:
            known_one = live().setup.gateways.get(gateway)
            options.append({"gateway": gateway, "channel": known_one.channel if known_one else "email", "send": send})
    return {
        "options": options,
        "within_minutes": form.get("fallback.within") or 0,
        "tell": form.get("fallback.tell", ""),
        "no_address": form.get("fallback.no_address") or "hold",
    }


def _timing(form: Any) -> dict[str, Any]:
    """The timing of the sentence's form; what is left empty is left out."""
    made: dict[str, Any] = {
        name: form[f"timing.{name}"]
        for name in ("amount", "unit", "at", "zone", "not_before", "not_after", "late")
        if form.get(f"timing.{name}")
    }
    anchor = form.get("timing.anchor", "event")
    made |= (
        {"anchor": "expected", "variable": anchor.partition(":")[2]}
        if anchor.startswith("day:")
        else {"anchor": anchor}
    )
    if form.get("timing.before") == "yes" and whole(str(made.get("amount", "0")).lstrip("-")) is not None:
        made["amount"] = -abs(int(made["amount"]))
    if form.get("timing.yearly"):
        made["yearly"] = True
    if form.get("timing.windowed"):
        made["window"] = {
            "start": form.get("timing.start") or "08:00",
            "end": form.get("timing.end") or "20:00",
            "weekdays": row_ids(form.getlist("timing.weekdays")),
            "holidays": not form.get("timing.no_holidays"),
        }
    return made
