"""The store's own API, as another system that is called: it notes each request, once by idempotency key."""

from __future__ import annotations

import uuid
from typing import Any

from flask import Blueprint, jsonify, request

from angelon.standins import account
from angelon.standins.account import Refused, box
from angelon.standins.box import CallRow

api = Blueprint("system", __name__, url_prefix="/system")
METHODS = ["POST", "PUT", "PATCH", "DELETE"]
MAX_SECONDS = 3600


@api.post("/token")
def token() -> Any:
    """A bearer token for the client's own credentials (RFC 6749, section 4.4)."""
    given = request.authorization
    secret = box().setting("system_token", "")
    if given is None or given.type != "basic" or (secret and given.password != secret):
        return jsonify({"error": "invalid_client"}), 401
    if request.form.get("grant_type") != "client_credentials":
        return jsonify({"error": "unsupported_grant_type"}), 400
    return jsonify({"access_token": secret or "open", "token_type": "bearer", "expires_in": MAX_SECONDS})


@api.route("/<path:path>", methods=METHODS)
def take(path: str) -> Any:
    """Notes a request; one under an idempotency key that was seen before is answered as it was."""
    body = account.entered(box(), "system")
    if path.startswith("orders/") and "unknown" in path:
        raise Refused(404, "There is no such order.")
    key = request.headers.get("Idempotency-Key", "")
    row = box().by_key(CallRow, key)
    if row is None:
        row = CallRow(
            received_at=account.now(),
            method=request.method,
            path=f"/{path}" + (f"?{request.query_string.decode()}" if request.query_string else ""),
            body=body or dict(request.form),
            headers={name: value for name, value in request.headers.items() if name.lower().startswith("webhook-")},
            reference=f"cl-{uuid.uuid4().hex[:12]}",
            key=key,
        )
        box().keep(row)
    account.left(box(), "system")
    return jsonify({"id": row.reference, "state": "done"}), 200


def call_json(row: CallRow) -> dict[str, Any]:
    """A request as `/standins/calls.json` gives it."""
    return {
        "method": row.method,
        "path": row.path,
        "body": row.body,
        "headers": row.headers,
        "received_at": row.received_at.isoformat(),
        "id": row.reference,
    }
