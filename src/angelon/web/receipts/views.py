"""Takes receipts from providers: `POST /receipts/<gateway>/<token>`."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, abort, jsonify, request

from angelon.core.payload.body import NotReadable, parse_body
from angelon.engine.feedback.receipts import take_all
from angelon.web.services import live, public_address, services

pages = Blueprint("receipts", __name__, url_prefix="/receipts")
MOST = 200_000


def address_of(key: str) -> str:
    """Where a gateway's provider tells what became of sends."""
    return f"{public_address()}{live().root}/receipts/{key}/{services().vault.receipts(_named(key))}"


def _named(key: str) -> str:
    """What the address of a gateway's receipts is for: another one in each store."""
    return f"{live().root}/{key}" if live().root else key


@pages.post("/<key>/<token>")
def receive(key: str, token: str) -> Any:
    """One receipt, or a list of them. What can't be used is told and not asked for again."""
    gateway = live().setup.gateways.get(key)
    if gateway is None or not services().vault.takes_receipts(_named(key), token):
        abort(404, "There is no such address.")
    raw = request.stream.read(MOST + 1)
    if len(raw) > MOST:
        abort(413, f"A receipt holds at most {MOST // 1000} kB.")
    try:
        told = parse_body(raw, request.content_type)
    except NotReadable as error:
        abort(400, str(error.problem))
    found = take_all(
        services().database, live(), gateway, told[:200] if isinstance(told, list) else [told], services().clock
    )
    services().notifier.notify()
    return jsonify({"receipts": found})
