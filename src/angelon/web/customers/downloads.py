"""Where a customer downloads the files of a message: so many times, until a day. Opening the page counts nothing; a
button does, and leads to the file for an hour, so that a download that broke off goes on.
"""

from __future__ import annotations

import datetime as dt
import io
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from flask import Blueprint, abort, redirect, request, send_file

from angelon.core.messages.attachments import File, detect_media_type, file_name
from angelon.db.log import downloads, orders, sends
from angelon.db.setup import files as library
from angelon.engine.feedback.preferences import Links
from angelon.engine.sending.order_files import document, fetched, places, secret_of
from angelon.gateways.fetching import CantFetch
from angelon.web.customers import frame
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.questions import moment_in
from angelon.web.customers.words import download_words
from angelon.web.services import live, services, session

pages = Blueprint("downloads", __name__, url_prefix="/d", template_folder="templates")
OPEN_FOR = dt.timedelta(hours=1)
"""How long a file stays open after the button was pressed."""
INERT = ("application/pdf", "image/png", "image/jpeg", "image/gif", "text/plain", "application/zip")
"""Types that are said as they are; anything else is only bytes."""


class Opened(NamedTuple):
    send: Any
    offered: Any


def _opened(token: str) -> Opened:
    """What a link opens. The store in view is its shop's."""
    id_ = Links(services().vault).read_download(token[:LONGEST])
    offered = downloads.get(session().connection(), id_) if id_ is not None else None
    frame.enter(offered.store_id if offered is not None else None, "the customer")
    found = sends.any_details(session(), offered.send_id) if offered is not None else None
    if found is None:
        frame.gone()
    return Opened(found.listed.send, offered)


frame.install(pages, _opened)


@pages.get("/<token>")
def show_page(token: str) -> Any:
    return _page(_opened(token))


def _page(opened: Opened, wrong: str = "", status: int = 200) -> Any:
    send, offered = opened
    locale = send.locale or live().setup.store.locale
    said, now = download_words(locale), services().clock.now()
    over = offered.revoked_at is not None or offered.until <= now
    until = moment_in(offered.until, ZoneInfo(live().setup.store.timezone), locale)
    number = orders.number_of(session().connection(), send.order_id) if send.order_id else ""
    return frame.page(
        "customers/download.html",
        locale,
        status,
        said=said,
        title=said.title,
        number=number,
        files=[_name(one) for one in offered.files],
        open=not over and offered.left > 0,
        left=said.over if over else said.left.format(left=offered.left, until=until) if offered.left else said.none,
        wrong=wrong,
    )


def _name(one: dict[str, Any]) -> str:
    last = "" if one["kind"] == "library" else one["url"].rpartition("/")[2].partition("?")[0][:80]
    return file_name(one.get("name", ""), file_name(last, "file"))


@pages.post("/<token>")
def take(token: str) -> Any:
    """Counts one download, and leads to the file."""
    opened = _opened(token)
    locale = opened.send.locale or live().setup.store.locale
    number = request.form.get("file", "")
    if not number.isdigit() or int(number) >= len(opened.offered.files):
        abort(404, "There is no such file.")
    try:
        _file(opened.offered.files[int(number)])  # what can't be had is not counted
    except CantFetch:
        return _page(opened, download_words(locale).later, 503)
    now = services().clock.now()
    with services().database.connection(purpose="downloads") as connection:
        counted = downloads.count(connection, opened.offered.send_id, now)
    if not counted:
        return _page(opened, "", 410)
    until = int((now + OPEN_FOR).timestamp())
    ticket = Links(services().vault).ticket(opened.offered.send_id, int(number), until)
    return redirect(f"{request.path}/{number}/{ticket}", 303)


@pages.get("/<token>/<int:file>/<ticket>")
def serve(token: str, file: int, ticket: str) -> Any:
    """The file itself, or a part of it (RFC 9110, section 14)."""
    opened, now = _opened(token), services().clock.now()
    until = Links(services().vault).read_ticket(opened.offered.send_id, file, ticket)
    if until is None or until < now.timestamp() or opened.offered.revoked_at is not None:
        frame.gone()
    if file >= len(opened.offered.files):
        abort(404, "There is no such file.")
    try:
        made = _file(opened.offered.files[file])
    except CantFetch:
        locale = opened.send.locale or live().setup.store.locale
        return _page(opened, download_words(locale).later, 503)
    kind = made.type if made.type in INERT else "application/octet-stream"
    answer = send_file(io.BytesIO(made.data), mimetype=kind, as_attachment=True, download_name=made.name,
                       conditional=True, etag=False)  # fmt: skip
    answer.headers |= {"X-Content-Type-Options": "nosniff", "Cache-Control": "private, no-store"}
    answer.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
    return answer


def _file(one: dict[str, Any]) -> File:
    """One file's bytes, with what they are by their content. Raises CantFetch."""
    if one["kind"] == "library":
        data = library.data(session(), live().store_id, {one["id"]}).get(one["id"])
        if data is None:
            raise CantFetch("The file was removed from the library.", True)
        return File(_name(one), detect_media_type(data), data)
    written = document(one["url"], one.get("name", ""))
    if written is not None:
        return written
    secret = secret_of(services().vault, session(), live(), one["through"], services().clock.now())
    place = next(places(live(), one["url"], one["through"], secret), None)
    if place is None:
        raise CantFetch("The attachment’s address is empty.", True)
    return fetched(live(), place, one.get("name", ""))
