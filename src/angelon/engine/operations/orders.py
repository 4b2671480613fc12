"""Orders: notes that the team keeps about them."""

from __future__ import annotations

from angelon.core.problems import Invalid, Problem
from angelon.db import orders
from angelon.engine.unit import Work, found

NOTE = "note"
"""The action that a note is kept under, among the changes of its order."""
LONGEST = 2000


def add_note(work: Work, order_id: int, text: str) -> None:
    """Keeps a note about an order, for the team; no customer reads it. Raises NotFound and Invalid."""
    found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    note = "\n".join(line.rstrip() for line in text.strip().splitlines())
    if not note:
        raise Invalid([Problem("text", "The note is empty.", "Write what the team should know.")])
    if len(note) > LONGEST:
        raise Invalid([Problem("text", f"The note has {len(note):,} characters; at most {LONGEST:,} are kept.")])
    work.record(NOTE, "order", str(order_id), None, {"text": note.replace("\x00", "\ufffd")})
