"""What all pages for customers share: who may open one, the shop's dress, its languages and how it is reached."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn

from babel import Locale, UnknownLocaleError
from flask import Blueprint, Response, abort, g, render_template, request

from angelon.core.colours import ink_on, readable_on
from angelon.db import files as library
from angelon.db.tables import StoreRow
from angelon.engine.unit import Actor
from angelon.web.access.guard import asker
from angelon.web.api.limits import Limits
from angelon.web.customers.words import words
from angelon.web.services import live, services, session, store_id

tries = Limits(rate=1, burst=60)
"""How often somebody may open links that are none of ours; a customer with a link is never counted."""
LONGEST = 2000


DARK = {"ink": "#e9e6dd", "body": "#1f242a", "page": "#16191d", "quiet": "#a5adb5", "line": "#ffffff33"}
"""A customer's page in the dark; the accent stays the shop's."""


def _css(named: dict[str, str]) -> str:
    return " ".join(f"--{name}: {value};" for name, value in named.items())


def enter(found_store_id: int | None, who: str) -> None:
    """Makes the store of a customer's link the one in view; None for a link that is none of ours, which ends the
    request.
    """
    row = session().get(StoreRow, found_store_id) if found_store_id is not None else None
    if row is None:
        gone()
    g.store, g.actor = row, Actor(who)
    g.pop("live", None)


def gone() -> NoReturn:
    """What whoever opens a link that is none of ours gets."""
    if "Retry-After" in tries.spend_by(asker(), services().clock.now()):
        abort(429, "Too many requests.")
    asked = request.accept_languages.best or "en"
    abort(Response(render_template("customers/gone.html", gone=words(asked).gone, locale=asked[:2]), 404))


def page(template: str, locale: str, status: int = 200, **values: Any) -> tuple[str, int]:
    """A page in the shop's dress."""
    shop = live().setup.store
    made = render_template(
        template, locale=locale, shop=shop, letterhead=shop.letterhead, words=words(locale), **values
    )
    return made, status


def language(tag: str) -> str:
    """A language by its own name: `Deutsch`; the tag where CLDR has none."""
    try:
        found = Locale.parse(tag, sep="-")
    except (UnknownLocaleError, ValueError):
        return tag
    name = found.get_display_name(found) or tag
    return name[:1].upper() + name[1:]


def install(pages: Blueprint, open_page: Callable[[str], Any]) -> None:
    """What a page is dressed in, under the page's own address; `open_page` makes the store of its token the one in
    view.
    """

    @pages.get("/<token>/colours.css")
    def colours(token: str) -> Any:
        """The letterhead's colours, for the page."""
        open_page(token)
        head = live().setup.store.letterhead
        own = {"accent": head.accent, "on-accent": ink_on(head.accent), "ink": head.ink, "body": head.body}
        light = own | {"page": head.page, "link": readable_on(head.page, head.accent), "plate": "transparent"}
        dark = DARK | {"link": readable_on(DARK["page"], head.accent), "plate": head.page}
        text = f":root {{{_css(light)}}} @media (prefers-color-scheme: dark) {{ :root {{{_css(dark)}}} }}"
        return Response(text, mimetype="text/css")

    @pages.get("/<token>/logo")
    def logo(token: str) -> Any:
        """The letterhead's picture, where it is one of the shop's files."""
        open_page(token)
        path = live().setup.store.letterhead.logo.removeprefix("library:")
        file = next((one for one in live().files if f"{one.shelf}/{one.name}" == path and not one.by), None)
        if file is None or not file.type.startswith("image/") or file.type == "image/svg+xml":
            abort(404, "There is no picture.")
        data = library.data(session(), store_id(), {file.id})[file.id]
        return Response(data, mimetype=file.type, headers={"Cache-Control": "private, max-age=3600"})
