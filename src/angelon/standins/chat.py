"""The chat provider's API: texts handed in for review, and messages made of approved ones."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import Any

from flask import Blueprint, jsonify, request

from angelon.standins import account
from angelon.standins.account import Refused, box
from angelon.standins.box import Box, ChatRow, ChatTextRow
from angelon.standins.reviewer import review

api = Blueprint("chat", __name__, url_prefix="/chat")


@api.post("/texts")
def submit() -> Any:
    """Takes a text for review."""
    body = account.entered(box(), "chat")
    row = ChatTextRow(reference=f"tx-{uuid.uuid4().hex[:12]}", submitted_at=account.now(), spec=body)
    if not box().setting("chat_review_seconds", 0):
        _decide(row)
    box().keep(row)
    return jsonify(_told(row)), 201


@api.get("/texts")
def texts() -> Any:
    """Every text with how its review stands, newest first."""
    account.entered(box(), "chat")
    rows = box().chat_texts(200)
    return jsonify({"texts": [{**row.spec, **_told(row), "name": _name(row)} for row in rows]})


@api.get("/texts/<reference>")
def text(reference: str) -> Any:
    """How the review of a text stands."""
    account.entered(box(), "chat")
    row = _text(box(), reference)
    if row is None:
        raise Refused(404, "There is no such text.")
    return jsonify(_told(row))


@api.post("/messages")
def take() -> Any:
    """Takes a message of an approved text and its values; one taken before under its key is told of again."""
    body = account.entered(box(), "chat")
    row = _text(box(), str(body.get("text", "")))
    values = [str(value) for value in body.get("values") or []]
    if row is None or row.state != "approved":
        raise Refused(422, "The text is not an approved one.")
    wanted = int(row.spec.get("placeholders") or 0)
    if len(values) != wanted or not all(values):
        raise Refused(422, f"The text has {wanted} placeholders, and {len([v for v in values if v])} values came.")
    key = request.headers.get("Idempotency-Key", "")
    message = box().by_key(ChatRow, key)
    if message is None:
        spec = {part: _filled(row.spec.get(part), values) for part in ("header", "body", "footer", "buttons")} | {
            "locale": row.spec.get("language", "")
        }
        message = ChatRow(
            received_at=account.now(),
            sender=str(body.get("from", "")),
            to=str(body.get("to", "")),
            template=row.reference,
            spec=spec,
            reference=f"ch-{uuid.uuid4().hex[:12]}",
            key=key,
        )
        box().keep(message)
    return account.taken(box(), "chat", message.reference)


def answered(box: Box, reference: str, text: str) -> None:
    """A customer answers a chat message."""
    account.tell(box, "chat", reference, "answered", text)


def _told(row: ChatTextRow) -> dict[str, str]:
    return {"id": row.reference, "state": row.state, "reason": row.reason}


def _name(row: ChatTextRow) -> str:
    return str(row.spec.get("name") or f"{row.reference}-{row.spec.get('language', '')}")


def _decide(row: ChatTextRow) -> None:
    row.reason = review(row.spec)
    row.state = "rejected" if row.reason else "approved"
    row.decided_at = account.now()


def _text(box: Box, reference: str) -> ChatTextRow | None:
    """A text handed in; decided now where its time has come."""
    row = next((t for t in box.chat_texts(1000) if t.reference == reference), None)
    if (
        row is not None
        and row.state == "submitted"
        and account.now() - row.submitted_at >= dt.timedelta(seconds=box.setting("chat_review_seconds", 0))
    ):
        _decide(row)
        box.keep(row)
    return row


def _filled(part: Any, values: list[str]) -> Any:
    """A part of a text with its values in, all at once."""
    if isinstance(part, dict):
        return {name: _filled(inner, values) for name, inner in part.items()}
    if isinstance(part, list):
        return [_filled(inner, values) for inner in part]
    text = str(part or "")
    made, at = "", 0
    while at < len(text):
        end = text.find("}", at) if text[at] == "{" else -1
        inner = text[at + 1 : end] if end > at else ""
        if inner.isascii() and inner.isdigit() and len(inner) < 4 and 0 < int(inner) <= len(values):
            made, at = made + values[int(inner) - 1], end + 1
        else:
            made, at = made + text[at], at + 1
    return made


def chat_json(row: ChatRow) -> dict[str, Any]:
    """A chat message as `/standins/chat.json` gives it."""
    spec = row.spec
    return {
        "from": row.sender,
        "to": row.to,
        "text": spec.get("body", ""),
        "header": spec.get("header") or {},
        "footer": spec.get("footer", ""),
        "buttons": spec.get("buttons") or [],
        "template": row.template,
        "locale": spec.get("locale", ""),
        "received_at": row.received_at.isoformat(),
        "id": row.reference,
    }
