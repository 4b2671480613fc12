"""Handlers asked where an event carries no answers of theirs: in rehearsals, checks and the API's rehearsal."""

from __future__ import annotations

from angelon.core.planning.context import PlanningContext
from angelon.core.specs.asked import Asked
from angelon.engine.handlers.about import as_plain
from angelon.engine.handlers.runner import Handlers


class AskNow:
    """Asks a folder's handlers as they are now. What their code does elsewhere is done; nothing is stored."""

    def __init__(self, own: Handlers) -> None:
        self._own = own

    @property
    def digest(self) -> str:
        """What the code is known by: what it has said before about an event, it need not be asked again."""
        self._own.look()
        return self._own.digest

    def __call__(self, handler: str, context: PlanningContext) -> Asked:
        contact = context.facts.contact
        orders, tags = (contact.orders, contact.tags) if contact is not None else (1, ())
        plain = as_plain(context.event, context.reading, context.variables, max(orders, 1), tags)
        return self._own.call(handler, plain)[0]
