"""What all pages for customers share: who may open one, the shop's dress, its languages and how it is reached."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn

from babel import Locale, UnknownLocaleError
from flask import Blueprint, Response, abort, g, render_template, request

from angelon.core.colours import ink_on, readable_on
from angelon.core.questions import said_in
from angelon.db.setup import files as library
from angelon.db.setup import specs
from angelon.db.tables import StoreRow
from angelon.engine.unit import Actor
from angelon.web.customers.words import words
from angelon.web.services import live, session, store_id

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
    """What whoever opens a link that is none of ours gets; who does so often is turned away before (`guesses`)."""
    asked = request.accept_languages.best or "en"
    abort(Response(render_template("customers/gone.html", gone=words(asked).gone, locale=asked[:2]), 404))


def page(template: str, locale: str, status: int = 200, **values: Any) -> tuple[str, int]:
    """A page in the shop's dress."""
    shop = live().setup.store
    texts = g.get("pages", shop.pages)  # a draft, where it is previewed
    around = {
        "locale": locale,
        "shop": shop,
        "letterhead": shop.letterhead,
        "words": words(locale),
        "notice": said_in(texts.notice, locale, shop.locale),
        "footer": said_in(texts.footer, locale, shop.locale),
        "dress": request.path,
    }
    return render_template(template, **around | values), status


def language(tag: str) -> str:
    """A language by its own name: `Deutsch`; the tag where CLDR has none."""
    try:
        found = Locale.parse(tag, sep="-")
    except (UnknownLocaleError, ValueError):
        return tag
    name = found.get_display_name(found) or tag
    return name[:1].upper() + name[1:]


def enter_shop(store_key: str, who: str) -> None:
    """Makes a store the one in view by its key, for a page that needs no link; ends the request where there is none."""
    row = next((one for one in specs.stores(session()) if one.key == store_key), None)
    enter(row.id if row is not None else None, who)


def _languages() -> list[str]:
    shop = live().setup.store
    return list(dict.fromkeys([shop.locale, *shop.locales]))


def languages_of() -> list[tuple[str, str]]:
    """The languages to choose from, where the shop speaks several: (tag, name)."""
    languages = _languages()
    return [(tag, language(tag)) for tag in languages] if len(languages) > 1 else []


def choose_locale(of_order: str) -> str:
    """The language of a page: the one that was chosen, the order's, the browser's, else the shop's."""
    languages = _languages()
    for wanted in (request.values.get("lang", ""), of_order):
        for tag in languages:
            if wanted and tag.partition("-")[0] == wanted.replace("_", "-").partition("-")[0]:
                return tag
    return request.accept_languages.best_match(languages, languages[0]) or languages[0]


def install(pages: Blueprint, open_page: Callable[[str], Any], prefix: str = "") -> None:
    """What a page is dressed in, under the page's own address; `open_page` makes the store of its token the one in
    view.
    """

    def colours(token: str) -> Any:
        open_page(token)
        return colours_of()

    def logo(token: str) -> Any:
        open_page(token)
        return logo_of()

    name = prefix.strip("/")
    pages.add_url_rule(f"{prefix}/<token>/colours.css", f"colours_{name}", colours)
    pages.add_url_rule(f"{prefix}/<token>/logo", f"logo_{name}", logo)


PREVIEW_POLICY = (
    "default-src 'none'; style-src 'self'; img-src 'self' data:; font-src 'self'; base-uri 'none'; form-action 'none'; "
    "frame-ancestors 'self'"
)
"""Of a customer's page that is shown within a page of the shop's: nothing runs, and nothing is sent from it."""


def colours_of(theme: str = "") -> Response:
    """The letterhead's colours, for a page: by the reader's own setting, or always `light` or `dark`."""
    head = live().setup.store.letterhead
    own = {"accent": head.accent, "on-accent": ink_on(head.accent), "ink": head.ink, "body": head.body}
    light = own | {"page": head.page, "link": readable_on(head.page, head.accent), "plate": "transparent"}
    dark = DARK | {"link": readable_on(DARK["body"], head.accent), "plate": head.page}
    chosen = {"light": f":root {{{_css(light)}}}", "dark": f":root {{{_css(light | dark)}}}"}
    both = f"{chosen['light']} @media (prefers-color-scheme: dark) {{ :root {{{_css(dark)}}} }}"
    return Response(chosen.get(theme, both), mimetype="text/css")


def logo_of() -> Response:
    """The letterhead's picture, where it is one of the shop's files."""
    path = live().setup.store.letterhead.logo.removeprefix("library:")
    file = next((one for one in live().files if f"{one.shelf}/{one.name}" == path and not one.by), None)
    if file is None or not file.type.startswith("image/") or file.type == "image/svg+xml":
        abort(404, "There is no picture.")
    data = library.data(session(), store_id(), {file.id})[file.id]
    return Response(data, mimetype=file.type, headers={"Cache-Control": "private, max-age=3600"})
