"""Two people who edit the same thing: whoever saves second sees both versions and keeps one."""

from __future__ import annotations

import json
from typing import Any

from flask import jsonify, render_template, request

from angelon.core.problems import Conflict
from angelon.core.shape import compare
from angelon.web.numbers import whole

EDITS = "edits"
"""The form field that says how often a thing had been changed when its page was opened."""


def edits_seen() -> int | None:
    """How often what is saved had been changed when the page was opened; None where the form does not say."""
    return whole(request.form.get(EDITS))


def show(error: Conflict) -> Any:
    """409: both versions field by field, with the form ready to be sent again; for a script the reason alone."""
    if request.headers.get("X-Fragment") or request.is_json:
        detail = f"{error.problems[0].what} Reload the page to see it; what you just chose is not saved."
        return jsonify({"detail": detail, "saved": False, "elsewhere": True, "problems": []}), 409
    kept = [(name, value) for name, value in request.form.items(multi=True) if name not in (EDITS, "csrf_token")]
    page = render_template(
        "conflict.html",
        error=error,
        rows=[
            (one.path.removeprefix("$."), _text(one.was), _text(one.now)) for one in compare(error.theirs, error.mine)
        ],
        kept=kept,
        to=request.full_path.rstrip("?"),
        back=request.referrer or "/",
        lost=[file.filename for file in request.files.values() if file.filename],
    )
    return page, 409


def _text(value: Any) -> str:
    if value is None:
        return "not set"
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)[:500]
