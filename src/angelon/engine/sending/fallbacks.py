"""What follows when a send fails, is held or is not out in time: the next fallback, somebody of the shop told, an event
of its own.
"""

from __future__ import annotations

import datetime as dt

import structlog
from sqlalchemy import Connection

from angelon.core.event_types import OURS
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.planning.notices import notice, notice_values
from angelon.core.planning.people import recipient_key
from angelon.core.planning.plan import FALLBACK_USED, plan_fallback
from angelon.core.planning.turns import Turn
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events, history, orders
from angelon.db.log import sends as queries
from angelon.db.records import NewEvent, NewSend
from angelon.db.rows import SendRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads
from angelon.engine.clock import Clock
from angelon.engine.planner import compile_texts, describe_fault, link_to
from angelon.engine.sending.gathering import event_of_send
from angelon.engine.setups import Setups

log = structlog.get_logger()


class Fallbacks:
    """Looks after sends whose `fallback_at` has come. Each is dealt with in one transaction, once."""

    def __init__(self, database: Database, setups: Setups, clock: Clock, base_url: str = "") -> None:
        self._database = database
        self._setups = setups
        self._clock = clock
        self._base_url = base_url
        self._payloads = Payloads()

    def run_due(self, limit: int = 50) -> int:
        """Deals with up to `limit` of them; gives how many sends and events came of it."""
        now = self._clock.now()
        with self._database.reading() as session:
            due = queries.due_fallbacks(session.connection(), now, limit)
        made = 0
        for store_id in dict.fromkeys(row.store_id for row in due):
            live = self._setups.get(store_id)
            compile_texts(live)
            # the store first, as a person's own doing takes it: whoever took sends first could wait for ever
            with self._database.connection(locks.of_store(store_id), "fallbacks") as connection:
                for row in queries.due_fallbacks(connection, now, limit, store_id):
                    made += self._guarded(connection, row, now)
        self._payloads.trim()
        return made

    def _guarded(self, connection: Connection, row: SendRecord, now: dt.datetime) -> int:
        """What follows one send; what raises harms that send alone."""
        try:
            with connection.begin_nested():
                return self._one(connection, row, now)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("what follows a send could not be evaluated", send=row.id)
            fault = f"{row.reason} What follows could not be evaluated: {describe_fault(error)}".strip()
            queries.fallback_failed(connection, row.id, fault)
            return 0

    def _one(self, connection: Connection, row: SendRecord, now: dt.datetime) -> int:
        live = self._setups.get(row.store_id)
        route = live.routes.get(live.route_key(row.route_id))
        state = State(row.state)
        if route is None or row.test or state not in FOLLOWED:
            queries.clear_fallback(connection, row.id, None)
            return self._resume(connection, row, now) if state is State.SKIPPED else 0
        within = dt.timedelta(minutes=route.fallback.within_minutes)
        first_due = min(row.first_try_at or row.due_at, row.due_at)  # a retry moves the time that it is due
        waits = state in (State.SCHEDULED, State.RETRYING, State.SENT)  # looked at since its time is over
        late = bool(within) and (waits or (state is State.HELD and now >= first_due + within))
        first_held = state is State.HELD and not late
        made = 0
        if state is State.FAILED or first_held:
            made = self._event(connection, live, route, row, state, now)
        left = len(route.fallback.options) > row.step
        again_at = first_due + within if first_held and within and left else None
        queries.clear_fallback(connection, row.id, again_at)
        if again_at is not None:
            return made  # a person may fix it until then
        word = "delivered" if state is State.SENT else "out"
        why = f"Not {word} within {route.fallback.within_minutes} minutes." if late else row.reason
        if (state is State.FAILED or late) and not queries.is_followed(connection, row.id, row.step):
            fallback = self._fallback(connection, live, route, row, why, now)
            if fallback is not None:
                queries.add(connection, [fallback])
                made += 1
            if fallback is not None and fallback.state is not State.SKIPPED:  # where it is, what is late goes on
                if state not in (State.FAILED, State.SENT):  # what is out can't be taken back
                    place = f"{CHANNEL_LABELS[fallback.channel]} {TAKES_ITS_PLACE}"
                    queries.give_up(connection, row.id, f"{why} {place}", now)
                return made
        if waits and not late:
            return made  # the route waits for nothing any more: what is under way goes on
        if state is State.FAILED and self._resume(connection, row, now):
            return made + 1
        notices = self._notices(connection, live, route, row, why, now)
        queries.add(connection, notices)
        return made + len(notices)

    def _fallback(
        self, connection: Connection, live: LiveSetup, route: Route, row: SendRecord, why: str, now: dt.datetime
    ) -> NewSend | None:
        """The send by the next of the route's fallbacks; None where none is left."""
        read = event_of_send(connection, live, row, self._payloads)
        recipient = next((recipient for recipient in route.to if recipient_key(recipient) == row.whom), None)
        event = events.by_ids(connection, [row.event_id]).get(row.event_id) if row.event_id else None
        if read is None or recipient is None or event is None:
            return None
        leave = frozenset({route.key})
        delivery = event.parent_id or event.id
        facts = history.of_one(connection, live, [route], event.source_id, read.reading, delivery, leave)
        send = plan_fallback(
            read.event,
            read.reading,
            read.variables,
            route,
            live.setup,
            facts,
            now,
            recipient,
            row.step,
            f"{why} {FALLBACK_USED}",
            manual=bool(row.run_id),
        )
        if send is None:
            return None
        id_ = self._clock.new_id("sd", now)
        type_ = event.type if not row.run_id else ""
        about = (row.event_id, row.order_id, now, row.id, row.run_id)
        return NewSend.planned(live, send, id_, *about, type_, gives_way=row.turn == Turn.GIVES_WAY)

    def _resume(self, connection: Connection, row: SendRecord, now: dt.datetime) -> int:
        """Lets the send go on that was merely late when this one took its place, since this one came to nothing."""
        if not row.instead_of or not row.step:  # what tells the team of a send takes nobody's place
            return 0
        reason = f"{CHANNEL_LABELS[row.channel]} took its place and came to nothing, so it goes on. {row.reason}"
        return queries.take_up(connection, row.instead_of, TAKES_ITS_PLACE, reason, now)

    def _notices(
        self, connection: Connection, live: LiveSetup, route: Route, row: SendRecord, why: str, now: dt.datetime
    ) -> list[NewSend]:
        """A mail to everybody of the role that the route names."""
        gateway = _mail_gateway(live)
        role = route.fallback.tell.casefold()
        members = [one for one in live.setup.store.team if role and one.role.casefold() == role and one.email]
        if gateway is None or not members:
            return []
        message = live.setup.messages.get(route.send)
        whom = row.recipient_name or row.recipient or "the customer"
        number = orders.number_of(connection, row.order_id) if row.order_id else ""
        values = notice_values(
            why,
            route.name,
            message.name if message else route.send,
            f"{whom} ({number})" if number else whom,
            link_to(live, self._base_url, row.id),
        )
        return [
            NewSend.notice(
                live,
                self._clock.new_id("sd", now),
                row,
                gateway.key,
                notice(live.setup.store.locale),
                member.email,
                member.name,
                member.role,
                values,
                f"{route.name}: no fallback is left, so the {member.role} is told",
                now,
            )
            for member in members
        ]

    def _event(
        self, connection: Connection, live: LiveSetup, route: Route, row: SendRecord, state: State, now: dt.datetime
    ) -> int:
        """The event that tells routes of it, where one waits for it; none about a send that such an event made."""
        type_ = "send.failed" if state is State.FAILED else "send.held"
        event = events.by_ids(connection, [row.event_id]).get(row.event_id) if row.event_id else None
        waited_for = any(type_ in active.route.when for active in live.setup.routes)
        if event is None or OURS & set(route.when) or not waited_for:
            return 0
        key = f"{row.id}>{type_}>{int(now.timestamp() * 1000)}"
        made = NewEvent.derived(event, self._clock.new_id("ev", now), key, row.reason, type_, now, row.order_id)
        events.derive(connection, [made])
        return 1


TAKES_ITS_PLACE = "takes its place."
"""How the reason ends for which a send was given up that was not out in time."""
FOLLOWED = (State.SCHEDULED, State.RETRYING, State.HELD, State.FAILED, State.SENT)
"""The states in which anything can follow a send."""


def _mail_gateway(live: LiveSetup) -> Gateway | None:
    """The first gateway for email that is not paused."""
    gateways = live.setup.gateways.values()
    return next((one for one in gateways if one.channel == "email" and not one.off), None)
