"""What an order's page shows of its documents."""

from __future__ import annotations

from typing import Any

from angelon.db.log import documents
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations.documents import settings_of
from angelon.web.documents import shown
from angelon.web.services import live, services, session


def around_order(order: Any) -> dict[str, Any]:
    """Its invoices and credit notes, why none could be made, and where its customer gets one; nothing where the shop
    makes none.
    """
    settings = settings_of(live())
    if not settings.on:
        return {"papers": None}
    connection = session().connection()
    page = f"/i/{Links(services().vault).invoice_token(order.id)}" if settings.page else ""
    return {
        "papers": documents.of_order(connection, order.id),
        "paper_held": documents.held_of(connection, order.id),
        "paper_page": page,
        "paper_shown": shown,
    }
