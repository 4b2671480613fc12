"""The SMS provider's API."""

from __future__ import annotations

import uuid
from typing import Any

from flask import Blueprint, request

from angelon.standins import account
from angelon.standins.account import Refused, box
from angelon.standins.box import Box, SmsRow

api = Blueprint("sms", __name__, url_prefix="/sms")


@api.post("/messages")
def take() -> Any:
    """Takes a message; one that has been taken before under its idempotency key is told of again."""
    body = account.entered(box(), "sms")
    to, text = str(body.get("to", "")), str(body.get("text", ""))
    if not to.startswith("+") or not to[1:].isdigit() or not 7 <= len(to) <= 16:
        raise Refused(422, f"{to[:40] or 'The empty number'} is no number in the international form.")
    if not text:
        raise Refused(422, "The text is empty.")
    key = request.headers.get("Idempotency-Key", "")
    row = box().by_key(SmsRow, key)
    if row is None:
        row = SmsRow(
            received_at=account.now(),
            sender=str(body.get("from", "")),
            to=to,
            text=text,
            segments=int(body.get("segments") or 1),
            reference=f"sm-{uuid.uuid4().hex[:12]}",
            key=key,
        )
        box().keep(row)
    return account.taken(box(), "sms", row.reference)


def answered(box: Box, number: str, text: str) -> None:
    """A customer writes an SMS to the shop's number: nothing says to which message it is an answer."""
    account.tell(box, "sms", "", "answered", text, sender=number)


def sms_json(row: SmsRow) -> dict[str, Any]:
    """A text as `/standins/sms.json` gives it."""
    return {
        "from": row.sender,
        "to": row.to,
        "text": row.text,
        "segments": row.segments,
        "received_at": row.received_at.isoformat(),
        "id": row.reference,
    }
