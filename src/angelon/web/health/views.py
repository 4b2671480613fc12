"""`/healthz` and `/readyz`."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Blueprint, jsonify
from sqlalchemy.exc import SQLAlchemyError

from angelon.db import events, sends
from angelon.web.services import services, session

pages = Blueprint("health", __name__)


@pages.get("/healthz")
def alive() -> Any:
    return jsonify({"status": "ok"})


MISSING = {
    "plan send": "no worker is running",
    "plan": "no worker that plans is running: events wait",
    "send": "no worker that sends is running: sends wait",
}
"""What is said where no worker is there for something."""
OLDEST_UNPLANNED = dt.timedelta(minutes=2)


@pages.get("/readyz")
def ready() -> Any:
    """503 where the database can't be read, no worker that plans or sends has given a sign of life for 20 s, or an
    event has waited long to be planned.

    `process` names who answers: what `ANGELON_HOME/run.json` has of the web process that was started last.
    """
    now = services().clock.now()
    who = {"process": services().process}
    try:
        missing = sends.missing_roles(session(), now)
        waited = events.backlog(session(), now)
    except SQLAlchemyError:
        return jsonify({"status": "not ready", "why": "the database can't be read", **who}), 503
    if missing:
        return jsonify({"status": "not ready", "why": MISSING[" ".join(sorted(missing))], **who}), 503
    if waited is not None and waited > OLDEST_UNPLANNED:
        return jsonify(
            {
                "status": "not ready",
                "why": f"the oldest event has waited {int(waited.total_seconds())} s to be planned",
                **who,
            }
        ), 503
    return jsonify({"status": "ready", **who})
