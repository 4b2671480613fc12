"""What both providers' APIs have alike: the account's token, faults on demand, receipts."""

from __future__ import annotations

import contextlib
import datetime as dt
import socket
import threading
import time
from typing import Any

import httpx
from flask import current_app, jsonify, request

from angelon.standins.box import Box

FAULTS = {
    "none": "takes every message",
    "busy": "asks to come back in 3 seconds (429)",
    "broken": "fails inside (500)",
    "refuse": "refuses every recipient (422)",
    "empty": "says that the credit is used up (402)",
    "repeat": "reports the outcome of a message three times, once before it answers",
    "slow": "answers after 4 seconds",
    "drop": "takes the message and drops the connection",
}
"""How a provider may misbehave."""
SLOW = 4.0
BACK_IN = 3
BOX = "angelon.box"
"""Where the application holds what the stand-ins keep."""


class Refused(Exception):
    """What is not taken: an HTTP status, and the reason in the answer."""

    def __init__(self, status: int, reason: str) -> None:
        super().__init__(reason)
        self.status, self.reason = status, reason


def box() -> Box:
    found: Box = current_app.extensions[BOX]
    return found


def entered(kept: Box, provider: str) -> dict[str, Any]:
    """The body of a request that may come in. Raises Refused, for the token, a fault on demand, or the body."""
    token = kept.setting(f"{provider}_token", "")
    if token and request.headers.get("Authorization") != f"Bearer {token}":
        raise Refused(401, "The token is not the account's.")
    fault = kept.setting(f"{provider}_fault", "none")
    if fault == "busy":
        raise Refused(429, "Too many messages at once.")
    if fault == "broken":
        raise Refused(500, "Something went wrong on our side.")
    if fault == "refuse":
        raise Refused(422, "The recipient can't be reached.")
    if fault == "empty":
        raise Refused(402, "The account's credit is used up.")
    if fault == "slow":
        time.sleep(SLOW)
    body = request.get_json(silent=True) if request.method != "GET" and request.mimetype == "application/json" else {}
    if not isinstance(body, dict):
        raise Refused(400, "The body is no JSON object.")
    return body


def left(kept: Box, provider: str) -> None:
    """After a message was taken: the fault that loses the answer."""
    if kept.setting(f"{provider}_fault", "none") == "drop":
        connection: socket.socket = request.environ["werkzeug.socket"]
        connection.shutdown(socket.SHUT_RDWR)


def taken(kept: Box, provider: str, reference: str) -> Any:
    """The answer to a message that is taken; its receipt follows."""
    tell(kept, provider, reference, "delivered", "", 0.6)
    if kept.setting(f"{provider}_fault", "none") == "repeat":
        tell(kept, provider, reference, "delivered", "", 0.6)
        told = tell(kept, provider, reference, "delivered")
        if told is not None:
            told.join(SLOW)
    left(kept, provider)
    return jsonify({"id": reference, "state": "queued"}), 202


def refused(error: Refused) -> Any:
    """The answer to what is not taken."""
    answer = jsonify({"state": "refused", "reason": error.reason})
    answer.status_code = error.status
    if error.status == 429:
        answer.headers["Retry-After"] = str(BACK_IN)
    return answer


def tell(
    kept: Box, provider: str, reference: str, state: str, text: str = "", after: float = 0, sender: str = ""
) -> threading.Thread | None:
    """Tells the account what became of a message, where it has said to which address; by a thread of its own."""
    address = str(kept.setting(f"{provider}_receipts", ""))
    if not address:
        return None

    told = {"id": reference, "state": state, "text": text, "told_at": dt.datetime.now(dt.UTC).isoformat()}
    told |= {"from": sender} if sender else {}

    def told_later() -> None:
        time.sleep(after)
        with contextlib.suppress(httpx.HTTPError):
            httpx.post(address, json=told, timeout=5)

    teller = threading.Thread(target=told_later, name="receipt", daemon=True)
    teller.start()
    return teller


def now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)
