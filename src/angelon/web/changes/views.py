"""What was changed, by whom and when: every write that a person made, newest first."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, render_template, request, url_for

from angelon.core.shape import compare
from angelon.db.setup import changes
from angelon.db.tables import ChangeRow
from angelon.web.numbers import whole
from angelon.web.services import session, store_id

pages = Blueprint("changes", __name__, url_prefix="/changes", template_folder="templates")
A_PAGE = 50
SHOWN = 40
"""Fields of one change that are shown."""
KINDS = (
    "source", "variable", "message", "letterhead", "route", "gateway", "segment", "segments", "check", "file",
    "address", "send",
)  # fmt: skip
"""What can be changed, for the filter."""
PLACES = {
    "source": "/sources/{}", "message": "/messages/{}", "route": "/routes/{}", "gateway": "/gateways/{}",
    "check": "/checks/{}", "send": "/sends/{}", "segment": "/segments/{}",
}  # fmt: skip
"""Where each kind of thing has its page."""
RESTORED = {"message", "gateway", "source"}
"""What is restored by one and the same address; routes, segments and variables have their own."""


@pages.get("")
def index() -> Any:
    kind, key = request.args.get("kind", "")[:40], request.args.get("key", "")[:200]
    before = whole(request.args.get("before"))
    rows = changes.listed(session(), store_id(), kind, key, A_PAGE + 1, before)
    shown = rows[:A_PAGE]
    return render_template(
        "changes/index.html",
        rows=[(row, _fields(row), PLACES.get(row.kind, "").format(row.key), _restoring(row)) for row in shown],
        kinds=KINDS,
        kind=kind,
        key=key,
        older=shown[-1].id if len(rows) > A_PAGE else None,
    )


def _restoring(row: ChangeRow) -> str:
    """Where what this change deleted is restored; empty where it deleted nothing that can be."""
    if row.action != "deleted":
        return ""
    if row.kind in RESTORED:
        return url_for("upkeep.restore", kind=row.kind, key=row.key)
    if row.kind == "variable":
        return url_for("upkeep.restore_variable", name=row.key)
    return url_for(f"{row.kind}s.restore", key=row.key) if row.kind in ("route", "segment") else ""


def _fields(row: ChangeRow) -> list[tuple[str, str, str]]:
    """(field, before, after) of what differs."""
    before, after = row.before, row.after
    if before is None and after is None:
        return []
    found = compare(before or {}, after or {})
    return [(one.path.removeprefix("$.").removeprefix("$"), _text(one.was), _text(one.now)) for one in found[:SHOWN]]


def _text(value: Any) -> str:
    if value is None:
        return "—"
    return (value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str))[:300]
