"""The API as a part of the application: its operations, its description, and a page that shows that."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, jsonify, render_template, url_for

from angelon.client.models import SCOPES
from angelon.web.api import documents, events, imports, orders, parcels, people, sends, setup, suppressions, tests
from angelon.web.api.description import GROUPS, description
from angelon.web.api.operation import operations, pages
from angelon.web.services import public_address

__all__ = ["OPERATIONS", "documentation", "pages"]
OPERATIONS = (events, imports, sends, orders, parcels, documents, people, suppressions, tests, setup)
"""What registers the operations, in the order in which they are described."""
documentation = Blueprint("api_documentation", __name__, url_prefix="/api", template_folder="templates")


@documentation.get("/v1/openapi.json")
def openapi() -> Any:
    """The description (OpenAPI 3.1)."""
    return jsonify(description())


@documentation.get("")
def page() -> Any:
    """Every operation, with what it takes and answers."""
    groups: dict[str, list[Any]] = {name: [] for name in dict.fromkeys(GROUPS.values())}
    for one in operations:
        groups.setdefault(GROUPS[one.path.split("/")[1]], []).append(one)
    return render_template(
        "api/index.html",
        groups=groups,
        described=description(),
        scopes=SCOPES,
        address=f"{public_address()}/api/v1",
        openapi=url_for(".openapi"),
    )
