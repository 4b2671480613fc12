"""Before every request: who asks, whether they may; and for those who see no contact details, masks.

Without any account the pages are open to this machine alone, as long as they are asked for by its own name; from
elsewhere nothing is shown until the first owner is made, with a code that stands in the data folder.
"""

from __future__ import annotations

import datetime as dt
import ipaddress
import re
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from flask import Flask, Response, abort, g, redirect, request
from flask import session as cookies
from flask_login import LoginManager, UserMixin, current_user
from jinja2 import pass_environment
from jinja2.filters import do_truncate

from angelon.core.access import PUBLIC, ROLES, may
from angelon.core.masking import masked
from angelon.db.access import accounts
from angelon.db.tables import AccountRow, SignedInRow
from angelon.engine.operations.accounts import SIGNED_IN_AT_MOST, SIGNED_IN_FOR, seen
from angelon.engine.operations.tokens import digest_of
from angelon.engine.unit import Actor
from angelon.web.origins import THIS_MACHINE, Proxies, host_of
from angelon.web.services import services, session

OPEN = frozenset({"sign_in"})
"""The part that people are led to who are not signed in."""
SEEN_EVERY = dt.timedelta(minutes=1)


class Person(UserMixin):  # type: ignore[misc]
    """Somebody who is signed in, in one browser."""

    def __init__(self, row: AccountRow, browser: SignedInRow, secret: str) -> None:
        self.account_id = row.id or 0
        self.name, self.email, self.role = row.name, row.email, row.role
        self.browser_id, self.seen_at = browser.id or 0, browser.seen_at
        self._secret = secret

    def get_id(self) -> str:
        return self._secret


_FORWARDED = ("Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "X-Real-Ip", "Via")


def is_local() -> bool:
    """Whether the pages are asked for from this machine (the peer's address is a loopback one), by its own name, and
    not through a proxy. What a request says of itself can only take that away: a name is no proof of where it is from.
    """
    try:
        here = ipaddress.ip_address(request.remote_addr or "").is_loopback
    except ValueError:
        return False
    return here and host_of(request.host) in THIS_MACHINE and not any(name in request.headers for name in _FORWARDED)


def asker() -> str:
    """The address of who asks, proxies that are trusted left out."""
    proxies = Proxies(services().settings.proxies())
    return proxies.sender(request.remote_addr or "", request.headers.get("X-Forwarded-For", ""))


def install(app: Flask) -> None:
    manager = LoginManager(app)
    manager.session_protection = None  # a browser is known by a secret of its own, which can be revoked

    @manager.user_loader  # type: ignore[untyped-decorator, unused-ignore]
    def load(secret: str) -> Person | None:
        now = services().clock.now()
        found = accounts.signed_in(session(), digest_of(secret), now - SIGNED_IN_FOR, now - SIGNED_IN_AT_MOST)
        return Person(found[1], found[0], secret) if found is not None else None

    app.before_request(_check)
    app.after_request(_masked)
    app.jinja_env.filters["truncate"] = _truncated
    app.context_processor(lambda: {"person": g.get("person"), "role_may": _may})


def _part() -> str:
    return (request.endpoint or "").split(".")[0]


def _check() -> Any:
    if request.endpoint is None or _part() in PUBLIC:
        return None
    known = g.get("any_accounts")
    if not (known if known is not None else accounts.there_are_any(session())):
        if is_local() or request.endpoint in ("sign_in.first", "sign_in.make_first"):
            g.role = "owner"
            as_role = cookies.get("demo_role") if services().settings.demo else None
            if as_role in ROLES and _part() not in OPEN:
                g.role = as_role
                return _allowed()
            return None
        if request.endpoint in ("sign_in.join", "sign_in.take_up"):
            return None  # whoever works on the machine has made the invitation
        return redirect("/sign-in/first")
    if _part() in OPEN:
        return None
    if not current_user.is_authenticated:
        if request.method != "GET" or request.headers.get("X-Fragment"):
            abort(401, "You are not signed in any more. Sign in in another window, then try again: nothing is lost.")
        to = request.full_path.rstrip("?")
        return redirect(f"/sign-in?next={quote(to)}" if to != "/" else "/sign-in")
    g.person, g.role = current_user, current_user.role
    g.actor = Actor(current_user.name)
    if services().clock.now() - current_user.seen_at > SEEN_EVERY:
        seen(services().installation, current_user.browser_id)
    return _allowed()


def _allowed() -> None:
    """Ends the request where the role of who asks does not reach so far."""
    changing = request.method not in ("GET", "HEAD", "OPTIONS")
    part = _part()
    if part == "upkeep" and (request.view_args or {}).get("kind") == "message":
        part = "messages"
    if not may(g.role, part, changing):
        what = "change anything here" if changing and may(g.role, part, False) else "see this"
        abort(403, f"Your role, {g.role}, may not {what}. An owner can give you another one.")


def _may(part: str, changing: bool = False) -> bool:
    """For templates: whether who looks may see a part, or change something in it."""
    return may(g.get("role", "owner"), part, changing)


_WITH_TEXT = ("text/", "application/json", "application/problem+json", "application/x-ndjson", "application/jsonl")


def _masked(response: Response) -> Response:
    """What leaves to whoever may only look goes through here, whatever it is: text without contact details, and no mail
    as it went out, whose parts are encoded.
    """
    kind = response.mimetype or ""
    if g.get("role") != "viewer" or kind.startswith(_NO_TEXT) or not response.response:
        return response
    if not kind.startswith(_WITH_TEXT):  # what nobody can look into on its way
        what = "Your role sees no contact details, and this file may be full of them. Ask an owner for another role."
        return Response(what, 403, mimetype="text/plain")
    if response.is_streamed:
        response.response = _masked_pieces(response.response)
    else:
        response.set_data(_without(response.get_data(as_text=True)))
    return response


_NO_TEXT = ("text/css", "text/javascript", "image/", "font/")
_OF_CUSTOMERS = re.compile(r"/([pawfdi])/[\w-]{12,}")
"""Links to pages that show a customer who they are: whoever has one is taken for the customer."""


def _without(text: str) -> str:
    """A text without contact details, and without the secrets of customers' links."""
    return _OF_CUSTOMERS.sub(r"/\1/…", masked(text))


@pass_environment
def _truncated(environment: Any, text: str, *how: Any, **more: Any) -> str:
    """Cuts a text off once it is masked: half an address is not known as one."""
    return do_truncate(environment, masked(str(text)) if g.get("role") == "viewer" else text, *how, **more)


def _masked_pieces(pieces: Any) -> Iterator[bytes]:
    """Pieces as they come, each up to its last line's end: an address that lies over two is not missed."""
    rest = b""
    for piece in pieces:
        whole, end, left = (rest + (piece.encode() if isinstance(piece, str) else piece)).rpartition(b"\n")
        rest = left
        yield _without((whole + end).decode("utf-8", "replace")).encode()
    yield _without(rest.decode("utf-8", "replace")).encode()
