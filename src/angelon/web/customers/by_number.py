"""Pages that a customer without a link opens by an order's number and what shows that it is theirs."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from flask import abort, redirect, request

from angelon.db.tables import OrderRow
from angelon.web.customers import frame, proofs
from angelon.web.customers.follow_words import follow_words
from angelon.web.customers.words import sign_up_words

Words = Callable[[str], tuple[str, str]]
"""The title of the page and the word on its button, in a language."""


def ask(address: str, words: Words, wrong: str = "", status: int = 200) -> Any:
    """The form, which stands at an address and is posted there."""
    locale = frame.choose_locale("")
    return frame.page(
        "customers/by_number.html",
        locale,
        status,
        dress=address,
        title=words(locale)[0],
        button=words(locale)[1],
        said=sign_up_words(locale),
        wrong=wrong,
        number=request.values.get("number", request.args.get("order", ""))[:100],
        languages=frame.languages_of(),
    )


def find(address: str, words: Words, leads_to: Callable[[OrderRow], str]) -> Any:
    """Leads to the page of an order that is shown to be theirs; whether there is another, nobody is told."""
    began = time.monotonic()
    number, proof = request.form.get("number", "").strip()[:100], request.form.get("proof", "").strip()[:200]
    locale = frame.choose_locale("")
    order = None
    if number and proof:
        if proofs.too_often(number):
            abort(429, sign_up_words(locale).slow)
        order = proofs.theirs(number, proof)
        proofs.wait_since(began)
    if order is None:
        return ask(address, words, follow_words(locale).unknown, 422)
    return redirect(leads_to(order), 303)
