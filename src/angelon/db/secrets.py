"""Credentials, sealed under the secret key (Fernet: AES-128-CBC with HMAC-SHA256)."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import hmac
from dataclasses import dataclass

from cryptography.fernet import Fernet, InvalidToken
from sqlmodel import Session, col, delete, select

from angelon.db.tables import SecretRow


class WrongKey(RuntimeError):
    """The secret key is not the one that the credentials were sealed under."""


@dataclass(frozen=True)
class Secret:
    text: str
    created_at: dt.datetime
    until: dt.datetime | None


class Vault:
    """Seals and opens credentials."""

    def __init__(self, key: str) -> None:
        self._proving = hashlib.sha256(b"angelon proofs:" + key.encode()).digest()
        self._fernet = Fernet(base64.urlsafe_b64encode(hashlib.sha256(b"angelon secrets:" + key.encode()).digest()))

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

    def proof(self, text: str) -> str:
        """A short proof that only this installation can make for a text: 12 hexadecimal digits of an HMAC-SHA256."""
        return hmac.new(self._proving, text.encode(), hashlib.sha256).hexdigest()[:12]

    def proves(self, text: str, proof: str) -> bool:
        return hmac.compare_digest(self.proof(text).encode(), proof.encode(errors="replace"))

    def seal(self, text: str) -> str:
        """A text that only this installation can make and read; fit for an address."""
        return self._fernet.encrypt(text.encode()).decode().rstrip("=")

    def unseal(self, sealed: str) -> str | None:
        """What `seal` was given; None for anything else."""
        try:
            return self._fernet.decrypt((sealed + "=" * (-len(sealed) % 4)).encode()).decode()
        except (InvalidToken, ValueError):
            return None

    def reseal(self, session: Session, new: Vault) -> int:
        """Seals every credential under another key; says how many. Raises WrongKey, and then nothing is changed by the
        caller's transaction.
        """
        rows = session.exec(select(SecretRow)).all()
        try:
            for row in rows:
                row.sealed = new._fernet.encrypt(self._fernet.decrypt(row.sealed))
        except InvalidToken:
            raise WrongKey(
                "The stored credentials were sealed under another secret key than the one that is set. Set the old "
                "one as ANGELON_SECRET_KEY, then rotate."
            ) from None
        session.flush()
        return len(rows)

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
