"""A page where a customer agrees to be written to by a channel, and shows that an order is theirs (`proofs`)."""

from __future__ import annotations

import time
from typing import Any

from flask import Blueprint, abort, redirect, request

from angelon.core.messages.channels import CHANNELS, address_key
from angelon.core.questions import said_in
from angelon.core.specs.store import SignUp
from angelon.db.setup import specs
from angelon.engine.operations import sign_ups as operations
from angelon.web.customers import frame, proofs
from angelon.web.customers.words import sign_up_words
from angelon.web.services import live, session, work

pages = Blueprint("sign_ups", __name__, url_prefix="/s", template_folder="templates")


def _opened(store_key: str) -> None:
    row = next((one for one in specs.stores(session()) if one.key == store_key), None)
    frame.enter(row.id if row is not None else None, "the customer")


frame.install(pages, _opened)


def _found(key: str) -> SignUp:
    page = next((one for one in live().setup.store.pages.sign_ups if one.key == key), None)
    return page or frame.gone()


@pages.get("/<token>/<key>")
def show_page(token: str, key: str) -> Any:
    _opened(token)
    return page_of(token, _found(key))


@pages.post("/<token>/<key>")
def agree(token: str, key: str) -> Any:
    """Keeps the consent where the order is theirs; the answer is the same where it is not."""
    began = time.monotonic()
    _opened(token)
    page, form, shop = _found(key), request.form, live().setup.store
    locale = _locale(page)
    said = sign_up_words(locale)
    number = form.get("number", "").strip()[:100]
    try:
        address = CHANNELS[page.channel].check_address(form.get("address", "")[:200], shop.country or None)
    except ValueError:
        return page_of(token, page, said.wrong, 422)
    if not number or not form.get("proof", "").strip() or not form.get("agreed"):
        return page_of(token, page, said.missing, 422)
    if proofs.too_often(number):
        abort(429, said.slow)
    order = proofs.theirs(number, form.get("proof", "")[:200])
    if order is not None:
        words = said_in(page.words, locale, shop.locale) or _agreement(page, locale)
        with work() as unit:
            operations.give(unit, page, address_key(page.channel, address), words, order)
    proofs.wait_since(began)
    return redirect(f"{request.path}?lang={locale}&done=1", 303)


def _agreement(page: SignUp, locale: str) -> str:
    """What customers agree to where the shop has written nothing of its own."""
    said = sign_up_words(locale)
    return said.agree.format(channel=said.channels[page.channel], shop=live().setup.store.name)


def _locale(page: SignUp) -> str:
    shop = live().setup.store
    languages = list(dict.fromkeys([shop.locale, *shop.locales, *page.title, *page.words]))
    wanted = request.values.get("lang", "")
    for tag in languages:
        if wanted and tag.partition("-")[0] == wanted.partition("-")[0]:
            return tag
    return request.accept_languages.best_match(languages, shop.locale) or shop.locale


def page_of(token: str, page: SignUp, wrong: str = "", status: int = 200) -> Any:
    """A sign-up page of the store whose key is `token`."""
    shop, locale = live().setup.store, _locale(page)
    said = sign_up_words(locale)
    channel = said.channels[page.channel]
    languages = list(dict.fromkeys([shop.locale, *shop.locales]))
    return frame.page(
        "customers/sign_up.html",
        locale,
        status,
        dress=request.path if request.blueprint != pages.name else f"/s/{token}",
        said=said,
        title=said_in(page.title, locale, shop.locale) or said.title.format(channel=channel),
        about=said_in(page.about, locale, shop.locale),
        agree=said_in(page.words, locale, shop.locale) or _agreement(page, locale),
        thanks=said_in(page.thanks, locale, shop.locale) or said.thanks,
        done=request.args.get("done") == "1",
        wrong=wrong,
        by=page.channel,
        number=request.values.get("number", request.args.get("order", ""))[:100],
        typed=request.form,
        languages=[(tag, frame.language(tag)) for tag in languages] if len(languages) > 1 else [],
    )
