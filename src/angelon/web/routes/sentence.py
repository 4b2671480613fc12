"""What a route's page shows, and how its form is read back into the spec."""

from __future__ import annotations

import dataclasses
import json
from typing import Any
from zoneinfo import ZoneInfo

from flask import g

from angelon.core import event_types
from angelon.core.conditions.evaluate import said_group
from angelon.core.messages.parts import compiled_part
from angelon.core.messages.templates import CantRender
from angelon.core.planning.given import ALWAYS, ActiveRoute, Event, Facts
from angelon.core.planning.occasion import Occasion
from angelon.core.planning.plan import Decision, PlannedSend, TraceLine, decide
from angelon.core.planning.readiness import problems_of
from angelon.core.planning.sentence import said_guards, said_once, said_otherwise, said_to
from angelon.core.planning.subjects import subject, subjects, worked_condition
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route
from angelon.core.specs.condition import OPERATORS, SAID, Group
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS
from angelon.core.timing.due import said as timing_said
from angelon.core.values import show
from angelon.db import facts, routes, sends, setup, shapes
from angelon.db.sends import Filter
from angelon.db.setup import LiveSetup
from angelon.db.tables import MessageRow, RouteRow
from angelon.web import hand as hands
from angelon.web.numbers import row_ids, whole
from angelon.web.services import live, session, store
from angelon.web.sources.bench import drifting


def names() -> dict[str, dict[str, str]]:
    """What sources, messages, gateways and routes are called, by key. Drafts count."""
    messages = {}
    for row in session().exec(setup.select(MessageRow).where(MessageRow.store_id == store().id)):
        messages[row.key] = setup.current_spec(session(), row).get("name", row.key)
    return {
        "sources": {key: source.name for key, source in live().setup.sources.items()},
        "messages": messages,
        "gateways": {key: gateway.name for key, gateway in live().setup.gateways.items()},
        "routes": {
            row.key: setup.current_spec(session(), row).get("name", row.key)
            for row in routes.all_of(session(), store().id or 0)
        },
    }


def problems(route: Route, called: dict[str, dict[str, str]]) -> list[Problem]:
    """What keeps a route from going live, and what is to be minded."""
    today = g.now.astimezone(ZoneInfo(live().setup.store.timezone)).date()
    return problems_of(route, live().setup, called["routes"], today)


def page(row: RouteRow) -> dict[str, Any]:
    """Everything that the sentence and its rehearsal show."""
    route = Route.model_validate(setup.current_spec(session(), row))
    hand = hands.take(live(), route.sources or None, route.when or None)
    if hand.event is None:
        hand = hands.take(live(), route.sources or None)
    decision = rehearse(route, hand, live())
    revision = session().get(setup.RevisionRow, row.live_id) if row.live_id else None
    total = sends.counts(session(), store().id or 0, Filter(route_id=row.id), "states")
    called = names()
    return {
        "row": row,
        "route": route,
        "hand": hand,
        "decision": decision,
        "revision": revision,
        "problems": problems(route, called),
        "names": called,
        "total": sum(total.values()),
        "shown": [(send, rendered(send, live())) for send in decision.sends] if decision else [],
        "types": event_types.LABELS,
        "by_part": by_part(decision.trace) if decision else {},
        "conditions": conditions(route.only_if, hand, route),
        "dates": [n for n, v in live().setup.variables.items() if v.type.value == "date"],
        "drifts": drifts(route),
        "said": {
            "if": said_group(route.only_if),
            "timing": timing_said(route.timing),
            "to": said_to(route),
            "once": said_once(route),
            "guards": said_guards(route, called["routes"]),
            "otherwise": said_otherwise(route, called["gateways"], called["messages"]),
        },
        "roles": sorted({member.role for member in live().setup.store.team if member.role}),
        "gateway_channel": {key: gateway.channel for key, gateway in live().setup.gateways.items()},
        "addresses": "\n".join(
            ", ".join(part for part in (r.name, r.who) if part) for r in route.to if r.kind == "address"
        ),
        "paths": "\n".join(r.who for r in route.to if r.kind == "path"),
        "waiting": routes.waiting(session(), row.id or 0, g.now),
        "variables": list(live().setup.variables),
    }


def by_part(trace: list[TraceLine]) -> dict[str, TraceLine]:
    """One line for each part of the sentence: what several recipients or guards saw, and the worst of it."""
    rank = {"yes": 0, "open": 0, "waits": 1, "problem": 2, "no": 3}
    found: dict[str, TraceLine] = {}
    for line in trace:
        other = found.get(line.part)
        if other is None:
            found[line.part] = line
            continue
        worst = max(other, line, key=lambda one: rank[one.verdict])
        found[line.part] = TraceLine(
            line.part,
            worst.verdict,
            "; ".join(dict.fromkeys([*other.saw.split("; "), line.saw]))[:400],
            " ".join(dict.fromkeys(w for w in (other.why, line.why) if w)),
        )
    return found


def drifts(route: Route) -> list[tuple[str, str, Any]]:
    """(source key, source name, drift) of every field that this route's message or recipient needs and that has
    drifted.
    """
    needed = {"reading.email" if route.channel == "email" else "reading.phone", "reading.reference"}
    message = live().setup.messages.get(route.send)
    for locale in message.variants(route.channel) if message else ():
        try:
            needed |= {
                f"recipes.{name}" for name in compiled_part(message, route.channel, locale, live().setup.store).names
            }
        except Invalid:
            continue
    found = []
    for key in route.sources:
        source = live().setup.sources.get(key)
        if source:
            told = drifting(source, shapes.of_source(session(), live().source_ids[key]))
            found += [(key, source.name, drift) for mark, drift in told.items() if mark in needed]
    return found


