"""A customer's preferences: opened by the link in a mail, without an account; and leaving by one click (RFC 8058)."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, g, request

from angelon.core.planning.permission import EVERYTHING, OPTIONAL, notice
from angelon.db.people import suppressions
from angelon.db.tables import StoreRow
from angelon.engine.feedback.preferences import Links, Reader
from angelon.engine.operations import preferences as operations
from angelon.web.customers import frame
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.words import words
from angelon.web.services import live, services, session, store_id, work

pages = Blueprint("preferences", __name__, url_prefix="/p", template_folder="templates")


def _reader(token: str) -> Reader:
    """Whose page it is; the store in view is theirs. Aborts for a link that is none of ours."""
    found = Links(services().vault).read(token[:LONGEST])
    frame.enter(found.store_id if found is not None else None, "the reader")
    assert found is not None
    return found


def page_of(reader: Reader, told: str = "", status: int = 200) -> Any:
    """The page of a reader's preferences."""
    listed = operations.notices(live(), reader.address_key, reader.locale)
    scopes = {row.scope for row in suppressions.of_address(session(), store_id(), reader.address_key)}
    nothing = bool(scopes & {EVERYTHING, OPTIONAL})
    return frame.page(
        "customers/preferences.html",
        reader.locale,
        status,
        address=shown_address(reader.address_key),
        notices=[(one, not nothing and notice(one.key) not in scopes) for one in listed],
        told=told,
    )


def shown_address(address_key: str) -> str:
    """An address as its owner knows it, and nobody else learns it: first sign and domain, or the last two digits."""
    kind, _, address = address_key.partition(":")
    name, at, domain = address.partition("@")
    return f"{name[:1]}…@{domain}" if at else f"…{address[-2:]}" if kind == "phone" else f"{address[:1]}…"


frame.install(pages, _reader)


@pages.get("/<token>")
def show(token: str) -> Any:
    """Opening the link changes nothing: mail programs and scanners open links, too."""
    return page_of(_reader(token))


@pages.post("/<token>")
def choose(token: str) -> Any:
    """What is ticked; or, sent by a mail program's own button, that nothing optional is wanted any more."""
    reader = _reader(token)
    said = words(reader.locale)
    if request.form.get("List-Unsubscribe") == "One-Click":
        with work() as unit:
            operations.leave(unit, reader.address_key, "one-click", "left by their mail program.", "List-Unsubscribe")
        return Response(said.left, mimetype="text/plain")
    shown = [one.key for one in operations.notices(live(), reader.address_key, reader.locale)]
    wanted = [] if request.form.get("none") else [key for key in request.form.getlist("wanted") if key in shown]
    with work() as unit:
        if wanted or not shown:
            operations.choose(unit, reader.address_key, wanted, shown, said.wanted)
        else:
            operations.leave(unit, reader.address_key, "left", "wants no optional message.", said.none)
    g.store = session().get(StoreRow, reader.store_id)
    return page_of(reader, said.saved if wanted else said.left)
