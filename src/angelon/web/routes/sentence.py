"""What a route's page shows, and how its form is read back into the spec."""

from __future__ import annotations

import dataclasses
from typing import Any

from flask import g, url_for

from angelon.core import event_types, questions
from angelon.core.conditions.evaluate import describe_group
from angelon.core.messages.channels import address_part, compiled_part, part_for_reader
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Event, Facts
from angelon.core.planning.plan import Decision, PlannedSend, decide
from angelon.core.planning.senders import sender_of, sender_problem
from angelon.core.planning.sentence import describe_fallback, describe_guards, describe_once, describe_recipients
from angelon.core.planning.subjects import asking as asking_messages
from angelon.core.planning.subjects import subject, subjects, worked_condition
from angelon.core.planning.trace_lines import TraceLine
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import drifting
from angelon.core.specs import Route
from angelon.core.specs.condition import OPERATOR_LABELS, OPERATORS, SUBJECT_LABELS, Group
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS
from angelon.core.templates import CantRender
from angelon.core.timing.due import describe as describe_timing
from angelon.core.values import show
from angelon.db.derived import counts, shapes
from angelon.db.log import history, orders
from angelon.db.setup import routes
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import StoredRoute
from angelon.engine.operations import routes as operations
from angelon.engine.past.rehearsals import as_of, rehearse_fallbacks, rehearse_one, speaking_before
from angelon.web import sample_event as sample_events
from angelon.web.services import kinds_of_events, live, names, session, store_id


def problems(route: Route, called: dict[str, dict[str, str]]) -> list[Problem]:
    """What keeps a route from going live, and what is to be minded."""
    return operations.problems(route, live(), called["routes"], g.now)


def page(row: StoredRoute) -> dict[str, Any]:
    """Everything that the sentence and its rehearsal show."""
    route = row.spec
    setup = live().setup
    sample = sample_events.select(live(), route.sources or None, route.when or None)
    if sample.event is None:
        sample = sample_events.select(live(), route.sources or None)
    decision = rehearse(route, sample, live())
    total = counts.of_route(session().connection(), store_id(), row.id)
    called = names()
    return {
        "row": row,
        "route": route,
        "sample": sample,
        "decision": decision,
        "problems": problems(route, called),
        "to_verify": _to_verify(route),
        "names": called,
        "total": sum(total.values()),
        "shown": _shown(route, sample, decision),
        "types": kinds_of_events(),
        "by_part": by_part(decision.trace) if decision else {},
        "conditions": conditions(route.only_if, sample, route),
        "dates": [name for name, variable in setup.variables.items() if variable.type.value == "date"],
        "drifts": drifts(route),
        "labels": {
            "if": describe_group(route.only_if),
            "timing": describe_timing(route.timing) + (", urgent" if route.urgent else ""),
            "to": describe_recipients(route),
            "once": describe_once(route),
            "guards": describe_guards(route, called["routes"]),
            "fallback": describe_fallback(route, called["gateways"], called["messages"]),
        },
        "roles": sorted({member.role for member in setup.store.team if member.role}),
        "senders": {sender.key: sender.called(setup.store.name) for sender in setup.store.senders},
        "gateway_channel": {key: gateway.channel for key, gateway in setup.gateways.items()},
        "addresses": "\n".join(
            ", ".join(part for part in (r.name, r.who) if part) for r in route.to if r.kind == "address"
        ),
        "to_variables": [r.who for r in route.to if r.kind == "variable"],
        "paths": "\n".join(r.who for r in route.to if r.kind == "path"),
        "waiting": routes.waiting(session(), store_id(), row.id, g.now),
        "variables": list(setup.variables),
    }


def _to_verify(route: Route) -> dict[str, str] | None:
    """The address that the route sends from and that is not verified yet: where a code is sent to it."""
    setup = live().setup
    gateway, message = setup.gateways.get(route.gateway), setup.messages.get(route.send)
    if gateway is None or not sender_problem(route, message, gateway, setup.store):
        return None
    sender = sender_of(route, message, gateway, setup.store)
    if sender is None or not sender.address or sender.verified:
        return None
    own = next((one for one in setup.store.senders if one is sender), None)
    if own is None:
        return {"address": sender.address, "at": url_for("gateways.verify", key=gateway.key), "gateway": ""}
    return {"address": own.address, "at": url_for("senders.verify", key=own.key), "gateway": gateway.key}


def _shown(
    route: Route, sample: sample_events.SampleEvent, decision: Decision | None
) -> list[tuple[PlannedSend, Any, list[PlannedSend]]]:
    """What would be sent: each send, what it says, and what would follow if it failed."""
    if decision is None or sample.event is None:
        return []
    after = rehearse_fallbacks(session().connection(), live(), route, sample.event, decision.sends)
    return [(send, rendered(send, live()), follow) for send, follow in zip(decision.sends, after, strict=True)]


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
    part = address_part(route.channel, live().setup.gateways.get(route.gateway))
    needed = {f"reading.{part}", "reading.reference"}
    message = live().setup.messages.get(route.send)
    if message is None:
        return []
    for locale in message.variants(route.channel):
        try:
            needed |= {
                f"recipes.{name}" for name in compiled_part(message, route.channel, locale, live().setup.store).names
            }
        except Invalid:
            continue
    found = []
    known = shapes.of_sources(session(), [live().source_ids[key] for key in route.sources if key in live().source_ids])
    for key in route.sources:
        source = live().setup.sources.get(key)
        if source:
            found_here = drifting(source, known.get(live().source_ids[key], {}))
            found += [(key, source.name, drift) for field_id, drift in found_here.items() if field_id in needed]
    return found


