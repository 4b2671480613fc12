"""Why somebody got a message: which order, what happened, by which permission, and how to stop it."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint

from angelon.core.messages.channels import address_key
from angelon.db.log import sends
from angelon.db.people import consents
from angelon.engine.feedback.preferences import Links, Reader
from angelon.web.customers import frame
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.preferences import shown_address
from angelon.web.customers.questions import moment_in
from angelon.web.customers.words import happened, why_words
from angelon.web.services import live, services, session, store_id

pages = Blueprint("why", __name__, url_prefix="/w", template_folder="templates")


def _opened(token: str) -> Any:
    """The send that a link is about. The store in view is its shop's."""
    id_ = Links(services().vault).read_why(token[:LONGEST])
    found = sends.any_details(session(), id_) if id_ is not None else None
    frame.enter(found.listed.send.store_id if found is not None else None, "the customer")
    return found


frame.install(pages, _opened)


@pages.get("/<token>")
def show_page(token: str) -> Any:
    return page_of(_opened(token))


def newest() -> Any:
    """The newest message to a customer that went out; None where there is none."""
    rows = sends.listed(session(), store_id(), sends.Filter(states=("sent", "delivered", "read")), 20)
    row = next((one.send for one in rows if one.send.whom == "customer" and one.order_id), None)
    return sends.any_details(session(), row.id) if row is not None else None


def page_of(found: Any) -> Any:
    """The page of a send, with all that is known of it."""
    send, locale = found.listed.send, found.listed.send.locale or live().setup.store.locale
    said, zone = why_words(locale), ZoneInfo(live().setup.store.timezone)
    message = live().setup.messages.get(found.listed.message)
    key = address_key(send.channel, send.recipient) if send.recipient else ""
    agreed = consents.among(session().connection(), store_id(), [key]).get((send.channel, key)) if key else None
    at = moment_in(send.settled_at or send.created_at, zone, locale)
    optional = message is not None and message.purpose == "optional"
    granted = agreed is not None and agreed.granted
    lines = [
        said.sent.format(address=shown_address(key), at=at) if key else "",
        said.order.format(number=found.listed.order_number) if found.listed.order_number else "",
        said.because.format(what=happened(found.event.type if found.event is not None else "", locale)),
        said.agreed.format(at=moment_in(agreed.at, zone, locale), words=agreed.words) if granted and agreed else "",
        said.optional if optional else "" if granted else said.needed,
    ]
    reader = Reader(store_id(), key, found.listed.message, locale)
    link = Links(services().vault, services().settings.base_url).address(live(), reader) if key else ""
    return frame.page(
        "customers/why.html",
        locale,
        said=said,
        title=said.title,
        subject=send.subject,
        lines=[line for line in lines if line],
        preferences=link.partition("/p/")[2] and f"/p/{link.partition('/p/')[2]}",
        by_phone=send.channel in ("sms", "chat"),
    )
