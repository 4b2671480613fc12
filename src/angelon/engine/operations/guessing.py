"""Wrong passwords and codes: counted by account and by who tries, so that a stranger is held up and locks nobody out.

Whoever signs in gets a proof for that browser. With it a person is counted apart from the rest of the world; without it
by the address that they come from, and together with all others without one.
"""

from __future__ import annotations

import datetime as dt
import secrets
from collections.abc import Sequence
from dataclasses import dataclass

from sqlmodel import Session

from angelon.core.addresses import network_of
from angelon.db.access import allowances
from angelon.db.access.allowances import Allowance
from angelon.db.access.secrets import Vault

FROM_ONE, FROM_STRANGERS = Allowance(5, 180.0), Allowance(50, 60.0)
"""Wrong tries in an account: from one place, and of all together that have not been signed in to it."""
Place = tuple[str, Allowance]
"""What is counted, and how much of it there may be."""


@dataclass(frozen=True, slots=True)
class Browser:
    """From where somebody signs in."""

    address: str
    agent: str
    known: str = ""
    """The proof that it has from before."""


def remembered(vault: Vault, account_id: int) -> str:
    """A new proof that somebody has been signed in to an account."""
    name = f"{account_id:x}.{secrets.token_hex(8)}"
    return f"{name}.{vault.proof(f'browser:{name}')}"


def places(vault: Vault, account_id: int, browser: Browser) -> list[Place]:
    """Where a wrong try in an account is counted."""
    account, _, _ = browser.known.partition(".")
    name, _, proof = browser.known.rpartition(".")
    if account == f"{account_id:x}" and vault.proves(f"browser:{name}", proof):
        return [(f"sign-in:{account_id}:known:{name}", FROM_ONE)]
    mine = (f"sign-in:{account_id}:{network_of(browser.address)}", FROM_ONE)
    return [mine, (f"sign-in:{account_id}", FROM_STRANGERS)]


def place_of(browser_id: int) -> list[Place]:
    """Where a wrong try of somebody is counted who is signed in."""
    return [(f"signed-in:{browser_id}", FROM_ONE)]


def held(session: Session, counted: Sequence[Place], now: dt.datetime) -> int:
    """Seconds until there may be another try; 0 where there may be one now."""
    return max(allowances.wait(session, what, allowance, now) for what, allowance in counted)


def wrong(session: Session, counted: Sequence[Place], now: dt.datetime) -> None:
    """Counts a wrong try, in the caller's transaction."""
    for what, allowance in counted:
        allowances.spend(session, what, allowance, now)


def right(session: Session, counted: Sequence[Place]) -> None:
    """Whoever had it right begins anew; what others have tried stays counted."""
    allowances.give_back(session, counted[0][0])
