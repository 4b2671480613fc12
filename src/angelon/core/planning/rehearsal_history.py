"""What a route as it is rehearsed has said in the events so far, beside what is known to have happened. Pure but for
its own memory.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

from angelon.core.planning.inputs import Event, Facts, PriorSend
from angelon.core.planning.plan import Decision, prior_send_of
from angelon.core.states import State


class RehearsalHistory:
    """The memory of one rehearsal over many events, oldest first."""

    def __init__(self) -> None:
        self._sent_for_order: dict[tuple[str, str], set[tuple[str, str, str]]] = {}
        self._last_sent_to_customer: dict[str, dict[str, dt.datetime]] = {}
        self._prior_sends: dict[tuple[str, str], list[tuple[str, PriorSend]]] = {}
        self._sent_to_customer: dict[str, list[dt.datetime]] = {}

    def facts(self, known: Facts, event: Event, reference: str, customer: str, delivery: str) -> Facts:
        """What is known, with what the rehearsal itself has said. `customer` tells customers apart, `delivery`
        deliveries; empty where nothing does.
        """
        order = (event.source, reference)
        own = self._prior_sends.get(order, []) if reference else []
        return replace(
            known,
            sent_for_order=known.sent_for_order | self._sent_for_order.get(order, set())
            if reference
            else known.sent_for_order,
            last_sent_to_customer={**known.last_sent_to_customer, **self._last_sent_to_customer.get(customer, {})}
            if customer
            else known.last_sent_to_customer,
            prior_sends=tuple(
                sorted((*known.prior_sends, *(prior_sends for _, prior_sends in own)), key=lambda one: one.at)
            ),
            same_delivery=(*known.same_delivery, *(prior_sends for came, prior_sends in own if came == delivery)),
            sent_to_customer=tuple(sorted((*known.sent_to_customer, *self._sent_to_customer.get(customer, []))))
            if customer
            else known.sent_to_customer,
        )

    def note(
        self, decision: Decision, event: Event, reference: str, customer: str, delivery: str, now: dt.datetime
    ) -> None:
        """Takes a decision in."""
        for send in decision.sends:
            if send.state is State.SKIPPED:
                continue
            if reference:
                self._sent_for_order.setdefault((event.source, reference), set()).add(
                    (decision.route, event.source, reference)
                )
                self._prior_sends.setdefault((event.source, reference), []).append(
                    (delivery, prior_send_of(send, event, now, out=True))
                )
            if customer and reference:
                self._last_sent_to_customer.setdefault(customer, {})[decision.route] = now
            if customer and reference and send.to == "customer":
                self._sent_to_customer.setdefault(customer, []).append(now)
