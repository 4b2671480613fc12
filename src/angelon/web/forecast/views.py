"""The page of the next 30 days: how much each gateway will have to send, what it costs, and whether that is enough."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, g, render_template, stream_with_context

from angelon.core.planning.forecast import ForecastDays
from angelon.core.specs import Gateway
from angelon.db.tables import GatewayUseRow
from angelon.db.upkeep import gateway_use
from angelon.engine.past.forecasting import Forecast, forecast
from angelon.web.services import live, routes, services, session
from angelon.web.stores import of_store

pages = Blueprint("forecast", __name__, url_prefix="/forecast", template_folder="templates")


@dataclass(frozen=True)
class Row:
    """One gateway: what is expected of it by what is live, and by all drafts; and what falls short, in words."""

    gateway: Gateway
    live: tuple[ForecastDays, ForecastDays]
    drafts: tuple[ForecastDays, ForecastDays]
    short: list[str]


@pages.get("")
def page() -> Any:
    return render_template("forecast/page.html")


@pages.get("/run")
def run() -> Any:
    """The forecast as it goes, a line of JSON for each step: how far it is, and in the end the page's part as HTML."""
    rows, now, at, zone = routes(), live(), g.now, g.zone
    use = {key: gateway_use.load(session().connection()).get(id_) for key, id_ in now.gateway_ids.items()}

    def lines() -> Iterator[str]:
        made: Forecast | None = None
        with services().database.reading() as reading:  # the request's own is closed by the time that this is read
            for done, of, told in forecast(reading.connection(), now, rows, at, zone):
                made = told or made
                yield json.dumps({"done": done, "of": of}) + "\n"
        assert made is not None
        table = [
            _row(gateway, made, use.get(key), at.astimezone(zone).date())
            for key, gateway in now.setup.gateways.items()
            if key in made.live or key in made.drafts
        ]
        drafts = any(row.live != row.drafts for row in table)
        html = render_template("forecast/_table.html", made=made, rows=table, drafts=drafts)
        yield json.dumps({"html": of_store(html)}, ensure_ascii=False) + "\n"

    return Response(stream_with_context(lines()), mimetype="application/x-ndjson", headers={"X-Accel-Buffering": "no"})


def _row(gateway: Gateway, made: Forecast, use: GatewayUseRow | None, today: dt.date) -> Row:
    nothing = ForecastDays(0.0, 0.0, 0.0, [])
    sends, cost = made.live.get(gateway.key, (nothing, nothing))
    return Row(
        gateway,
        (sends, cost),
        made.drafts.get(gateway.key, (nothing, nothing)),
        shortages(gateway, use, sends, cost, today),
    )


def shortages(
    gateway: Gateway, use: GatewayUseRow | None, sends: ForecastDays, cost: ForecastDays, today: dt.date
) -> list[str]:
    """What will not be enough, as sentences: credit, and quotas."""
    found = []
    balance = use.balance / 1_000_000 if use is not None and use.balance is not None else None
    lasts = cost.lasts(balance) if balance is not None else None
    if lasts is not None:
        on = today + dt.timedelta(days=lasts - 1)
        found.append(f"The credit is used up about {on:%-d %B}.")
    busiest = max(sends.days, default=0.0)
    if gateway.quota.per_day and busiest > gateway.quota.per_day:
        found.append(f"Its quota of {gateway.quota.per_day:,} a day is less than a day’s {busiest:,.0f}.")
    month = sum(sends.days)
    if gateway.quota.per_month and month > gateway.quota.per_month:
        found.append(f"Its quota of {gateway.quota.per_month:,} a month is less than the {month:,.0f} expected.")
    return found
