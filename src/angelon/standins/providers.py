"""The SMS provider and the chat provider: HTTP APIs on a port of their own, with faults on demand.

They know nothing of Angelon: what they take is what their API says, and a gateway's settings describe that API.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import socket
import threading
import time
import uuid
from typing import Any

import httpx
from flask import Flask, jsonify, request
from werkzeug.serving import BaseWSGIServer, WSGIRequestHandler, make_server

from angelon.standins.box import Box, ChatRow, ChatTextRow, SmsRow
from angelon.standins.reviewer import review

FAULTS = {
    "none": "takes every message",
    "busy": "asks to come back in 3 seconds (429)",
    "broken": "fails inside (500)",
    "slow": "answers after 4 seconds",
    "drop": "takes the message and drops the connection",
}
"""How a provider may misbehave."""
SLOW = 4.0
BACK_IN = 3


class _Refused(Exception):
    def __init__(self, status: int, reason: str) -> None:
        super().__init__(reason)
        self.status, self.reason = status, reason


def create_api(box: Box) -> Flask:
    """Both providers' APIs as one application."""
    app = Flask("standin-providers")

    def entered(provider: str) -> dict[str, Any]:
        token = box.setting(f"{provider}_token", "")
        if token and request.headers.get("Authorization") != f"Bearer {token}":
            raise _Refused(401, "The token is not the account's.")
        fault = box.setting(f"{provider}_fault", "none")
        if fault == "busy":
            raise _Refused(429, "Too many messages at once.")
        if fault == "broken":
            raise _Refused(500, "Something went wrong on our side.")
        if fault == "slow":
            time.sleep(SLOW)
        body = request.get_json(silent=True) if request.method == "POST" else {}
        if not isinstance(body, dict):
            raise _Refused(400, "The body is no JSON object.")
        return body

    def left(provider: str) -> None:
        """After a message was taken: the fault that loses the answer."""
        if box.setting(f"{provider}_fault", "none") == "drop":
            connection: socket.socket = request.environ["werkzeug.socket"]
            connection.shutdown(socket.SHUT_RDWR)

    @app.errorhandler(_Refused)
    def refused(error: _Refused) -> Any:
        answer = jsonify({"state": "refused", "reason": error.reason})
        answer.status_code = error.status
        if error.status == 429:
            answer.headers["Retry-After"] = str(BACK_IN)
        return answer

    @app.post("/sms/messages")
    def sms() -> Any:
        body = entered("sms")
        to, text = str(body.get("to", "")), str(body.get("text", ""))
        if not to.startswith("+") or not to[1:].isdigit() or not 7 <= len(to) <= 16:
            raise _Refused(422, f"{to[:40] or 'The empty number'} is no number in the international form.")
        if not text:
            raise _Refused(422, "The text is empty.")
        key = request.headers.get("Idempotency-Key", "")
        row = box.by_key(SmsRow, key)
        if row is None:
            row = SmsRow(
                received_at=_now(),
                sender=str(body.get("from", "")),
                to=to,
                text=text,
                segments=int(body.get("segments") or 1),
                reference=f"sm-{uuid.uuid4().hex[:12]}",
                key=key,
            )
            box.keep(row)
        _tell(box, "sms", row.reference, "delivered", "", 0.6)
        left("sms")
        return jsonify({"id": row.reference, "state": "queued"}), 202

    @app.post("/chat/texts")
    def submit() -> Any:
        body = entered("chat")
        row = ChatTextRow(reference=f"tx-{uuid.uuid4().hex[:12]}", submitted_at=_now(), spec=body)
        if not box.setting("chat_review_seconds", 0):
            _decide(row)
        box.keep(row)
        return jsonify(_told(row)), 201

    @app.get("/chat/texts/<reference>")
    def look(reference: str) -> Any:
        entered("chat")
        row = _text(box, reference)
        if row is None:
            raise _Refused(404, "There is no such text.")
        return jsonify(_told(row))

    @app.post("/chat/messages")
    def chat() -> Any:
        body = entered("chat")
        row = _text(box, str(body.get("text", "")))
        values = [str(value) for value in body.get("values") or []]
        if row is None or row.state != "approved":
            raise _Refused(422, "The text is not an approved one.")
        wanted = int(row.spec.get("placeholders") or 0)
        if len(values) != wanted or not all(values):
            raise _Refused(422, f"The text has {wanted} placeholders, and {len([v for v in values if v])} values came.")
        key = request.headers.get("Idempotency-Key", "")
        message = box.by_key(ChatRow, key)
        if message is None:
            spec = {part: _filled(row.spec.get(part), values) for part in ("header", "body", "footer", "buttons")} | {
                "locale": row.spec.get("language", "")
            }
            message = ChatRow(
                received_at=_now(),
                sender=str(body.get("from", "")),
                to=str(body.get("to", "")),
                template=row.reference,
                spec=spec,
                reference=f"ch-{uuid.uuid4().hex[:12]}",
                key=key,
            )
            box.keep(message)
        _tell(box, "chat", message.reference, "delivered", "", 0.6)
        left("chat")
        return jsonify({"id": message.reference, "state": "queued"}), 202

    return app


def _tell(box: Box, provider: str, reference: str, state: str, text: str = "", after: float = 0) -> None:
    """Tells the account what became of a message, where it has said to which address."""
    address = str(box.setting(f"{provider}_receipts", ""))
    if not address:
        return

    told = {"id": reference, "state": state, "text": text, "told_at": dt.datetime.now(dt.UTC).isoformat()}

    def tell() -> None:
        time.sleep(after)
        with contextlib.suppress(httpx.HTTPError):
            httpx.post(address, json=told, timeout=5)

    threading.Thread(target=tell, name="receipt", daemon=True).start()


def answered(box: Box, reference: str, text: str) -> None:
    """A customer answers a chat message."""
    _tell(box, "chat", reference, "answered", text)


def _now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


def _told(row: ChatTextRow) -> dict[str, str]:
    return {"id": row.reference, "state": row.state, "reason": row.reason}


def _decide(row: ChatTextRow) -> None:
    row.reason = review(row.spec)
    row.state = "rejected" if row.reason else "approved"
    row.decided_at = _now()


def _text(box: Box, reference: str) -> ChatTextRow | None:
    """A text handed in; decided now where its time has come."""
    row = next((t for t in box.chat_texts(1000) if t.reference == reference), None)
    if (
        row is not None
        and row.state == "submitted"
        and _now() - row.submitted_at >= dt.timedelta(seconds=box.setting("chat_review_seconds", 0))
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
        if inner.isdigit() and 0 < int(inner) <= len(values):
            made, at = made + values[int(inner) - 1], end + 1
        else:
            made, at = made + text[at], at + 1
    return made


class _Quiet(WSGIRequestHandler):
    def log_request(self, *_: Any) -> None: ...


class Providers:
    """The server, on a thread of its own. `port` 0 has a free one chosen."""

    def __init__(self, box: Box, host: str = "127.0.0.1", port: int = 0) -> None:
        self._server: BaseWSGIServer = make_server(host, port, create_api(box), threaded=True, request_handler=_Quiet)
        self.port = self._server.port
        self._thread = threading.Thread(target=self._server.serve_forever, name="providers", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._server.shutdown()
        self._thread.join(5)
        self._server.server_close()


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


__all__ = ["FAULTS", "Providers", "answered", "chat_json", "create_api", "sms_json"]
