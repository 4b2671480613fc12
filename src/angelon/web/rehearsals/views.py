"""Rehearsals: a route over many events of the past, what a change of it does, an event that is given."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, stream_with_context, url_for
from markupsafe import Markup

from angelon.core import event_types
from angelon.core.deliveries import Received, read_delivery
from angelon.core.payload.body import NotReadable
from angelon.core.planning import checking
from angelon.core.planning.effect import Change, compare
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Contact, Event, Facts
from angelon.core.planning.plan import Decision, PlannedSend, decide, work_out
from angelon.core.planning.trace_lines import TraceLine
from angelon.core.specs import Route
from angelon.db.log import events
from angelon.db.setup.specs import StoredRoute
from angelon.engine.past.rehearsals import Rehearsed, Span, rehearse
from angelon.web.messages.comparing import marked
from angelon.web.routes.sentence import rendered
from angelon.web.routes.views import stored
from angelon.web.services import live, names, routes, services, session
from angelon.web.stores import of_store

pages = Blueprint("rehearsals", __name__, url_prefix="/rehearsals", template_folder="templates")

SPANS = {"7d": Span(7), "30d": Span(30), "100": Span(0, 100), "1000": Span(0, 1000), "10000": Span(0, 10_000)}
SPAN_LABELS = {
    "7d": "the last 7 days",
    "30d": "the last 30 days",
    "100": "the last 100 events",
    "1000": "the last 1,000 events",
    "10000": "the last 10,000 events",
}
SHOWN = 200


@pages.get("")
def index() -> Any:
    rows = [(row, row.spec) for row in routes()]
    return render_template("rehearsals/index.html", rows=rows, spans=SPAN_LABELS)


@pages.get("/<route>")
def span(route: str) -> Any:
    return _page(route, "span")


@pages.get("/<route>/effect")
def effect(route: str) -> Any:
    row = stored(route)
    if not row.live_id or row.draft is None:
        flash("The route has no change that is not live: there is nothing to compare.", "bad")
        return redirect(url_for("routes.edit", key=route))
    return _page(route, "effect")


def _page(route: str, kind: str) -> Any:
    row = stored(route)
    chosen = request.args.get("span", "30d")
    spec = row.spec
    return render_template(
        "rehearsals/span.html",
        row=row,
        route=spec,
        kind=kind,
        spans=SPAN_LABELS,
        chosen=chosen if chosen in SPANS else "30d",
    )


@pages.get("/<route>/run")
def run(route: str) -> Any:
    """A rehearsal as it goes, a line of JSON for each step: how far it is, and in the end the page's part as HTML."""
    row = stored(route)
    span = SPANS.get(request.args.get("span", ""), SPANS["30d"])
    chosen = _routes(row, request.args.get("kind", "span"))
    skipped = events.count_others(
        session().connection(),
        [live().source_ids[k] for r in chosen.values() for k in r.sources if k in live().source_ids],
        [t for r in chosen.values() for t in r.when],
        span.since(g.now),
    )

    called, now = names(), live()

    def lines() -> Iterator[str]:
        tally = EffectTally() if "was" in chosen else _Spans()
        with services().database.reading() as reading:  # the request's own is closed by the time that this is read
            for done, of, came in rehearse(reading.connection(), now, chosen, span, g.now):
                for one in came:
                    tally.take(one)
                yield json.dumps({"done": done, "of": of}) + "\n"
        page = render_template(
            tally.template, tally=tally, others=skipped, names=called, label=event_types.label, **tally.around()
        )
        yield json.dumps({"html": of_store(page)}, ensure_ascii=False) + "\n"

    return Response(stream_with_context(lines()), mimetype="application/x-ndjson", headers={"X-Accel-Buffering": "no"})


def _routes(row: StoredRoute, kind: str) -> dict[str, Route]:
    if kind != "effect":
        return {"now": row.spec}
    if row.live is None:
        abort(404, "The route has never been live: there is nothing to compare with.")
    return {"was": row.live, "now": row.spec}


class _Spans:
    """What one route makes of many events."""

    template = "rehearsals/_span.html"

    def __init__(self) -> None:
        self.outcomes: Counter[str] = Counter()
        self.reasons: Counter[tuple[str, str]] = Counter()
        self.rows: list[tuple[Rehearsed, Decision]] = []
        self.events = 0
        self.sends = 0

    def take(self, one: Rehearsed) -> None:
        decision = one.decisions["now"]
        self.events += 1
        self.outcomes[decision.outcome] += 1
        self.sends += sum(1 for send in decision.sends if send.state.value == "scheduled")
        if decision.outcome != "send":
            line = next((line for line in decision.trace if line.verdict in ("no", "problem")), None)
            self.reasons[line.part if line else "", general(line) if line else ""] += 1
        self.rows.append((one, decision))

    def around(self) -> dict[str, Any]:
        return {"rows": self.rows[::-1][:SHOWN], "reasons": self.reasons.most_common(8)}


