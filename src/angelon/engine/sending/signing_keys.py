"""Keys by which mails are signed (DKIM): one for each From domain of a store, sealed, replaced with an overlap."""

from __future__ import annotations

import datetime as dt
import json
from dataclasses import dataclass

from sqlmodel import Session

from angelon.core.messages import dkim
from angelon.db.access.secrets import Vault

PREFIX, PENDING = "dkim:", "dkim-new:"
"""How the kinds of secrets begin: a key that signs, and one whose record is to be published first."""


@dataclass(frozen=True, slots=True)
class SigningKey:
    domain: str
    selector: str
    pem: str

    @property
    def record(self) -> str:
        """What stands in DNS at `name`."""
        return dkim.record(self.pem)

    @property
    def name(self) -> str:
        return f"{self.selector}._domainkey.{self.domain}"


def active(vault: Vault, session: Session, store_id: int, domain: str, now: dt.datetime) -> SigningKey | None:
    """The key that signs for a domain."""
    return _read(vault, session, PREFIX, store_id, domain, now)


def pending(vault: Vault, session: Session, store_id: int, domain: str, now: dt.datetime) -> SigningKey | None:
    """A key whose record is to be published before it signs."""
    return _read(vault, session, PENDING, store_id, domain, now)


def make(vault: Vault, session: Session, store_id: int, domain: str, now: dt.datetime) -> SigningKey:
    """A new key that does not sign yet. Its selector is the day, so that old and new stand side by side in DNS."""
    made = SigningKey(domain, f"angelon{now:%Y%m%d%H%M}", dkim.new_key())
    vault.put(session, PENDING + domain, store_id, json.dumps([made.selector, made.pem]), now)
    return made


def use(vault: Vault, session: Session, store_id: int, domain: str, now: dt.datetime) -> SigningKey | None:
    """Has the pending key sign from now on; None where there is none. The old record has to stand in DNS for some days
    still: mails that it signed are on their way.
    """
    made = pending(vault, session, store_id, domain, now)
    if made is None:
        return None
    vault.put(session, PREFIX + domain, store_id, json.dumps([made.selector, made.pem]), now)
    vault.expire(session, PENDING + domain, store_id, now)
    return made


def _read(
    vault: Vault, session: Session, prefix: str, store_id: int, domain: str, now: dt.datetime
) -> SigningKey | None:
    found = vault.get(session, prefix + domain, store_id, now)
    if not found:
        return None
    selector, pem = json.loads(found[0].text)
    return SigningKey(domain, selector, pem)
