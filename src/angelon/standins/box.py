"""Where the stand-ins keep what they received and how they are set: a small database of their own."""

from __future__ import annotations

import base64
import datetime as dt
import email
import email.policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

from sqlalchemy import Column, LargeBinary, MetaData, Text, delete, event, func, insert
from sqlmodel import Field, Session, SQLModel, col, create_engine, select

from angelon.db.tables import Instant, Json


class Base(SQLModel):
    metadata = MetaData()


class MailRow(Base, table=True):
    """A mail as it came in, byte by byte."""

    __tablename__ = "mail"
    id: int | None = Field(default=None, primary_key=True)
    received_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    mail_from: str
    rcpt_to: str
    raw: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class ShopOrderRow(Base, table=True):
    """An order at the stand-in store's counter."""

    __tablename__ = "shop_order"
    id: int | None = Field(default=None, primary_key=True)
    reference: str = Field(unique=True)
    state: str
    spec: dict[str, Any] = Field(sa_column=Column(Json))
    placed_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))


class PostedRow(Base, table=True):
    """A webhook that the counter posted, and what it was answered."""

    __tablename__ = "posted"
    id: int | None = Field(default=None, primary_key=True)
    at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    event: str
    reference: str
    status: int
    answer: str = Field(sa_column=Column(Text))
    took_ms: float


class SmsRow(Base, table=True):
    """A text that the SMS provider took and put on a handset."""

    __tablename__ = "sms"
    id: int | None = Field(default=None, primary_key=True)
    received_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    sender: str
    to: str
    text: str = Field(sa_column=Column(Text))
    segments: int = 1
    reference: str = Field(unique=True)
    key: str = Field(default="", index=True)


class ChatTextRow(Base, table=True):
    """A text handed in for the chat provider's review."""

    __tablename__ = "chat_text"
    id: int | None = Field(default=None, primary_key=True)
    reference: str = Field(unique=True)
    submitted_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    decided_at: dt.datetime | None = Field(default=None, sa_column=Column(Instant))
    state: str = "submitted"
    reason: str = Field(default="", sa_column=Column(Text))
    spec: dict[str, Any] = Field(sa_column=Column(Json))


class ChatRow(Base, table=True):
    """A chat message that the provider brought to a customer."""

    __tablename__ = "chat"
    id: int | None = Field(default=None, primary_key=True)
    received_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    sender: str
    to: str
    template: str
    spec: dict[str, Any] = Field(sa_column=Column(Json))
    reference: str = Field(unique=True)
    key: str = Field(default="", index=True)


class CallRow(Base, table=True):
    """A request that the store's own API took."""

    __tablename__ = "call"
    id: int | None = Field(default=None, primary_key=True)
    received_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    method: str
    path: str = Field(sa_column=Column(Text))
    body: Any = Field(default=None, sa_column=Column(Json))
    headers: dict[str, str] = Field(default_factory=dict, sa_column=Column(Json))
    reference: str = Field(unique=True)
    key: str = Field(default="", index=True)


class SettingRow(Base, table=True):
    __tablename__ = "setting"
    name: str = Field(primary_key=True)
    value: Any = Field(default=None, sa_column=Column(Json))


KEPT_MAILS = 5000
_KEEP_MAIL = insert(MailRow)


