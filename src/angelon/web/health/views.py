"""`/healthz` and `/readyz`."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Blueprint, jsonify
from sqlalchemy.exc import SQLAlchemyError

from angelon.db import sends
from angelon.web.services import services, session

pages = Blueprint("health", __name__)


@pages.get("/healthz")
def alive() -> Any:
    return jsonify({"status": "ok"})


@pages.get("/readyz")
def ready() -> Any:
    """503 where the database can't be read or no worker has given a sign of life for 20 s."""
    try:
        beat = sends.last_beat(session())
    except SQLAlchemyError:
        return jsonify({"status": "not ready", "why": "the database can't be read"}), 503
    if beat is None or services().clock.now() - beat > dt.timedelta(seconds=20):
        return jsonify({"status": "not ready", "why": "no worker is running"}), 503
    return jsonify({"status": "ready"})
