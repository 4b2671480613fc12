"""What a route as it is rehearsed has said in the events so far, beside what is known to have happened. Pure but for
its own memory.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

from angelon.core.planning.given import Event, Facts, Spoken
from angelon.core.planning.plan import Decision, spoken_of
from angelon.core.states import State


class Past:
    """The memory of one rehearsal over many events, oldest first."""

    def __init__(self) -> None:
        self._told: dict[tuple[str, str], set[tuple[str, str, str]]] = {}
        self._told_customer: dict[str, dict[str, dt.datetime]] = {}
        self._spoken: dict[tuple[str, str], list[tuple[str, Spoken]]] = {}
        self._to_customer: dict[str, list[dt.datetime]] = {}

    def facts(self, known: Facts, event: Event, reference: str, customer: str, delivery: str) -> Facts:
        """What is known, with what the rehearsal itself has said. `customer` tells customers apart, `delivery`
        deliveries; empty where nothing does.
        """
        order = (event.source, reference)
        own = self._spoken.get(order, []) if reference else []
        return replace(
            known,
            told=known.told | self._told.get(order, set()) if reference else known.told,
            told_customer={**known.told_customer, **self._told_customer.get(customer, {})}
            if customer
            else known.told_customer,
            spoken=tuple(sorted((*known.spoken, *(spoken for _, spoken in own)), key=lambda one: one.at)),
            same_delivery=(*known.same_delivery, *(spoken for came, spoken in own if came == delivery)),
            spoken_customer=tuple(sorted((*known.spoken_customer, *self._to_customer.get(customer, []))))
            if customer
            else known.spoken_customer,
        )

    def note(
        self, decision: Decision, event: Event, reference: str, customer: str, delivery: str, now: dt.datetime
    ) -> None:
        """Takes a decision in."""
        for send in decision.sends:
            if send.state is State.SKIPPED:
                continue
            if reference:
                self._told.setdefault((event.source, reference), set()).add((decision.route, event.source, reference))
                self._spoken.setdefault((event.source, reference), []).append(
                    (delivery, spoken_of(send, now, out=True))
                )
            if customer and reference:
                self._told_customer.setdefault(customer, {})[decision.route] = now
            if customer and reference and send.to == "customer":
                self._to_customer.setdefault(customer, []).append(now)
