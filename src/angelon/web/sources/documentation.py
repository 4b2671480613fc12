"""A look-up, or how orders are fetched, filled in from the documentation of the other side; nothing is saved by it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from flask import request

from angelon.core import curl_commands, openapi_operations
from angelon.core.curl_commands import Question
from angelon.core.problems import Invalid


def filled_in(page: Callable[..., Any], fields: Callable[[Question], dict[str, Any]], methods: Sequence[str]) -> Any:
    """What `page` makes with the fields that a command, or an operation of a description, says: once one is chosen.
    `page` takes `typed` (the fields), and what the part about the documentation shows.
    """
    upload = request.files.get("file")
    text = upload.read(openapi_operations.MOST + 1).decode("utf-8", "replace") if upload else ""
    text = text or request.form.get("documentation", "")
    shown: dict[str, Any] = {"documentation": text}
    try:
        if text.lstrip().removeprefix("$ ").startswith("curl"):
            asked = curl_commands.question(text)
        else:
            document = openapi_operations.parse(text)
            mark = request.form.get("operation", "")
            if not mark:
                listed = [one for one in openapi_operations.operations(document) if one.method in methods]
                return page({}, **shown, listed=sorted(listed, key=lambda one: one.method != "GET"))
            asked = openapi_operations.question(document, mark)
        typed = fields(asked)
    except Invalid as error:
        return page({}, **shown, documentation_problems=error.problems), 422
    return page(typed, filled_from=asked)
