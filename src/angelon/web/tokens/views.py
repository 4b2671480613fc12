"""The page of tokens for the API: made, shown once, revoked."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, flash, g, redirect, render_template, request, url_for

from angelon.client.models import SCOPES
from angelon.core.problems import Invalid, Problem
from angelon.db.access import tokens
from angelon.engine.operations import tokens as operations
from angelon.web.numbers import whole
from angelon.web.services import public_address, session, store_id, work

pages = Blueprint("tokens", __name__, url_prefix="/settings/tokens", template_folder="templates")


@pages.get("")
def index() -> Any:
    return _page()


def _page(token: str = "", problem: Problem | None = None, status: int = 200) -> Any:
    return (
        render_template(
            "tokens/index.html",
            rows=tokens.listed(session(), store_id()),
            scopes=SCOPES,
            token=token,
            problem=problem,
            name=request.form.get("name", "") if problem else "",
            chosen=request.form.getlist("scope") if problem else [],
            days=request.form.get("days", "") if problem else "",
            address=f"{public_address()}/api/v1",
            moment=g.now,
        ),
        status,
    )


@pages.post("")
def create() -> Any:
    """Makes a token, and shows it: this once."""
    days = request.form.get("days", "").strip()
    try:
        number = whole(days or "0")
        if number is None:
            raise Invalid([Problem("days", f"“{days[:20]}” is no number of days.", "Write it like 90.")])
        with work() as unit:
            token = operations.create(unit, request.form.get("name", ""), request.form.getlist("scope"), number)
    except Invalid as error:
        return _page(problem=error.problems[0], status=422)
    return _page(token)


@pages.post("/<int:token_id>/revoke")
def revoke(token_id: int) -> Any:
    """Ends a token at once."""
    with work() as unit:
        name = operations.revoke(unit, token_id)
    flash(f"The token “{name}” is revoked: nothing is answered to it any more.", "good")
    return redirect(url_for(".index"))
