"""What every page has around it: the rail with its counts, what needs a hand, the engine's pulse."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode
from zoneinfo import ZoneInfo

from flask import Flask, abort, current_app, g, request

from angelon.core.access import ROLES, may
from angelon.db.derived import overview
from angelon.db.setup import specs
from angelon.db.upkeep import installations
from angelon.web import stores
from angelon.web.guide.views import page_for
from angelon.web.services import services, session


@dataclass(frozen=True)
class Place:
    """One entry of the rail."""

    label: str
    address: str
    icon: str
    count: int | None = None


@dataclass(frozen=True)
class Pulse:
    """How the engine is: a word for its state, and the sentence."""

    state: str
    label: str


def rail(counts: dict[str, int]) -> list[tuple[str, list[Place]]]:
    return [
        (
            "Watch",
            [
                Place("Overview", "/", "overview"),
                Place("Orders", "/orders", "orders", counts.get("orders")),
                Place("Parcels", "/parcels", "parcels"),
                Place("Documents", "/documents", "documents"),
                Place("Sends", "/sends", "sends", counts.get("sends")),
            ],
        ),
        (
            "Build",
            [
                Place("Sources", "/sources", "sources", counts.get("sources")),
                Place("Messages", "/messages", "messages", counts.get("messages")),
                Place("Letterhead", "/letterhead", "letterhead"),
                Place("Customer pages", "/customer-pages", "customer_pages"),
                Place("Files", "/files", "files"),
                Place("Routes", "/routes", "routes", counts.get("routes")),
                Place("Handlers", "/handlers", "handlers"),
            ],
        ),
        (
            "Deliver",
            [
                Place("Gateways", "/gateways", "gateways", counts.get("gateways")),
                Place("Senders", "/senders", "senders"),
                Place("Carriers", "/carriers", "carriers"),
                Place("Suppressions", "/suppressions", "suppressions"),
            ],
        ),
        (
            "Prove",
            [
                Place("Rehearsals", "/rehearsals", "rehearsals"),
                Place("Checks", "/checks", "checks"),
                Place("Changes", "/changes", "changes"),
                Place("Stand-ins", "/standins", "standins"),
            ],
        ),
        ("Shop", [Place("Settings", "/settings", "settings"), Place("Guide", page_for(request.path), "guide")]),
    ]


def pulse(numbers: overview.Numbers, now: dt.datetime) -> Pulse:
    if numbers.last_beat is None or now - numbers.last_beat > dt.timedelta(seconds=20):
        return Pulse("failed", "no worker is running")
    behind = max((now - at for at in (numbers.oldest_unplanned, numbers.oldest_overdue) if at), default=dt.timedelta())
    if behind > dt.timedelta(seconds=5):
        from angelon.web.formats import span

        return Pulse("retrying", f"running, {span(behind)} behind")
    return Pulse("sent", "running, up to date")


def install(app: Flask) -> None:
    @app.before_request
    def zone() -> None:
        g.now = services().clock.now()
        g.zone = ZoneInfo("UTC")
        if request.endpoint in (None, "static") or request.path.startswith(("/in/", "/healthz", "/readyz", "/metrics")):
            return
        rows, g.any_accounts = specs.stores_and_accounts(session())
        g.stores = [(row.key, str(row.spec.get("name") or row.key)) for row in rows]
        if rows:
            row = stores.in_view(rows)
            if row is None:
                g.any_accounts = True  # shown to nobody who is not signed in
                abort(404, "There is no store at this address.")
            g.store = row
            g.zone = ZoneInfo(row.spec.get("timezone", "UTC"))
        g.today = g.now.astimezone(g.zone).date()

    app.jinja_env.globals["with_args"] = with_args

    @app.context_processor
    def around() -> dict[str, Any]:
        row = g.get("store")
        theme = request.cookies.get("theme", "system")
        return {
            "frame": frame,
            "next_step": next_step,
            "store_name": row.spec.get("name") if row else "No store yet",
            "store_spec": {"currency": "EUR", **({"timezone": "UTC", **row.spec} if row else {})},
            "trial": row.trial if row is not None else "",
            "theme": theme if theme in ("light", "dark") else "system",
            "now": g.now,
            "stores": [
                (name, "/" if number == 0 else f"{stores.PREFIX}{key}/", row is not None and row.key == key)
                for number, (key, name) in enumerate(g.get("stores", []))
            ],
            "demo": services().settings.demo,
            "demo_roles": tuple(ROLES),
        }


@dataclass(frozen=True)
class Frame:
    """What a whole page has around it; a part of a page asks for none of it."""

    rail: list[tuple[str, list[Place]]]
    needs_attention: int
    pulse: Pulse
    moved_to: str = ""
    """The database that this installation was moved to; what is changed here is lost."""


def frame() -> Frame:
    """What is around this request's page; asked for once."""
    if "frame" not in g:
        g.frame = _frame()
    found: Frame = g.frame
    return found


def _frame() -> Frame:
    row = g.get("store")
    if row is None or not row.id:
        return Frame(rail({}), 0, Pulse("open", "no shop yet"))
    numbers = overview.numbers(session(), row.id, g.now)
    state = pulse(numbers, g.now)
    gone = numbers.last_beat is not None and state.state == "failed"  # its workers are no longer there
    moved = installations.moved_to(session()) if gone else ""
    return Frame(_seen(rail(numbers.counts)), numbers.needs, Pulse("failed", "moved away") if moved else state, moved)


_PARTS = {"/": "overview", "/files": "library", "/customer-pages": "customer_pages"}


def _seen(places: list[tuple[str, list[Place]]]) -> list[tuple[str, list[Place]]]:
    """The places that whoever looks may see."""
    role = g.get("role", "owner")
    kept = [
        (
            group,
            [place for place in found if may(role, _PARTS.get(place.address) or place.address.split("/")[1], False)],
        )
        for group, found in places
    ]
    return [(group, found) for group, found in kept if found]


def next_step() -> Any:
    """The first step to the first mail that is not done; None where a send has gone out, or where the page in view is
    the place for it.
    """
    row = g.get("store")
    led: set[int] = current_app.extensions.setdefault("angelon.led", set())
    if row is None or not row.id or row.id in led or request.path in ("/", "/start"):
        return None
    from angelon.web.overview.steps import steps

    found = steps()
    if all(step.done for step in found):
        led.add(row.id)
    left = next((step for step in found if not step.done), None)
    return left if left is not None and left.href != request.path else None


def with_args(**changes: str) -> str:
    """The query of this page's address with some parts changed, those that are empty left out; what only answers to an
    earlier search goes.
    """
    kept = {name: value for name, value in request.args.items() if name not in ("find", "sample", "order")}
    return "?" + urlencode({name: value for name, value in (kept | changes).items() if value})
