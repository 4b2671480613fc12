"""Handlers of the demo's workshop."""

from datetime import timedelta

from angelon.handlers import Event, Outbox, on


@on("order.created", source="webshop", rank=10)
def large_order(event: Event, outbox: Outbox) -> None:
    """The workshop hears of a large order at once."""
    total = event.order.total
    if total is None or total.amount < 150:
        return outbox.skip(f"{total.amount if total else 'no total'} is less than 150")
    print(f"{event.order.number} comes to {total.amount} {total.currency}")
    outbox.send("large-order", to="role:owner")
    outbox.derive("order.large")


@on("order.status_changed", source="workbench")
def ready_at_the_workshop(event: Event, outbox: Outbox) -> None:
    """Who collects at the workshop is told until when we keep it: regulars get longer."""
    if event.now != "ready_for_collection":
        return outbox.skip(f"is {event.now}, not ready")
    weeks = 4 if event.person.orders >= 3 else 2
    collect_by = event.received_at + timedelta(weeks=weeks)
    outbox.tag("collects")
    outbox.send("ready-to-collect", values={"collect_by": collect_by.date()})
