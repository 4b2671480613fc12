"""Credentials, sealed under the secret key (Fernet: AES-128-CBC with HMAC-SHA256); and what only this installation can
have made: links, each sealed or proven for one purpose. Links outlive the key that they were made under.
"""

from __future__ import annotations

import base64
import datetime as dt
import functools
import hashlib
import hmac
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from cryptography.fernet import Fernet, InvalidToken
from sqlmodel import Session, col, delete, select

from angelon.db.tables import SecretRow

if TYPE_CHECKING:
    from angelon.db.database import Database

OLDER_KEY = "older-key"
"""A key that was replaced: links that were made under it still open."""
LINKS_FOR = dt.timedelta(days=400)
"""How long links are good that were made under a key that was replaced; those by which a customer leaves always are."""


class WrongKey(RuntimeError):
    """The secret key is not the one that the credentials were sealed under."""


@dataclass(frozen=True)
class Secret:
    text: str
    created_at: dt.datetime
    until: dt.datetime | None


class Vault:
    """Seals and opens credentials; makes and reads proofs and sealed texts. Keys that were replaced are read from
    `database` when first asked for.
    """

    def __init__(self, key: str, database: Database | None = None) -> None:
        self._key, self._database = key, database
        self._proving = hashlib.sha256(b"angelon proofs:" + key.encode()).digest()
        self._fernet = _fernet("angelon secrets:", key)
        self._older: list[tuple[Vault, dt.datetime | None]] | None = None

    def put(
        self,
        session: Session,
        kind: str,
        owner_id: int,
        text: str,
        now: dt.datetime,
        keep_old_until: dt.datetime | None = None,
    ) -> None:
        """Makes `text` the credential. Older ones go at once, or are valid until a time (aware)."""
        owned = (col(SecretRow.kind) == kind, col(SecretRow.owner_id) == owner_id)
        if keep_old_until is None:
            session.exec(delete(SecretRow).where(*owned))
        else:
            for row in session.exec(select(SecretRow).where(*owned, col(SecretRow.until).is_(None))):
                row.until = keep_old_until
        session.add(SecretRow(kind=kind, owner_id=owner_id, sealed=self._fernet.encrypt(text.encode()), created_at=now))

    def expire(self, session: Session, kind: str, owner_id: int, at: dt.datetime) -> None:
        """Lets every credential of an owner be valid until a time (aware) at the longest."""
        for row in session.exec(
            select(SecretRow).where(col(SecretRow.kind) == kind, col(SecretRow.owner_id) == owner_id)
        ):
            row.until = at if row.until is None else min(row.until, at)
        session.flush()

    def drop(self, session: Session, kind: str, owner_id: int) -> None:
        session.exec(delete(SecretRow).where(col(SecretRow.kind) == kind, col(SecretRow.owner_id) == owner_id))

    def rename(self, session: Session, kind: str, to: str, owner_id: int) -> None:
        """Has the credentials of one kind in place of those of another."""
        self.drop(session, to, owner_id)
        for row in session.exec(
            select(SecretRow).where(col(SecretRow.kind) == kind, col(SecretRow.owner_id) == owner_id)
        ):
            row.kind = to
        session.flush()

    def derived(self, purpose: str) -> str:
        """A key for one purpose (HMAC-SHA256 of its name): it tells nothing of the others."""
        return hmac.new(self._key.encode(), purpose.encode(), hashlib.sha256).hexdigest()

    def proof(self, text: str) -> str:
        """A short proof that only this installation can make for a text: 12 hexadecimal digits of an HMAC-SHA256."""
        return hmac.new(self._proving, text.encode(), hashlib.sha256).hexdigest()[:12]

    def proves(self, text: str, proof: str, always: bool = False) -> bool:
        """Whether a proof is one of ours for a text; with `always` also where its key was replaced long ago."""
        return self._any(
            lambda one: hmac.compare_digest(one.proof(text).encode(), proof.encode(errors="replace")), always
        )

    def receipts(self, gateway: str) -> str:
        """What an address for receipts ends with, so that nobody else can tell of a gateway's sends (HMAC-SHA256, RFC
        2104).
        """
        return self.derived(f"receipts:{gateway}")[:32]

    def takes_receipts(self, gateway: str, token: str) -> bool:
        """Whether an address for receipts is a gateway's, also one that was made under a key that was replaced."""
        given = token.encode(errors="replace")
        return self._any(lambda one: hmac.compare_digest(one.receipts(gateway).encode(), given), True)

    def seal(self, text: str, purpose: str) -> str:
        """A text that only this installation can make and read, for one purpose; fit for an address."""
        return _fernet(f"angelon sealed {purpose}:", self._key).encrypt(text.encode()).decode().rstrip("=")

    def unseal(self, sealed: str, purpose: str, fits: Callable[[str], bool]) -> str | None:
        """What `seal` was given for that purpose; None for anything else. What was sealed by the first versions is
        under the key of credentials: it is taken where it `fits`, and no credential does.
        """
        found: list[str] = []
        whole = (sealed + "=" * (-len(sealed) % 4)).encode()

        def opened(one: Vault) -> bool:
            for fernet in (_fernet(f"angelon sealed {purpose}:", one._key), one._fernet):
                try:
                    text = fernet.decrypt(whole).decode()
                except (InvalidToken, ValueError):
                    continue
                if fits(text):
                    found.append(text)
                    return True
            return False

        return found[0] if self._any(opened, True) else None

    def _any(self, right: Callable[[Vault], bool], always: bool) -> bool:
        """Whether something is right under the key of now, or one that was replaced and is still good."""
        if right(self):
            return True
        now = dt.datetime.now(dt.UTC)
        older = self._replaced()
        return any((always or until is None or until > now) and right(vault) for vault, until in older)

    def _replaced(self) -> list[tuple[Vault, dt.datetime | None]]:
        if self._older is None and self._database is not None:
            with self._database.reading() as session:
                rows = session.exec(select(SecretRow).where(col(SecretRow.kind) == OLDER_KEY)).all()
                opened = [(self._fernet.decrypt(row.sealed).decode(), row.until) for row in rows]
            self._older = [(Vault(key), until) for key, until in opened]
        return self._older or []

    def reseal(self, session: Session, new: Vault, now: dt.datetime, links_for: dt.timedelta = LINKS_FOR) -> int:
        """Seals every credential under another key; says how many. Links that are out are good for `links_for` more.
        Raises WrongKey, and then nothing is changed by the caller's transaction.
        """
        rows = session.exec(select(SecretRow)).all()
        number = sum(row.kind != OLDER_KEY for row in rows)
        try:
            for row in rows:
                row.sealed = new._fernet.encrypt(self._fernet.decrypt(row.sealed))
                if row.kind == OLDER_KEY:
                    row.until = min(row.until or now + links_for, now + links_for)
        except InvalidToken:
            raise WrongKey(
                "The stored credentials were sealed under another secret key than the one that is set. Set the old "
                "one as ANGELON_SECRET_KEY, then rotate."
            ) from None
        kept = new._fernet.encrypt(self._key.encode())
        session.add(SecretRow(kind=OLDER_KEY, owner_id=0, sealed=kept, created_at=now, until=now + links_for))
        session.flush()
        return number

    def check(self, session: Session) -> None:
        """Raises WrongKey where the newest credential can't be opened."""
        row = session.exec(select(SecretRow).order_by(col(SecretRow.id).desc()).limit(1)).first()
        try:
            if row is not None:
                self._fernet.decrypt(row.sealed)
        except InvalidToken:
            raise WrongKey(
                "The stored credentials were sealed under another secret key. Set ANGELON_SECRET_KEY to the one "
                "that they were sealed under, the same on every machine."
            ) from None

    def get(self, session: Session, kind: str, owner_id: int, now: dt.datetime) -> list[Secret]:
        """The credentials that are valid now, newest first. Raises WrongKey."""
        rows = session.exec(
            select(SecretRow)
            .where(SecretRow.kind == kind, SecretRow.owner_id == owner_id)
            .order_by(col(SecretRow.id).desc())
        )
        try:
            return [
                Secret(self._fernet.decrypt(row.sealed).decode(), row.created_at, row.until)
                for row in rows
                if row.until is None or row.until > now
            ]
        except InvalidToken:
            raise WrongKey(
                "The stored credentials were sealed under another secret key. Set ANGELON_SECRET_KEY to the one "
                "that they were sealed under."
            ) from None


@functools.lru_cache(maxsize=64)
def _fernet(purpose: str, key: str) -> Fernet:
    return Fernet(base64.urlsafe_b64encode(hashlib.sha256(purpose.encode() + key.encode()).digest()))
