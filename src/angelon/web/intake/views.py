"""Hands a request to the engine's intake and its answer back."""

from __future__ import annotations

import orjson
from flask import Blueprint, Response, request

from angelon.web.services import services

pages = Blueprint("intake", __name__)
METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"]
MOST_READ = 16 * 1024 * 1024


@pages.route("/in/<key>", methods=METHODS, provide_automatic_options=False)
def receive(key: str) -> Response:
    environ = request.environ
    headers = {name[5:].replace("_", "-").lower(): value for name, value in environ.items() if name.startswith("HTTP_")}
    if environ.get("CONTENT_TYPE"):
        headers["content-type"] = environ["CONTENT_TYPE"]
    length = request.content_length or 0
    raw = request.get_data(cache=False) if length <= MOST_READ else b""
    answer = services().intake.receive(key, request.method, headers, raw, length, request.args, environ.get("REMOTE_ADDR", ""))
    if answer.text is not None:
        return Response(answer.text, answer.status, mimetype="text/plain")
    kind = "application/json" if answer.status < 300 else "application/problem+json"
    return Response(orjson.dumps(answer.body), answer.status, answer.headers, content_type=kind)
