"""What an order's page shows of its parcels."""

from __future__ import annotations

from typing import Any

from flask import request

from angelon.core.parcels.stages import LABELS
from angelon.db.log import parcels
from angelon.engine.feedback.preferences import Links
from angelon.engine.orders.parcels import left_over, text_of
from angelon.web.parcels import shown
from angelon.web.services import live, public_address, services, session


def around_order(order: Any, **typed: Any) -> dict[str, Any]:
    """What the part of an order's page about parcels shows."""
    lines = (order.read or {}).get("lines") or []
    of_order = parcels.of_orders(session().connection(), [order.id]).get(order.id, [])
    names = [
        (text_of(line, "sku") or text_of(line, "name"), text_of(line, "name") or text_of(line, "sku")) for line in lines
    ]
    carriers = [one for one in live().setup.store.carriers if one.on]
    follow = public_address() and live().setup.store.pages.follow
    return {
        "parcels": [shown.show(one.row, one.items) for one in of_order],
        "left": [text_of(line, "name") or text_of(line, "sku") for line in left_over(lines, of_order)],
        "carriers": carriers,
        "line_choices": [pair for pair in names if pair[0]],
        "stages": shown.SAID,
        "labels": LABELS,
        "troubles": shown.TROUBLES,
        "told_of": shown.told_of,
        "teller": shown.teller,
        "adding": [
            one.route for one in live().setup.routes if "parcel.added" in one.route.when and not one.route.handler
        ],
        "follow": f"/f/{Links(services().vault).follow_token(order.id)}" if follow else "",
        "typed": request.form,
        "guesses": None,
    } | typed
