"""What follows when a send fails, is held or is not out in time: the next way, somebody of the shop told, an event of
its own.
"""

from __future__ import annotations

import datetime as dt
from typing import Any

import structlog
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.event_types import OURS
from angelon.core.planning.notices import notice, notice_values
from angelon.core.planning.people import to_mark
from angelon.core.planning.plan import planned_instead
from angelon.core.planning.sentence import CALLED
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.core.values import pack
from angelon.db import facts
from angelon.db import sends as queries
from angelon.db.database import Database, is_database_failure
from angelon.db.events import derive
from angelon.db.records import NewEvent
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow
from angelon.engine.clock import Clock
from angelon.engine.planner import describe_fault, link_to, send_row
from angelon.engine.preparing import look_again, route_of
from angelon.engine.setups import Setups

log = structlog.get_logger()


class Following:
    """Looks after sends whose `fall_at` has come. Each is dealt with in one transaction, once."""

    def __init__(self, database: Database, setups: Setups, clock: Clock, base_url: str = "") -> None:
        self._database = database
        self._setups = setups
        self._clock = clock
        self._base_url = base_url

    def look(self, limit: int = 50) -> int:
        """Deals with up to `limit` of them; gives how many sends and events came of it."""
        now = self._clock.now()
        with self._database.reading() as session:
            if not queries.falling(session.connection(), now, 1):
                return 0
        made = 0
        with (
            self._database.connection() as connection,
            Session(bind=connection, join_transaction_mode="rollback_only") as session,
        ):
            for row in queries.falling(connection, now, limit):
                try:
                    with connection.begin_nested():
                        made += self._one(connection, session, row, now)
                except Exception as error:
                    if is_database_failure(error):
                        raise
                    log.exception("what follows a send could not be worked out", send=row.id)
                    session.expunge_all()
                    queries.fallback_failed(
                        connection,
                        row.id,
                        f"{row.reason} What follows could not be worked out: {describe_fault(error)}".strip(),
                    )
        return made

    def _one(self, connection: Connection, session: Session, row: Any, now: dt.datetime) -> int:
        live = self._setups.get(row.store_id)
        route = route_of(row, live)
        state = State(row.state)
        if (
            route is None
            or row.test
            or state not in (State.SCHEDULED, State.RETRYING, State.HELD, State.FAILED, State.SENT)
        ):
            queries.fell(connection, row.id, None)
            return 0
        within = dt.timedelta(minutes=route.otherwise.within_minutes)
        late = bool(within) and now >= row.due_at + within and state is not State.FAILED
        first_held = state is State.HELD and not late
        made = (
            self._event(connection, session, live, route, row, state, now) if state is State.FAILED or first_held else 0
        )
        again_at = row.due_at + within if first_held and within and len(route.otherwise.ways) > row.step else None
        queries.fell(connection, row.id, again_at)
        if again_at is not None:
            return made  # a person may mend it until then
        word = "delivered" if state is State.SENT else "out"
        why = f"Not {word} within {route.otherwise.within_minutes} minutes." if late else row.reason
        if state is State.FAILED or late:
            instead = self._instead(connection, session, live, route, row, why, now)
            if instead is not None:
                queries.add(connection, [instead])
                if state not in (State.FAILED, State.SENT):  # what is out can't be taken back
                    queries.give_up(connection, row.id, f"{why} {CALLED[instead['channel']]} takes its place.", now)
                return made + 1
        told = self._tell(live, route, row, why, now)
        queries.add(connection, told)
        return made + len(told)

    def _instead(
        self,
        connection: Connection,
        session: Session,
        live: LiveSetup,
        route: Route,
        row: Any,
        why: str,
        now: dt.datetime,
    ) -> dict[str, Any] | None:
        """The send by the next way, as it is stored; None where none is left."""
        found = look_again(session, live, row)
        recipient = next((recipient for recipient in route.to if to_mark(recipient) == row.whom), None)
        event = session.get(EventRow, row.event_id)
        if found is None or recipient is None or event is None:
            return None
        happened, reading, variables = found
        known = facts.of_one(
            connection, live, [route], event.source_id, reading, event.parent_id or event.id, frozenset({route.key})
        )
        send = planned_instead(
            happened,
            reading,
            variables,
            route,
            live.setup,
            known,
            now,
            recipient,
            row.step,
            f"{why} So by another way.",
        )
        if send is None:
            return None
        return send_row(
            live,
            send,
            self._clock.new_id("sd", now),
            row.event_id,
            row.order_id,
            now,
            instead_of=row.id,
            run_id=row.run_id,
        )

    def _tell(self, live: LiveSetup, route: Route, row: Any, why: str, now: dt.datetime) -> list[dict[str, Any]]:
        """A mail to everybody of the role that the route names."""
        gateway = _mail_gateway(live)
        members = [
            member
            for member in live.setup.store.team
            if route.otherwise.tell and member.role.casefold() == route.otherwise.tell.casefold() and member.email
        ]
        if gateway is None or not members:
            return []
        message = live.setup.messages.get(route.send)
        values = notice_values(
            why,
            route.name,
            message.name if message else route.send,
            row.recipient_name or row.recipient or "the customer",
            link_to(self._base_url, row.id),
        )
        return [
            {
                "id": self._clock.new_id("sd", now),
                "store_id": live.store_id,
                "event_id": row.event_id,
                "order_id": row.order_id,
                "route_id": None,
                "message_id": None,
                "gateway_id": live.gateway_ids[gateway.key],
                "revision_id": None,
                "channel": "email",
                "recipient": member.email,
                "recipient_name": member.name,
                "locale": live.setup.store.locale,
                "state": State.SCHEDULED,
                "reason": "",
                "created_at": now,
                "due_at": now,
                "settled_at": None,
                "worker": "",
                "tries": 0,
                "subject": "",
                "test": False,
                "draft": notice(live.setup.store.locale).plain(),
                "values": {name: pack(value) for name, value in values.items()},
                "whom": f"role:{member.role}",
                "step": 0,
                "instead_of": row.id,
                "trace": [
                    {
                        "part": "otherwise",
                        "verdict": "yes",
                        "saw": f"{route.name}: no way is left, so the {member.role} is told",
                        "why": "",
                    }
                ],
                "run_id": None,
                "fall_at": None,
            }
            for member in members
        ]

    def _event(
        self,
        connection: Connection,
        session: Session,
        live: LiveSetup,
        route: Route,
        row: Any,
        state: State,
        now: dt.datetime,
    ) -> int:
        """The event that tells routes of it, where one waits for it; none about a send that such an event made."""
        type_ = "send.failed" if state is State.FAILED else "send.held"
        event = session.get(EventRow, row.event_id) if row.event_id else None
        if (
            event is None
            or OURS & set(route.when)
            or not any(type_ in active.route.when for active in live.setup.routes)
        ):
            return 0
        key = f"{row.id}>{type_}>{int(now.timestamp() * 1000)}"
        derive(
            connection,
            [NewEvent.derived(event, self._clock.new_id("ev", now), key, row.reason, type_, now, row.order_id)],
        )
        return 1


def _mail_gateway(live: LiveSetup) -> Gateway | None:
    """The first gateway for email that is not paused."""
    return next(
        (gateway for gateway in live.setup.gateways.values() if gateway.channel == "email" and not gateway.paused), None
    )
