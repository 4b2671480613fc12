"""What was known of the past when an event was planned, kept with it for decisions that wait for an answer. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from angelon.core.planning.inputs import Answer, Contact, Facts
from angelon.core.planning.purchases import Purchase
from angelon.core.questions import Asked
from angelon.core.values import Money, pack, unpack


def packed(facts: Facts) -> dict[str, Any]:
    """The part of the facts that is of a moment, as plain JSON: how the order and its customer stood. What has been
    sent, and who must not be written to, is no part of it: that is always looked at as it is.
    """
    return {
        "statuses": list(facts.statuses),
        "others": {part: list(seen) for part, seen in facts.other_statuses.items()},
        "types": [[type_, at.isoformat()] for type_, at in facts.types],
        "answers": [[one.text, one.at.isoformat()] for one in facts.answers],
        "questions": [
            [one.message, one.asked_at.isoformat(), one.outcome, one.closed_at.isoformat() if one.closed_at else None]
            for one in facts.questions
        ],
        "contact": _contact(facts.contact) if facts.contact is not None else None,
    }


def as_known(kept: Mapping[str, Any], now: Facts) -> Facts:
    """The facts for a decision that is taken later: how all stood then, and what has been sent by now."""
    contact = kept["contact"]
    return replace(
        now,
        statuses=tuple(kept["statuses"]),
        other_statuses={part: tuple(seen) for part, seen in kept["others"].items()},
        types=tuple((type_, dt.datetime.fromisoformat(at)) for type_, at in kept["types"]),
        answers=tuple(Answer(text, dt.datetime.fromisoformat(at)) for text, at in kept["answers"]),
        questions=tuple(_asked(*one) for one in kept.get("questions", ())),
        contact=_known(contact) if contact is not None else None,
    )


def _asked(message: str, asked_at: str, outcome: str, closed_at: str | None) -> Asked:
    closed = dt.datetime.fromisoformat(closed_at) if closed_at else None
    return Asked(message, dt.datetime.fromisoformat(asked_at), outcome, closed)


def _contact(one: Contact) -> dict[str, Any]:
    return {
        "orders": one.orders,
        "returned": one.returned,
        "complained": one.complained,
        "language": one.language,
        "country": one.country,
        "tags": list(one.tags),
        "purchases": [[order, pack(bought.total), list(bought.items)] for order, bought in one.purchases.items()],
        "kept": {name: pack(value) for name, value in one.kept.items()},
    }


def _known(kept: Mapping[str, Any]) -> Contact:
    purchases = {}
    for order, total, items in kept["purchases"]:
        money = unpack(total)
        pairs = tuple((sku, name) for sku, name in items)
        purchases[order] = Purchase(money if isinstance(money, Money) else None, pairs)
    return Contact(
        kept["orders"],
        kept["returned"],
        kept["complained"],
        kept["language"],
        tuple(kept["tags"]),
        kept["country"],
        purchases,
        {name: unpack(value) for name, value in kept["kept"].items()},
    )