class Box:
    """The stand-ins' database. What is in it is simulated, so commits need not survive a power cut."""

    def __init__(self, home: Path) -> None:
        home.mkdir(mode=0o700, parents=True, exist_ok=True)
        self.engine = create_engine(
            f"sqlite:///{home.resolve() / 'standins.db'}", connect_args={"check_same_thread": False, "timeout": 20}
        )
        event.listen(self.engine, "connect", _prepare)
        Base.metadata.create_all(self.engine)

    def session(self) -> Session:
        return Session(self.engine, expire_on_commit=False)

    def setting(self, name: str, otherwise: Any = None) -> Any:
        with self.session() as session:
            row = session.get(SettingRow, name)
            return row.value if row else otherwise

    def set(self, name: str, value: Any) -> None:
        with self.session() as session:
            session.merge(SettingRow(name=name, value=value))
            session.commit()

    def keep_mail(self, mail_from: str, rcpt_to: str, raw: bytes, at: dt.datetime) -> None:
        with self.engine.begin() as connection:
            made = connection.execute(
                _KEEP_MAIL, {"received_at": at, "mail_from": mail_from, "rcpt_to": rcpt_to, "raw": raw}
            )
            key: Any = made.inserted_primary_key
            newest = int(key[0])
            if newest % 500 == 0:
                connection.execute(delete(MailRow).where(col(MailRow.id) <= newest - KEPT_MAILS))

    def mails(self, limit: int = 200, words: str = "") -> list[MailRow]:
        """Newest first."""
        with self.session() as session:
            statement = select(MailRow).order_by(col(MailRow.id).desc()).limit(limit)
            if words:
                statement = statement.where(col(MailRow.rcpt_to).contains(words))
            return list(session.exec(statement))

    def mail(self, mail_id: int) -> MailRow | None:
        with self.session() as session:
            return session.get(MailRow, mail_id)

    def count_mails(self) -> int:
        with self.session() as session:
            return session.exec(select(func.count()).select_from(MailRow)).one()

    def clear(self) -> None:
        with self.session() as session:
            session.exec(delete(MailRow))
            session.commit()

    def keep(self, row: SQLModel) -> None:
        with self.session() as session:
            session.add(row)
            session.commit()

    def by_key(self, table: Any, key: str) -> Any:
        """What was taken under a key before; None for no key, or where nothing was."""
        if not key:
            return None
        with self.session() as session:
            return session.exec(select(table).where(table.key == key)).first()

    def texts(self, limit: int = 200, to: str = "") -> list[SmsRow]:
        """What the handsets have received, newest first."""
        with self.session() as session:
            statement = select(SmsRow).order_by(col(SmsRow.id).desc()).limit(limit)
            return list(session.exec(statement.where(col(SmsRow.to).contains(to)) if to else statement))

    def chats(self, limit: int = 200, to: str = "") -> list[ChatRow]:
        """What the customers' chats have received, newest first."""
        with self.session() as session:
            statement = select(ChatRow).order_by(col(ChatRow.id).desc()).limit(limit)
            return list(session.exec(statement.where(col(ChatRow.to).contains(to)) if to else statement))

    def calls(self, limit: int = 200, path: str = "") -> list[CallRow]:
        """What the store's own API was asked, newest first."""
        with self.session() as session:
            statement = select(CallRow).order_by(col(CallRow.id).desc()).limit(limit)
            return list(session.exec(statement.where(col(CallRow.path).contains(path)) if path else statement))

    def chat_texts(self, limit: int = 100) -> list[ChatTextRow]:
        """The texts handed in for review, newest first."""
        with self.session() as session:
            return list(session.exec(select(ChatTextRow).order_by(col(ChatTextRow.id).desc()).limit(limit)))


def _prepare(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    for pragma in ("journal_mode=WAL", "synchronous=OFF", "busy_timeout=20000"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def shown(row: MailRow) -> str:
    """A mail's page with the pictures that travel in it, as a mail program shows it."""
    message = email.message_from_bytes(row.raw, _class=EmailMessage, policy=email.policy.default)
    body = message.get_body(("html",))
    page = str(body.get_content()) if body else ""
    for part in message.walk():
        content_id = str(part.get("Content-ID", "")).strip().strip("<>")
        if content_id and part.get_content_maintype() == "image":
            data = part.get_payload(decode=True)
            picture = base64.b64encode(data if isinstance(data, bytes) else b"").decode()
            page = page.replace(f"cid:{content_id}", f"data:{part.get_content_type()};base64,{picture}")
    return page


def opened(row: MailRow) -> dict[str, Any]:
    """A mail taken apart, as `/standins/mail.json` gives it."""
    message = email.message_from_bytes(row.raw, _class=EmailMessage, policy=email.policy.default)
    text, html = message.get_body(("plain",)), message.get_body(("html",))
    return {
        "from": str(message["From"] or row.mail_from),
        "to": str(message["To"] or row.rcpt_to),
        "subject": str(message["Subject"] or ""),
        "text": text.get_content() if text else "",
        "html": html.get_content() if html else "",
        "headers": {name: str(value) for name, value in message.items()},
        "attachments": [
            {
                "name": part.get_filename() or "",
                "type": part.get_content_type(),
                "bytes": len(part.get_payload(decode=True) or b""),
            }
            for part in message.iter_attachments()
            if part.get_content_disposition() == "attachment"
        ],
        "received_at": row.received_at.isoformat(),
        "id": row.id,
    }
