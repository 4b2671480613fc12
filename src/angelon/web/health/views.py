"""`/healthz`, `/readyz` and `/readyz/work`."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Blueprint, jsonify
from sqlalchemy.exc import SQLAlchemyError

from angelon.db.log import events, inquiries, sends
from angelon.db.upkeep import installations
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


def _answer(why: str, **more: Any) -> Any:
    """`process` names who answers: what `ANGELON_HOME/run.json` has of the web process that was started last."""
    told = {"status": "not ready", "why": why} if why else {"status": "ready"}
    return jsonify({**told, **more, "process": services().process}), 503 if why else 200


@pages.get("/readyz")
def ready() -> Any:
    """Whether this process can take deliveries: 503 where the database can't be read, or was moved elsewhere, or more
    waits to be stored than is sensible. Whether what was taken is worked on is another question: `/readyz/work`.
    """
    try:
        moved = installations.moved_to(session())
    except SQLAlchemyError:
        return _answer("the database can't be read")
    if moved:
        return _answer(f"this installation was moved to {moved}")
    return _answer(services().writer.trouble)


@pages.get("/readyz/work")
def work() -> Any:
    """Whether what was taken is worked on: 503 where no worker that plans or sends has given a sign of life for 20 s,
    or an event has waited long to be planned. `workers` are the roles of those that are alive; `waited` is how long
    the oldest event has waited, in seconds; `asked` is what is not answered yet, by who is asked.
    """
    now = services().clock.now()
    try:
        missing = sends.missing_roles(session(), now)
        waited = events.backlog(session(), now) or dt.timedelta()
        asked = {target: number for target, (number, _) in inquiries.waiting_by_target(session()).items()}
    except SQLAlchemyError:
        return _answer("the database can't be read")
    alive = sorted({sends.PLANS, sends.SENDS} - missing)
    more = {"workers": alive, "waited": int(waited.total_seconds()), "asked": asked}
    if missing:
        return _answer(MISSING[" ".join(sorted(missing))], **more)
    late = waited > OLDEST_UNPLANNED
    return _answer(f"the oldest event has waited {more['waited']} s to be planned" if late else "", **more)