def general(line: TraceLine) -> str:
    """Why a part said no, for counting: without what is one order's own."""
    if line.part == "once":
        return "It had sent for the order, or to the customer, before."
    return line.why.partition(": it is ")[0].rstrip(".") + "." if line.part == "if" else line.why


class EffectTally:
    """What a change of a route or a mapping does to what comes of many events."""

    template = "rehearsals/_effect.html"

    def __init__(self) -> None:
        self.kinds: Counter[str] = Counter()
        self.parts: Counter[str] = Counter()
        self.rows: list[tuple[Rehearsed, Change, str]] = []
        self.events = 0

    def take(self, one: Rehearsed) -> None:
        self.events += 1
        self.take_changes(one, compare(one.decisions["was"], one.decisions["now"]))

    def take_changes(self, one: Rehearsed, changes: Sequence[Change], route: str = "") -> None:
        """What becomes of one event; `route` names the route where several are compared."""
        for change in changes:
            self.kinds[change.kind] += 1
            self.parts.update(change.parts)
            if change.kind != "same":
                self.rows.append((one, change, route))

    def around(self) -> dict[str, Any]:
        newest = sorted(self.rows[::-1], key=lambda row: row[0].received_at, reverse=True)[:SHOWN]
        return {
            "rows": [
                (one, change, both(change) if number < 40 else None, route)
                for number, (one, change, route) in enumerate(newest)
            ]
        }


def both(change: Change) -> tuple[Markup, Markup] | None:
    """The two texts of a changed send side by side, with what differs marked; None where they say the same."""
    was, now = (checking.text_of(send, live().setup) if send else "" for send in (change.was, change.now))
    return marked(was, now) if was != now else None


# ---- an event that is given ---------------------------------------------------------------------------------------


@pages.post("/<route>/given")
def given(route: str) -> Any:
    """Rehearses a delivery that was pasted or uploaded."""
    row = stored(route)
    spec = row.spec
    file = request.files.get("file")
    data = file.read(2_000_000) if file and file.filename else request.form.get("body", "").encode()
    if not data.strip():
        flash("Paste a delivery, or choose a file with one.", "bad")
        return redirect(url_for("routes.edit", key=route))
    headers, body = _delivery(data)
    best: tuple[int, Any] | None = None
    problem = "The route listens to no source."
    for key in spec.sources:
        source = live().setup.sources.get(key)
        if source is None:
            continue
        try:
            received = read_delivery(source, headers, body)[0]
        except NotReadable as error:
            problem = str(error.problem)
            continue
        for event, decision, mine in _tried(spec, key, received):
            score = sum(line.verdict == "yes" for line in decision.trace)
            if best is None or score > best[0]:
                best = score, (event, decision, mine)
    if best is None:
        flash(f"It can’t be read: {problem}", "bad")
        return redirect(url_for("routes.edit", key=route))
    event, decision, number = best[1]
    shown: list[tuple[PlannedSend, Any]] = [(send, rendered(send, live())) for send in decision.sends]
    return render_template(
        "rehearsals/given.html",
        row=row,
        route=spec,
        event=event,
        decision=decision,
        shown=shown,
        number=number,
        label=event_types.label,
    )


def _tried(spec: Route, key: str, received: Received) -> Iterator[tuple[Event, Decision, str]]:
    """The delivery as the source names it; and, where that means something else, as what the route waits for."""
    source = live().setup.sources[key]
    reading, variables = work_out(source, live().setup, received.payload)
    meanings = [source.meanings(part).get(reading.text(part), "") for part in event_types.CHANGES]
    for type_ in dict.fromkeys([received.type, *(meaning for meaning in meanings if meaning in spec.when)]):
        event = Event("given", type_, received.name, key, received.payload, g.now)
        statuses = (reading.text("status"),) if reading.text("status") else ()
        yield (
            event,
            decide(
                event,
                reading,
                variables,
                ActiveRoute(spec, ALWAYS),
                live().setup,
                Facts(statuses=statuses, contact=Contact()),
                g.now,
            ),
            reading.number,
        )


def _delivery(data: bytes) -> tuple[Mapping[str, str], bytes]:
    """Headers (lower case) and body of what was given: an .http file where it starts with headers, else a body
    alone.
    """
    text = data.lstrip()
    if text[:1] in (b"{", b"["):
        return {"content-type": "application/json"}, text
    head, blank, body = data.replace(b"\r\n", b"\n").partition(b"\n\n")
    lines = [
        line for line in head.decode("utf-8", "replace").splitlines() if not line.upper().startswith(("POST ", "PUT "))
    ]
    if blank and lines and all(":" in line for line in lines):
        return {
            name.strip().lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)
        }, body.strip()
    return {"content-type": "application/x-www-form-urlencoded"}, data.strip()
