"""A send that a handler asks for, as a route that would make it. Pure."""

from __future__ import annotations

from angelon.core.planning.context import PlanningContext
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.asked import AskedSend
from angelon.core.specs.route import Route
from angelon.core.specs.timing import Timing
from angelon.core.values import unpack


def as_route(route: Route, one: AskedSend, context: PlanningContext) -> tuple[Route, Variables, str]:
    """A send that a handler asks for as a route, the values that it is made with, and what is wrong with it."""
    setup = context.setup
    unknown = sorted(one.values.keys() - setup.variables.keys())
    if unknown:
        problem = f"The handler gives “{unknown[0]}”, and there is no variable of that name."
    elif one.gateway and one.gateway not in setup.gateways:
        problem = f"The handler names the gateway “{one.gateway}”, and there is none of that key."
    else:
        problem = ""
    gateway = one.gateway or next((key for key, way in setup.gateways.items() if way.channel == one.by), "")
    timing = Timing(amount=one.after.amount, unit=one.after.unit) if one.after is not None else Timing()
    made = route.model_copy(
        update={
            "send": one.message,
            "channel": one.by,
            "gateway": gateway,
            "to": [one.recipient()],
            "timing": timing,
        }
    )
    given = {name: unpack(value) for name, value in one.values.items()}
    return made, context.variables.with_given(given), problem
