"""Chat texts that a provider has approved already: listed, and taken over into a message."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.db.setup import reviews
from angelon.engine.operations import messages as operations
from angelon.web.messages.views import review_service, sample_event, stored_message, variables_with_values
from angelon.web.services import live, services, session, store_id, work

pages = Blueprint("approved", __name__, url_prefix="/messages", template_folder="templates")


@pages.get("/<key>/approved")
def index(key: str) -> Any:
    """The texts that a gateway's provider has approved, those of this language first."""
    return _page(key, request.args)


def _page(key: str, given: Any, problems: Any = (), status: int = 200) -> Any:
    row = stored_message(key)
    gateway, locale = _gateway(given.get("gateway", "")), given.get("locale") or row.spec.locale
    texts, problem = [], None
    try:
        texts = review_service().approved(live(), gateway.key)
    except Invalid as error:
        problem = error.problems[0]
    known = reviews.references(session(), store_id())
    others = [text for text in texts if text.reference not in known]
    others.sort(key=lambda text: (text.language.partition("-")[0] != locale.partition("-")[0], text.name))
    choices = [one for one in variables_with_values(sample_event(key)) if one["type"] != "list"]
    return (
        render_template(
            "messages/approved.html",
            row=row,
            gateway=gateway,
            locale=locale,
            texts=others,
            own=len(texts) - len(others),
            problem=problem,
            problems=problems,
            chosen=given.get("reference", ""),
            given=given,
            choices=choices,
        ),
        status,
    )


@pages.post("/<key>/approved")
def take_over(key: str) -> Any:
    """Makes one of them the draft's text in a language."""
    row = stored_message(key)
    gateway, locale = _gateway(request.form.get("gateway", "")), request.form.get("locale") or row.spec.locale
    reference = request.form.get("reference", "")
    try:
        texts = review_service().approved(live(), gateway.key)
        text = next((one for one in texts if one.reference == reference), None)
        if text is None:
            abort(404, "The provider lists no such approved text any more.")
        given = {gap: request.form.get(f"gap.{gap}", "") for gap in text.gaps}
        with work() as unit:
            operations.take_over(unit, key, gateway.key, locale, text, given)
    except Invalid as error:
        return _page(key, request.form, error.problems, 422)
    services().setups.forget()
    flash(f"The draft says “{text.name}” now, which {gateway.name} has approved already.", "good")
    return redirect(url_for("messages.edit", key=key, channel="chat", locale=locale))


def _gateway(key: str) -> Any:
    listing = [one for one in live().setup.gateways.values() if one.review is not None and one.review.texts is not None]
    found = next((one for one in listing if one.key == key), None) if key else next(iter(listing), None)
    if found is None:
        abort(404, "No chat gateway lists the texts that it has approved. It is set up on the gateway’s page.")
    return found
