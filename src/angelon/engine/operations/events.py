"""Events that could not be planned, planned again; deliveries kept as samples."""

from __future__ import annotations

from angelon.db.log import events, inquiries
from angelon.db.tables import EventRow
from angelon.engine.unit import Work, found


def plan_again(work: Work, event_id: str) -> bool:
    """Plans an event that could not be planned once more; what it has led to stays. Says whether it had a problem."""
    done = events.plan_again(work.connection, event_id)
    if done:
        inquiries.forget_failed(work.connection, [event_id])
        work.record("planned again", "event", event_id)
    work.wake()
    return done


def plan_all_again(work: Work) -> int:
    """The same for every event of the store that could not be planned; says how many."""
    number = events.plan_all_again(work.connection, list(work.live.source_ids.values()))
    if number:
        inquiries.forget_failed(work.connection)
        work.record("planned again", "events", "", None, {"events": number})
    work.wake()
    return number


def pin(work: Work, source_id: int, event_id: str) -> bool:
    """Keeps a delivery among the samples however old it gets, or no longer; says whether it is pinned now."""
    event = work.session.get(EventRow, event_id)
    if event is None or event.source_id != source_id:
        event = None
    event = found(event, "There is no such event.")
    event.pinned = not event.pinned
    return bool(event.pinned)