def rehearse(route: Route, sample: sample_events.SampleEvent, now: LiveSetup) -> Decision | None:
    """What a route as it stands would make of the sample event; nothing is stored and nothing sent."""
    if sample.event is None or sample.reading is None or sample.variables is None or sample.source is None:
        return None
    found = rehearse_one(session().connection(), now, route, sample.event)
    if found is not None:
        return found
    event = happened(sample)
    return decide(
        event,
        sample.reading,
        sample.variables,
        ActiveRoute(route, ALWAYS),
        now.setup,
        known(sample, [route], now),
        event.received_at,
    )


def rendered(send: PlannedSend, now: LiveSetup) -> Any:
    """What a planned send would say; None where it can't be made."""
    message = now.setup.messages.get(send.message)
    if message is None or send.state.value == "held":
        return None
    try:
        return part_for_reader(message, send.channel, send.locale, send.format_locale, now.setup.store).render(
            send.values
        )
    except (CantRender, Invalid):
        return None


def happened(sample: sample_events.SampleEvent) -> Event:
    """The sample event as planning takes it."""
    assert sample.event is not None
    assert sample.source is not None
    return Event(
        sample.event.id,
        sample.event.type,
        sample.event.name,
        sample.source.key,
        sample.payload,
        sample.event.received_at,
        sample.event.was,
        sample.event.now,
    )


def known(sample: sample_events.SampleEvent, asking: list[Route], now: LiveSetup) -> Facts:
    """What had happened when the sample event came, without what these routes themselves have said: a rehearsal starts
    anew.
    """
    assert sample.event is not None
    assert sample.reading is not None
    leave = frozenset(route.key for route in asking)
    found = history.of_one(
        session().connection(),
        now,
        asking,
        sample.event.source_id,
        sample.reading,
        sample.event.parent_id or sample.event.id,
        leave,
    )
    at = sample.event.received_at
    return dataclasses.replace(
        as_of(found, sample.event, speaking_before(now.setup.routes, asking)),
        current={},
        types=tuple(t for t in found.types if t[1] <= at),
        sent_to_customer=tuple(moment for moment in found.sent_to_customer if moment < at),
    )


def conditions(group: Group, sample: sample_events.SampleEvent, route: Route | None = None) -> dict[str, Any]:
    """What a page needs to show and change conditions: the group, how each part came out, what may be looked at."""
    verdict = None
    values: dict[str, str] = {}
    if (
        sample.event is not None
        and sample.reading is not None
        and sample.variables is not None
        and sample.source is not None
    ):
        asking = [
            (route or Route(key="x", name="x")).model_copy(
                update={
                    "only_if": Group.model_validate(
                        {
                            "of": [
                                *({"kind": "compare", "of": name} for name in ("contact.tags", "contact.spent")),
                                {"kind": "compare", "of": "history.events"},
                            ]
                        }
                    )
                }
            )
        ]
        event, past = happened(sample), known(sample, asking, live())
        context = PlanningContext(event, sample.reading, sample.variables, live().setup, past, event.received_at)
        verdict = worked_condition(group, context).as_dict()
        for name, _ in subjects(live().setup):
            found = subject(name, context)
            values[name] = (
                show(
                    found.value if not isinstance(found.value, tuple) else " → ".join(found.value),
                    live().setup.store.locale,
                )[:60]
                if found.value is not None
                else ""
            )
    listed = [{"name": name, "kind": kind, "value": values.get(name, "")} for name, kind in subjects(live().setup)]
    asked = {
        questions.subject_name(message.key): f"the answer to “{message.name}”"
        for message in asking_messages(live().setup)
    }
    segments = {f"segment.{segment.key}": f"is in “{segment.name}”" for segment in live().setup.store.segments}
    return {
        "group": group.model_dump(mode="json"),
        "verdict": verdict,
        "subjects": listed,
        "operators": OPERATORS,
        "said": OPERATOR_LABELS,
        "called": SUBJECT_LABELS | segments | asked,
        "seen": orders.values_seen(session(), store_id())
        | {"history.events": list(event_types.LABELS.items())}
        | {
            questions.subject_name(message.key): questions.outcomes(message)
            for message in asking_messages(live().setup)
        },
        "items": {
            "order.lines": parts_of_items("line", LINE_PARTS),
            "order.parcels": parts_of_items("parcel", PARCEL_PARTS),
            "contact.products": ["sku", "name"],
        },
    }


def parts_of_items(kind: str, known: tuple[str, ...]) -> list[str]:
    """The parts of a line or parcel that a condition may look at: those that are known, and the sources' own."""
    own = {name for source in live().setup.sources.values() for name in getattr(source, kind)}
    return [*known, *sorted(own - set(known))]
