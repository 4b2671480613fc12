"""Fills an empty data folder with the demo: its set-up, its files, thirty days of orders."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import secrets
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import text
from sqlmodel import Session, col, select

from angelon.core.messages.attachments import LibraryFile, detect_media_type
from angelon.core.messages.chat import compile_chat, review_values, with_buttons
from angelon.core.specs.bundle import read_bundle
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import bundles, files, live_setup, reviews, specs
from angelon.db.tables import ContentRow, GatewayRow, RouteRow, SendRow, SourceRow
from angelon.db.upkeep import gateway_use
from angelon.demo.everyday import live_with_it
from angelon.demo.seed import DAYS, seed
from angelon.engine.followers import indexing
from angelon.engine.handlers.registry import PREFIX
from angelon.settings import Settings
from angelon.standins import stall
from angelon.standins.box import Box, CallRow, ChatTextRow
from angelon.standins.reviewer import review

BUNDLE = Path(__file__).with_name("bundle.yaml")
FILES = Path(__file__).with_name("files")
LIBRARY: tuple[tuple[str, str, Literal["", "sku"], str], ...] = (
    ("letterhead", "brackwater-kites.png", "", ""),
    ("care-sheets", "heron-first-flight.pdf", "sku", "HER-180"),
    ("care-sheets", "returns.pdf", "", ""),
)
"""The demo's files: shelf, name, and for which orders."""

EARLIER_TEXTS = (
    (
        "collect-soon",
        "en",
        "Hello {1}, your kite from order {2} waits for you in the workshop. We keep it for you until Saturday.",
        ["Maren", "BK-1024"],
    ),
    (
        "collect-soon",
        "de",
        "Hallo {1}, dein Drachen aus Bestellung {2} liegt in der Werkstatt bereit. Wir heben ihn bis Samstag auf.",
        ["Maren", "BK-1024"],
    ),
    (
        "wind-warning",
        "en",
        "We fly again on {1}. The meeting place is {2}, and you need no kite of your own.",
        ["Sunday", "the pier"],
    ),
)
"""Chat texts of an earlier day: name, language, body, a sample for each gap."""


CREDIT = Decimal("9.40")
"""What the account for text messages holds when the demo begins, in the shop's currency: a fortnight's worth."""


def fill(database: Database, settings: Settings, vault: Vault, box: Box) -> None:
    now = dt.datetime.now(dt.UTC)
    began = now - dt.timedelta(days=DAYS + 2)
    bundle = read_bundle(BUNDLE.read_text())
    with database.writing() as session:
        bundles.apply(session, bundle, began)
        store_row = specs.stores(session)[0]
        for row in session.exec(select(SourceRow)):
            secret = secrets.token_urlsafe(24)
            vault.put(session, "source", row.id or 0, secret, began)
            if row.key in ("webshop", "parcel-watch"):
                box.set("shop_secret" if row.key == "webshop" else "watch_secret", secret)
        for key in ("sms", "chat", "call"):
            token = secrets.token_urlsafe(18)
            box.set(f"{'system' if key == 'call' else key}_token", token)
            for gateway in session.exec(select(GatewayRow)):
                if gateway.spec.get("kind") == key:
                    vault.put(session, "gateway", gateway.id or 0, token, began)
        box.set("stall_token", secrets.token_urlsafe(18))
        stall.sell(box, 3, now - dt.timedelta(days=10))
        for shelf, name, by, match in LIBRARY:
            data = (FILES / name).read_bytes()
            files.put(
                session,
                store_row.id or 0,
                LibraryFile(0, shelf, name, detect_media_type(data), len(data), by, match),
                data,
                began,
            )
        _reviewed(session, box, store_row.id or 0, began)
        _older(box, began)
        for route in session.exec(select(RouteRow)):
            route.since = (now if route.key.startswith(PREFIX) else began) if route.on else None
        store_id = specs.stores(session)[0].id or 0
    with _unhurried(database), database.reading() as session:
        live = live_setup.load(session, store_id)
        session.close()
        seed(database, live, vault, now)
        live_with_it(database, settings, vault, store_id, now)
        _called(database, box)
        _receipts(database)
        indexing.follow(database, longest=60)
    with database.writing() as session:
        gateway_use.set_balance(session.connection(), live.gateway_ids["text-line"], CREDIT)


