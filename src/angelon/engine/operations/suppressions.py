"""Addresses that must not be written to."""

from __future__ import annotations

from collections.abc import Sequence

from angelon.core.messages.channels import CHANNELS
from angelon.core.planning.permission import EVERYTHING, of_order
from angelon.core.problems import Invalid, Problem
from angelon.db.log import orders
from angelon.db.people import consents, people, suppressions
from angelon.engine.installation import Installation
from angelon.engine.unit import Actor, Work, found, unit

MOST_AT_ONCE = 200
"""Addresses that one transaction takes: others write in between."""


def add(
    work: Work, addresses: Sequence[str], why: str, scope: str = EVERYTHING, origin: str = "person"
) -> tuple[int, list[str]]:
    """Takes email addresses and phone numbers; gives how many were new, and those that are neither. `scope` says what
    is not sent there any more: everything, optional messages, or one notice.
    """
    keys, unknown = keys_of(addresses, work.country)
    return add_keys(work, [(key, why, scope) for key in keys], origin), unknown


def add_keys(work: Work, wanted: Sequence[tuple[str, str, str]], origin: str) -> int:
    """Takes (key, why, scope) of addresses; says how many were new."""
    new = suppressions.add_many(work.connection, work.store_id, wanted, work.now, origin)
    notes = [(key, {"why": why, "scope": scope, "origin": origin}) for key, why, scope in wanted if (key, scope) in new]
    work.record_many("suppressed", "address", notes)
    return len(new)


def add_list(
    installation: Installation, store_id: int, actor: Actor, rows: Sequence[tuple[str, str, str]], origin: str
) -> tuple[int, list[str]]:
    """Takes a list of any length (address, why, scope), a part at a time, so that others write in between; gives how
    many were new, and those that are neither an address nor a number. What went in before a fault stays; the same list
    again takes the rest.
    """
    country = installation.setups.get(store_id).setup.store.country
    wanted, unknown = list[tuple[str, str, str]](), list[str]()
    for text, why, scope in rows:
        key = address_key_of(text, country)
        if key:
            wanted.append((key, why, scope))
        else:
            unknown.append(text)
    new = 0
    for start in range(0, len(wanted), MOST_AT_ONCE):
        with unit(installation, store_id, actor) as work:
            new += add_keys(work, wanted[start : start + MOST_AT_ONCE], origin)
    return new, unknown


def keys_of(addresses: Sequence[str], country: str) -> tuple[list[str], list[str]]:
    """What these addresses and numbers are known by, and those that are neither."""
    known = [(text, address_key_of(text, country)) for text in addresses]
    return [key for _, key in known if key], [text for text, key in known if not key]


def remove(work: Work, suppression_id: int) -> str:
    """Lets an address be written to again; gives its key, empty where it was not suppressed any more."""
    key = suppressions.drop(work.session, work.store_id, suppression_id)
    if key:
        work.record("suppression removed", "address", key)
    return key


def stop_order(work: Work, order_id: int, why: str) -> None:
    """Nothing more goes to the customer about an order; what waits is skipped when it is due. Raises NotFound."""
    found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    why = " ".join(why.split())[:300] or "stopped by hand."
    suppressions.add(work.session, work.store_id, of_order(order_id), why, work.now)
    work.record("suppressed", "order", str(order_id), None, {"why": why})


def resume_order(work: Work, order_id: int) -> bool:
    """Lets the customer be written to about an order again; says whether they were not."""
    key = of_order(order_id)
    rows = suppressions.of_address(work.session, work.store_id, key)
    for row in rows:
        suppressions.drop(work.session, work.store_id, row.id or 0)
    if rows:
        work.record("suppression removed", "order", str(order_id))
    return bool(rows)


def stop_person(work: Work, person_id: int, why: str) -> int:
    """Nothing more goes to any of a customer's addresses; says how many of them were new. Raises NotFound, and Invalid
    where none is known.
    """
    person = found(people.get(work.session, work.store_id, person_id), "There is no such person.")
    keys = people.address_keys(person)
    if not keys:
        raise Invalid([Problem("", "No address of this person is known.", "There is nothing that could be sent.")])
    why = " ".join(why.split())[:300] or "asked not to be written to."
    new = [key for key in keys if suppressions.add(work.session, work.store_id, key, why, work.now)]
    for key in keys:
        work.record("suppressed", "address", key, None, {"why": why})
    return len(new)


def note_consent(work: Work, address: str, channel: str, granted: bool, where: str, words: str) -> str:
    """Keeps what somebody has said about being written to by a channel; gives the address's key. Raises Invalid."""
    if channel not in ("email", "sms", "chat"):
        raise Invalid([Problem("channel", f"“{channel[:40]}” is no channel.", "Choose email, sms or chat.")])
    key = address_key_of(address, work.live.setup.store.country)
    if not key or key.startswith("email:") != (channel == "email"):
        what = f"“{address[:60]}” is no {CHANNELS[channel].address_label}."
        raise Invalid([Problem("address", what, "Write one, such as mia@example.com or +353 20 915 1234.")])
    if not where.strip():
        raise Invalid([Problem("where", "It does not say where they said so.", "Name the page, form or counter.")])
    consents.note(
        work.connection, work.store_id, key, channel, granted, where.strip(), words.strip(), work.actor.name, work.now
    )
    work.record("consent given" if granted else "consent withdrawn", "address", key, None, {"channel": channel})
    return key


def address_key_of(text: str, country: str) -> str:
    """What an address or number is known by; empty where it is neither. `country` reads national numbers."""
    channel = CHANNELS["email" if "@" in text else "sms"]
    try:
        return channel.address_key(channel.check_address(text, country or None))
    except ValueError:
        return ""
