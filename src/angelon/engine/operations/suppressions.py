"""Addresses that must not be written to."""

from __future__ import annotations

from collections.abc import Sequence

from angelon.core.messages.channels import CHANNELS
from angelon.db import suppressions
from angelon.engine.unit import Work


def add(work: Work, addresses: Sequence[str], why: str) -> tuple[int, list[str]]:
    """Takes email addresses and phone numbers; gives how many were new, and those that are neither."""
    new, unknown = 0, []
    for text in addresses:
        key = address_key_of(text, work.live.setup.store.country)
        if not key:
            unknown.append(text)
        elif suppressions.add(work.session, work.store_id, key, why, work.now):
            new += 1
            work.record("suppressed", "address", key, None, {"why": why})
    return new, unknown


def remove(work: Work, suppression_id: int) -> str:
    """Lets an address be written to again; gives its key, empty where it was not suppressed any more."""
    key = suppressions.drop(work.session, work.store_id, suppression_id)
    if key:
        work.record("suppression removed", "address", key)
    return key


def address_key_of(text: str, country: str) -> str:
    """What an address or number is known by; empty where it is neither. `country` reads national numbers."""
    channel = CHANNELS["email" if "@" in text else "sms"]
    try:
        return channel.address_key(channel.check_address(text, country or None))
    except ValueError:
        return ""
