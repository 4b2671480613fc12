"""Who an email comes from: the sender of its route, else of its message, else the gateway's own. Pure."""

from __future__ import annotations

from collections.abc import Mapping

from angelon.core.specs.gateway import Gateway, Sender
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.store import Store


def sender_of(route: Route | None, message: Message | None, gateway: Gateway, store: Store) -> Sender | None:
    """The sender that was chosen, verified or not; None where the one that was chosen is gone."""
    chosen = (route.sender if route else "") or (message.envelope.sender if message else "")
    if not chosen:
        return gateway.sender
    return next((sender for sender in store.senders if sender.key == chosen), None)


def sender_problem(route: Route | None, message: Message | None, gateway: Gateway, store: Store) -> str:
    """Why nothing may be sent in the name of the sender that was chosen, as a sentence; empty where it may."""
    if gateway.channel != "email":
        return ""
    sender = sender_of(route, message, gateway, store)
    if sender is None:
        chosen = (route.sender if route else "") or (message.envelope.sender if message else "")
        return f"There is no sender “{chosen}” any more." if chosen else f"{gateway.name} has no sender."
    if not sender.address:
        return f"{gateway.name} has no sender’s address yet."
    return "" if sender.verified else unverified(sender.address)


def verified_addresses(store: Store, gateways: Mapping[str, Gateway]) -> frozenset[str]:
    """The addresses, in lower case, that a code was read at: whatever of the shop sends from them is verified."""
    senders = [*store.senders, *(gateway.sender for gateway in gateways.values() if gateway.sender is not None)]
    return frozenset(sender.address.casefold() for sender in senders if sender.verified)


def unverified(address: str) -> str:
    """What is said of an address that nobody has shown to be theirs."""
    return f"{address} is not verified yet, so nothing is sent from it."