def _reviewed(session: Session, box: Box, store_id: int, at: dt.datetime) -> None:
    """The chat texts of the demo were handed in and approved when the shop began."""
    live = live_setup.load(session, store_id)
    gateway = next(way for way in live.setup.gateways.values() if way.kind == "chat")
    for key, message in live.setup.messages.items():
        for locale, chat in message.chat.items():
            compiled = compile_chat(with_buttons(chat, message, locale), live.setup.store, locale)
            spec = review_values(compiled, message.category, key, locale)
            row = ChatTextRow(reference=f"tx-demo-{key}-{locale}", submitted_at=at, spec=chat_spec(spec))
            row.reason = review(row.spec)
            row.state, row.decided_at = ("rejected" if row.reason else "approved"), at
            box.keep(row)
            reviews.note(
                session,
                store_id,
                live.gateway_ids[gateway.key],
                live.message_ids[key],
                locale,
                compiled.numbered.digest(message.category),
                chat.model_dump(mode="json"),
                row.state,
                row.reason,
                row.reference,
                at,
            )


def _receipts(database: Database) -> None:
    """What providers have told of those days: most texts arrived, most chat messages were read."""
    last = "unicode(substr(id, -1))" if database.sqlite else "ascii(right(id, 1))"
    told = f"UPDATE send SET state = '{{to}}' WHERE channel = '{{by}}' AND state = 'sent' AND {last} % {{of}}"  # noqa: S608
    with database.connection() as connection:
        for by, to, of in (
            ("sms", "delivered", "16 != 3"),
            ("chat", "read", "5 < 3"),
            ("chat", "delivered", "16 != 9"),
        ):
            connection.execute(text(told.format(to=to, by=by, of=of)))


def _called(database: Database, box: Box) -> None:
    """What the shop's own API was asked in those days: the newest of it."""
    with database.reading() as session:
        newest = select(SendRow, ContentRow).join(ContentRow, col(ContentRow.send_id) == col(SendRow.id))
        newest = newest.where(SendRow.channel == "call", SendRow.state == "sent")
        for send, content in session.exec(newest.order_by(col(SendRow.created_at).desc()).limit(12)):
            head, _, body = content.text.partition("\n\n")
            method, _, path = head.splitlines()[0].partition(" ")
            box.keep(
                CallRow(
                    received_at=send.settled_at or send.created_at,
                    method=method,
                    path=path,
                    body=json.loads(body) if body else None,
                    reference=send.reference or send.id,
                    key=send.id,
                )
            )


def _older(box: Box, at: dt.datetime) -> None:
    """Chat texts that the shop had approved before it had Angelon."""
    for name, language, body, samples in EARLIER_TEXTS:
        spec = {
            "name": name,
            "language": language,
            "category": "service",
            "header": {"kind": "none"},
            "body": body,
            "footer": "",
            "buttons": [],
            "samples": samples,
            "placeholders": len(samples),
        }
        reference = f"tx-before-{name}-{language}"
        box.keep(ChatTextRow(reference=reference, submitted_at=at, decided_at=at, state="approved", spec=spec))


def chat_spec(values: dict[str, Any]) -> dict[str, Any]:
    """What the chat provider keeps of a text handed in: the fields of its API."""
    return {
        "language": values["locale"],
        "category": values["category"],
        **{part: values[part] for part in ("header", "body", "footer", "buttons", "samples", "placeholders")},
    }


@contextlib.contextmanager
def _unhurried(database: Database):  # type: ignore[no-untyped-def]
    """While the demo is loaded, commits need not survive a power cut: it can be loaded again."""
    if not database.sqlite:
        yield
        return
    from sqlalchemy import event

    def relax(connection: object, _: object) -> None:
        connection.execute("PRAGMA synchronous=OFF")  # type: ignore[attr-defined]

    event.listen(database.engine, "connect", relax)
    database.close()
    try:
        yield
    finally:
        event.remove(database.engine, "connect", relax)
        database.close()
        with database.engine.connect() as connection:
            connection.execute(text("SELECT 1"))