def rehearse(route: Route, hand: hands.Hand, now: LiveSetup) -> Decision | None:
    """What a route as it stands would make of the event in hand; nothing is stored and nothing sent."""
    if hand.event is None or hand.reading is None or hand.variables is None or hand.source is None:
        return None
    event = happened(hand)
    return decide(
        event,
        hand.reading,
        hand.variables,
        ActiveRoute(route, ALWAYS),
        now.setup,
        known(hand, [route], now),
        event.received_at,
    )


def rendered(send: PlannedSend, now: LiveSetup) -> Any:
    """What a planned send would say; None where it can't be made."""
    message = now.setup.messages.get(send.message)
    if message is None or send.state.value == "held":
        return None
    try:
        return compiled_part(message, send.channel, send.locale, now.setup.store).render(send.values)
    except (CantRender, Invalid):
        return None


def happened(hand: hands.Hand) -> Event:
    """The event in hand as planning takes it."""
    assert hand.event is not None
    assert hand.source is not None
    return Event(
        hand.event.id,
        hand.event.type,
        hand.event.name,
        hand.source.key,
        hand.payload,
        hand.event.received_at,
        hand.event.was,
        hand.event.now,
    )


def known(hand: hands.Hand, asking: list[Route], now: LiveSetup) -> Facts:
    """What had happened when the event in hand came, without what these routes themselves have said: a rehearsal starts
    anew.
    """
    assert hand.event is not None
    assert hand.reading is not None
    leave = frozenset(route.key for route in asking)
    found = facts.of_one(
        session().connection(),
        now,
        asking,
        hand.event.source_id,
        hand.reading,
        hand.event.parent_id or hand.event.id,
        leave,
    )
    at = hand.event.received_at
    before = tuple(one for one in found.spoken if one.at <= at)
    return dataclasses.replace(
        found,
        status=None,
        spoken=before,
        same_delivery=tuple(one for one in found.same_delivery if one.at <= at),
        types=tuple(t for t in found.types if t[1] <= at),
        spoken_customer=tuple(moment for moment in found.spoken_customer if moment < at),
    )


def conditions(group: Group, hand: hands.Hand, route: Route | None = None) -> dict[str, Any]:
    """What a page needs to show and change conditions: the group, how each part came out, what may be looked at."""
    verdict = None
    values: dict[str, str] = {}
    if hand.event is not None and hand.reading is not None and hand.variables is not None and hand.source is not None:
        asking = [
            (route or Route(key="x", name="x")).model_copy(
                update={
                    "only_if": Group.model_validate(
                        {
                            "of": [
                                {"kind": "compare", "of": "contact.orders"},
                                {"kind": "compare", "of": "history.events"},
                            ]
                        }
                    )
                }
            )
        ]
        event, past = happened(hand), known(hand, asking, live())
        occasion = Occasion(event, hand.reading, hand.variables, live().setup, past, event.received_at)
        verdict = worked_condition(group, occasion).as_dict()
        for name, _ in subjects(live().setup):
            found = subject(name, occasion)
            values[name] = (
                show(
                    found.value if not isinstance(found.value, tuple) else " → ".join(found.value),
                    live().setup.store.locale,
                )[:60]
                if found.value is not None
                else ""
            )
    listed = [{"name": name, "kind": kind, "value": values.get(name, "")} for name, kind in subjects(live().setup)]
    segments = {f"segment.{segment.key}": f"is in “{segment.name}”" for segment in live().setup.store.segments}
    return {
        "group": group.model_dump(mode="json"),
        "verdict": verdict,
        "subjects": listed,
        "operators": OPERATORS,
        "said": SAID,
        "called": segments,
        "items": {"order.lines": list(LINE_PARTS), "order.parcels": list(PARCEL_PARTS)},
    }


# ---- the form, read back ------------------------------------------------------------------------------------------


def spec_from(form: Any, spec: dict[str, Any]) -> dict[str, Any]:
    """The spec with what one part of the form says in place of what it said. Raises Invalid where the form can't be
    read.
    """
    spec = dict(spec)
    for part in ("name", "send", "gateway", "once", "rank"):
        if part in form:
            spec[part] = form[part] or (0 if part == "rank" else "")
    for part in ("when", "sources"):
        if f"{part}.there" in form:
            spec[part] = form.getlist(part)
    if form.get("own_type", "").strip():
        spec["when"] = [*spec.get("when", []), form["own_type"].strip()]
    if "once_days" in form:
        spec["once_days"] = form["once_days"] or 0
    if "timing.there" in form:
        spec["timing"] = _timing(form)
    if "to.there" in form:
        spec["to"] = _recipients(form)
    if "guards.there" in form:
        spec["guards"] = _guards(form)
    if "otherwise.there" in form:
        spec["otherwise"] = _otherwise(form)
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
        for name in ("skip_discounted", "skip_refunded", "after_answer", "even_if_told")
    }
    return {"caps": caps, "after_route": form.get("guards.after_route", ""), **flags}


def _otherwise(form: Any) -> dict[str, Any]:
    ways = []
    for gateway, send in zip(form.getlist("way.gateway"), form.getlist("way.send"), strict=False):
        if gateway:
            known_one = live().setup.gateways.get(gateway)
            ways.append({"gateway": gateway, "channel": known_one.channel if known_one else "email", "send": send})
    return {"ways": ways, "within_minutes": form.get("otherwise.within") or 0, "tell": form.get("otherwise.tell", "")}


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
    if form.get("timing.windowed"):
        made["window"] = {
            "start": form.get("timing.start") or "08:00",
            "end": form.get("timing.end") or "20:00",
            "weekdays": row_ids(form.getlist("timing.weekdays")),
            "holidays": not form.get("timing.no_holidays"),
        }
    return made
