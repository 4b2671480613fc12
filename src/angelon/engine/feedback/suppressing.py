"""Addresses that are suppressed by what happens: a refusal for good, mail that comes back, a complaint, STOP."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.messages.channels import address_key
from angelon.core.planning.permission import EVERYTHING
from angelon.core.replies import command
from angelon.core.sending.codes import is_nobody
from angelon.db.people import suppressions
from angelon.db.setup import changes
from angelon.db.setup.live_setup import LiveSetup

ANGELON = "Angelon"
"""Who suppresses by itself, among the changes."""


def suppress(session: Session, live: LiveSetup, key: str, origin: str, why: str, now: dt.datetime) -> bool:
    """Suppresses an address where the store has this done by itself; says whether it is new."""
    if origin not in live.setup.store.suppress_on or not key.partition(":")[2]:
        return False
    if not suppressions.add(session, live.store_id, key, why[:300], now, EVERYTHING, origin):
        return False
    changes.add(
        session, live.store_id, now, ANGELON, "suppressed", "address", key, None, {"why": why, "origin": origin}
    )
    return True


def take_back(connection: Connection, wronged: Sequence[tuple[int, str]]) -> None:
    """Lifts the suppressions (store, address key) that came of a gateway that refuses everybody."""
    if not wronged:
        return
    with Session(bind=connection) as session:
        for store_id, key in wronged:
            suppressions.lift(session, store_id, key, [EVERYTHING], ["bounce"])
        session.commit()  # into the transaction that it stands in


@dataclass(frozen=True, slots=True)
class Refusal:
    """A send that a gateway has refused for good."""

    send_id: str
    live: LiveSetup
    channel: str
    address: str
    answer: str
    at: dt.datetime

    def suppress(self, connection: Connection) -> None:
        """Suppresses the address, where the answer says that nobody is there."""
        if self.channel != "email" or not is_nobody(self.answer):
            return
        with Session(bind=connection) as session:
            why = f"there is no such mailbox: {self.answer[:200]}"
            suppress(session, self.live, address_key(self.channel, self.address), "bounce", why, self.at)
            session.commit()  # into the transaction that it stands in


def obey(session: Session, live: LiveSetup, channel: str, key: str, text: str, now: dt.datetime) -> str:
    """Suppresses people who answer STOP, and takes that back for who answers START; says what was done."""
    word = command(text, channel)
    if word == "stop" and suppress(session, live, key, "stop", f"answered “{text.strip()[:40]}”.", now):
        return "stopped."
    if word == "start" and suppressions.lift(session, live.store_id, key, [EVERYTHING], ["stop"]):
        return "started again."
    return ""
