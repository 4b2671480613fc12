"""The answers to what is typed into the box at the top, grouped; as a page, and as the list under the box."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, g, render_template, request

from angelon.core.access import may
from angelon.db.derived import searching
from angelon.db.log import orders, sends
from angelon.db.log.sends import Filter
from angelon.db.people import people
from angelon.web.services import messages, names, session, store_id

pages = Blueprint("find", __name__, url_prefix="/find", template_folder="templates")

A_GROUP = 12
"""Answers of each kind on the page."""
IN_BOX = 5
"""Answers of each kind under the box."""


@pages.get("")
def page() -> Any:
    words = request.args.get("words", "").strip()[:200]
    fragment = bool(request.headers.get("X-Fragment"))
    most = IN_BOX if fragment else A_GROUP
    found = _found(words, most) if words else {}
    return render_template(
        "find/_answers.html" if fragment else "find/page.html",
        words=words,
        found=found,
        most=most,
        names=names(),
        any_found=any(found.values()),
    )


def _found(words: str, most: int) -> dict[str, Any]:
    """The newest of each kind that have the words; one more than `most` where there are more."""
    connection, here = session().connection(), store_id()
    refs = {kind: searching.refs(connection, kind, here, words, most + 1) for kind in searching.KINDS}
    of_order = [int(ref) for ref in refs["order"]]
    of_person = [int(ref) for ref in refs["person"]] if may(g.get("role", "owner"), "people", False) else []
    of_send = Filter(ids=tuple(refs["send"]))
    found_orders = orders.with_customers(session(), here, of_order)
    return {
        "orders": found_orders,
        "states": orders.send_states(session(), [order.id for order, _ in found_orders if order.id]),
        "people": people.by_ids(session(), here, of_person),
        "sends": sends.listed(session(), here, of_send, most + 1) if of_send.ids else [],
        "messages": _messages(words, most + 1),
    }


def _messages(words: str, most: int) -> list[Any]:
    """Messages whose name or text has every word."""
    wanted = [word.casefold() for word in words.split()]
    found = []
    for row in messages():
        said = f"{row.spec.name} {row.spec.model_dump_json(include=set(row.spec.channels()))}".casefold()
        if all(word in said for word in wanted):
            found.append(row)
    return found[:most]
