"""What a developer writes by hand for the same job: a Flask page, a task queue on SQLite, smtplib.

One signed JSON order comes in, is checked, kept once, queued, made into a mail from a template in HTML and text, sent
and logged. Nothing else of what Angelon does: no routes, rules, guards, retries of its own, traces or pages. In an
easier form there is nothing but the queue: no table of what came, and no log.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import smtplib
import sqlite3
import threading
from email.message import EmailMessage
from functools import cache
from pathlib import Path
from typing import Any

from flask import Flask, Response, request
from huey import SqliteHuey
from jinja2 import Environment

from bench.serving import serve

HOME = Path(os.environ.get("HAND_HOME", "."))
SECRET = os.environ.get("HAND_SECRET", "").encode()
MAIL_PORT = int(os.environ.get("HAND_MAIL_PORT", "25"))

app = Flask(__name__)
queue = SqliteHuey(filename=str(HOME / "queue.db"))
templates = Environment(autoescape=True)
HTML = templates.from_string(
    "<html><body><h1>Thank you, {{ order.buyer.name }}</h1><p>We have your order {{ order.reference }}.</p><table>"
    "{% for line in order.lines %}<tr><td>{{ line.quantity }} × {{ line.title }}</td></tr>{% endfor %}</table>"
    "<p>Total {{ total }}</p></body></html>"
)
TEXT = Environment().from_string(
    "Thank you, {{ order.buyer.name }}\n\nWe have your order {{ order.reference }}.\n\nTotal {{ total }}\n"
)
_local = threading.local()


def database() -> sqlite3.Connection:
    if not hasattr(_local, "connection"):
        connection = sqlite3.connect(HOME / "orders.db", timeout=20)
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=FULL")
        connection.execute("CREATE TABLE IF NOT EXISTS delivery (id TEXT PRIMARY KEY, body BLOB)")
        connection.execute("CREATE TABLE IF NOT EXISTS sent (id TEXT PRIMARY KEY, at TEXT, error TEXT)")
        connection.commit()
        _local.connection = connection
    kept: sqlite3.Connection = _local.connection
    return kept


def _checked() -> bytes:
    """The delivery's body, whose signature is right."""
    body = request.get_data()
    given = request.headers.get("Store-Signature", "")
    if not hmac.compare_digest(hmac.new(SECRET, body, hashlib.sha256).hexdigest(), given):
        raise PermissionError
    return body


def _kept() -> str | None:
    """Checks and keeps the delivery; gives its id, or None where it came before."""
    body = _checked()
    id_ = request.headers["Store-Delivery"]
    with database() as connection:
        new = connection.execute("INSERT OR IGNORE INTO delivery VALUES (?, ?)", (id_, body)).rowcount
    return id_ if new else None


@app.get("/empty")
def empty() -> Response:
    return Response(b"")


@app.post("/keep")
def keep() -> Response:
    """Keeps a delivery, committed by itself."""
    _kept()
    return Response(status=202)


@app.post("/hook")
def hook() -> Response:
    """Keeps a delivery and queues its mail."""
    id_ = _kept()
    if id_ is not None:
        send(id_)
    return Response(status=202)


@app.post("/easy")
def easy() -> Response:
    """The easier form: checks a delivery and queues its mail, and nothing else is kept of it."""
    body = _checked()
    send_only(body.decode())
    return Response(status=202)


@app.post("/append")
def append() -> Response:
    """Checks a delivery and appends it to a file, which is on the disk then."""
    body = _checked()
    os.write(_file(), body + b"\n")
    os.fdatasync(_file())
    return Response(status=202)


@cache
def _file() -> int:
    return os.open(HOME / "appended", os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)


@app.post("/three")
def three() -> Response:
    """Keeps a delivery and queues its three mails."""
    id_ = _kept()
    if id_ is not None:
        for _ in range(3):
            send(id_)
    return Response(status=202)


@queue.task(retries=3, retry_delay=60)
def send_only(body: str) -> None:
    with smtplib.SMTP("127.0.0.1", MAIL_PORT, timeout=30) as server:
        server.send_message(_mail(json.loads(body)))


@queue.task(retries=3, retry_delay=60)
def send(id_: str) -> None:
    with database() as connection:
        (body,) = connection.execute("SELECT body FROM delivery WHERE id = ?", (id_,)).fetchone()
    mail = _mail(json.loads(body))
    error = ""
    try:
        with smtplib.SMTP("127.0.0.1", MAIL_PORT, timeout=30) as server:
            server.send_message(mail)
    except (OSError, smtplib.SMTPException) as problem:
        error = str(problem)
        raise
    finally:
        with database() as connection:
            connection.execute("INSERT OR REPLACE INTO sent VALUES (?, datetime('now'), ?)", (id_, error))


def _mail(order: dict[str, Any]) -> EmailMessage:
    values = {"order": order, "total": f"{order.get('total', 0)}"}
    mail = EmailMessage()
    mail["From"], mail["To"] = "Kites <orders@kites.example>", order["buyer"]["email"]
    mail["Subject"] = f"Your order {order['reference']}"
    mail.set_content(TEXT.render(values))
    mail.add_alternative(HTML.render(values), subtype="html")
    return mail


if __name__ == "__main__":
    serve("bench.handwritten:app", "wsgi")
