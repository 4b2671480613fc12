"""Chat texts handed in for a provider's review, and what became of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import httpx

from angelon.core.calls import CantCall, make_request, read_answer
from angelon.core.messages.approved import ApprovedText, read_list
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.gateway import Gateway, HttpCall
from angelon.gateways.http import ask
from angelon.gateways.trust import trusted

LONGEST_LIST = 2_000_000
"""Bytes of a list of texts that are read."""


@dataclass(frozen=True, slots=True)
class Verdict:
    """What a provider says of a text: `failed` where it could not be asked. `reason` is its own, or why not."""

    state: Literal["submitted", "approved", "rejected", "failed"]
    reason: str = ""
    reference: str = ""


def submit(gateway: Gateway, secret: str, values: Mapping[str, Any]) -> Verdict:
    """Hands a text in. The provider may decide at once."""
    return (
        _ask(gateway, secret, gateway.review.submit, values, ("outcome_at", "id_at"))
        if gateway.review
        else Verdict("approved")
    )


def look(gateway: Gateway, secret: str, reference: str) -> Verdict:
    """Asks what became of a text."""
    return (
        _ask(gateway, secret, gateway.review.look, {"id": reference}, ("outcome_at",))
        if gateway.review
        else Verdict("approved")
    )


def listed(gateway: Gateway, secret: str) -> list[ApprovedText]:
    """The texts that the provider has approved already. Raises Invalid where it can't be asked, or says no list."""
    review = gateway.review
    if review is None or review.texts is None:
        return []
    try:
        request = make_request(review.texts.call, gateway.auth, secret, {})
    except CantCall as error:
        raise Invalid([error.problem]) from None
    with httpx.Client(verify=trusted(), timeout=min(gateway.timeout_seconds, 15), trust_env=False) as client:
        outcome, body = ask(client, request, review.texts.call, promised=(), most=LONGEST_LIST)
    if outcome.kind != "accepted":
        why = " ".join(part for part in (outcome.code, outcome.answer) if part)
        what = f"{gateway.name} could not be asked: {why}"
        raise Invalid([Problem("", what, "Look at the gateway’s settings, and open the list again.")])
    return read_list(review, body)


def _ask(
    gateway: Gateway, secret: str, call: HttpCall, values: Mapping[str, Any], promised: tuple[str, ...]
) -> Verdict:
    assert gateway.review is not None
    try:
        request = make_request(call, gateway.auth, secret, values)
    except CantCall as error:
        return Verdict("failed", str(error.problem))
    with httpx.Client(verify=trusted(), timeout=min(gateway.timeout_seconds, 15), trust_env=False) as client:
        outcome, body = ask(client, request, call, promised=promised)
    told = read_answer(call, body)
    if outcome.kind == "permanent" and told.outcome in gateway.review.rejected:
        return Verdict("rejected", told.reason, told.id)
    if outcome.kind != "accepted":
        return Verdict("failed", " ".join(part for part in (outcome.code, outcome.answer) if part))
    if told.outcome in gateway.review.approved:
        return Verdict("approved", "", told.id)
    if told.outcome in gateway.review.rejected:
        return Verdict("rejected", told.reason, told.id)
    return Verdict("submitted", "", told.id)
