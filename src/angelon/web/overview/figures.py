"""The overview's figures: gateways in the last hour, how long handing over takes, outcomes by channel, what is due."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from flask import g

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.db.derived import overview
from angelon.db.derived.counts import Day
from angelon.db.log import parcels
from angelon.engine.orders.parcels import called
from angelon.web.formats import span
from angelon.web.gateways.states import gateway_states
from angelon.web.services import live, session, store_id

BARS, A_BAR = 12, dt.timedelta(minutes=5)
KNOWN = {
    "email": "What a mail server says is that it took the mail, and later that it came back. Whether it was read "
    "nobody can know.",
    "sms": "That the provider took it; that the phone got it, where the provider tells.",
    "chat": "That the provider took it; that it arrived and was read, where the provider tells.",
    "call": "What the other system answered.",
}
"""What can be known of a send by each channel."""


@dataclass
class Bar:
    """The tries of five minutes."""

    accepted: int = 0
    again: int = 0
    """Those that are tried again."""
    refused: int = 0

    @property
    def all(self) -> int:
        return self.accepted + self.again + self.refused


@dataclass
class GatewayNow:
    """One gateway: how it stands, and what its last hour was like."""

    key: str
    name: str
    shape: str
    word: str
    bars: list[Bar] = field(default_factory=lambda: [Bar() for _ in range(BARS)])

    @property
    def tries(self) -> int:
        return sum(bar.all for bar in self.bars)

    @property
    def told(self) -> str:
        """The hour in words."""
        if not self.tries:
            return "nothing to send"
        parts = [
            (sum(bar.accepted for bar in self.bars), "taken"),
            (sum(bar.again for bar in self.bars), "to be tried again"),
            (sum(bar.refused for bar in self.bars), "refused"),
        ]
        return ", ".join(f"{number:,} {word}" for number, word in parts if number)


UNDER_WAY = (
    ("label_printed", "not picked up yet"),
    ("picked_up", "picked up"),
    ("in_transit", "in transit"),
    ("out_for_delivery", "out"),
    ("ready_to_collect", "to collect"),
    ("failed", "failed"),
)
"""The stages of parcels that are not delivered, as the overview calls them."""


def parcels_by_stage() -> list[tuple[str, str, str, str, int]]:
    """The parcels of the last 90 days that are not delivered, as the database counts them; asked once a page."""
    if "parcels_by_stage" not in g:
        g.parcels_by_stage = parcels.under_way(session(), store_id(), g.now - dt.timedelta(days=90))
    return list(g.parcels_by_stage)


def parcels_under_way() -> list[tuple[str, str, list[tuple[str, str, int]]]]:
    """By carrier (key, name): how many parcels are how far (stage, what it is called, number), the most first."""
    found: dict[str, Counter[str]] = {}
    for carrier, stage, _, _, number in parcels_by_stage():
        found.setdefault(carrier, Counter())[stage] += number
    rows = [
        (key, called(live(), key) or "not known", [(s, word, of[s]) for s, word in UNDER_WAY if of[s]])
        for key, of in found.items()
    ]
    return sorted(rows, key=lambda row: -sum(number for _, _, number in row[2]))[:6]


def gateways() -> list[GatewayNow]:
    """Every gateway with its last hour, in five minutes each."""
    began = g.now - BARS * A_BAR
    made = {}
    for key, id_ in live().gateway_ids.items():
        gateway = live().setup.gateways.get(key)
        if gateway is None:
            continue
        state = gateway_states()[key]
        made[id_] = GatewayNow(key, gateway.name, state.shape, state.word)
    for gateway_id, at, outcome in overview.tries(session(), store_id(), began):
        if gateway_id in made:
            bar = made[gateway_id].bars[min(BARS - 1, max(0, (at - began) // A_BAR))]
            if outcome == "accepted":
                bar.accepted += 1
            elif outcome == "permanent":
                bar.refused += 1
            else:
                bar.again += 1
    return list(made.values())


def handed_over(since: dt.datetime) -> tuple[str, str, int]:
    """From an event to its send's being handed over: what half take at most, what 19 of 20 take, and of how many sends
    that is; empty where there is none.
    """
    took = overview.handed_over_in(session(), store_id(), since)
    if not took:
        return "", "", 0
    return _span(took[len(took) // 2]), _span(took[min(len(took) - 1, int(len(took) * 0.95))]), len(took)


def _span(seconds: float) -> str:
    return span(dt.timedelta(seconds=seconds))


@dataclass
class ChannelOutcomes:
    """What became of a channel's sends, and what can be known of them."""

    channel: str
    label: str
    counted: Counter[str]
    known: str

    @property
    def out(self) -> int:
        return sum(self.counted[state] for state in ("sent", "delivered", "read"))


def outcomes(days: Sequence[Day]) -> list[ChannelOutcomes]:
    """By channel, those that have any send in these days."""
    counted: dict[str, Counter[str]] = {}
    for day in days:
        for (channel, state), number in day.outcomes.items():
            counted.setdefault(channel, Counter())[state] += number
    return [
        ChannelOutcomes(channel, label, counted[channel], KNOWN[channel])
        for channel, label in CHANNEL_LABELS.items()
        if sum(counted.get(channel, Counter()).values())
    ]
