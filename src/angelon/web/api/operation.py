"""One operation of the API: who may ask for it, what it takes, what it answers; and what goes wrong as problem details
(RFC 9457).
"""

from __future__ import annotations

import base64
import datetime as dt
import functools
import inspect
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from flask import Blueprint, Response, g, request
from pydantic import BaseModel, ValidationError
from werkzeug.exceptions import HTTPException

from angelon.client import models
from angelon.core.problems import Conflict, Invalid, NotFound, Problem
from angelon.core.specs.base import problems_of
from angelon.db.tables import StoreRow, TokenRow
from angelon.engine.operations import tokens
from angelon.engine.unit import Actor
from angelon.web.api.limits import Limits
from angelon.web.services import services, session
from angelon.web.stores import WHICH

pages = Blueprint("api", __name__, url_prefix="/api/v1")
limits = Limits()
LARGEST_BODY = 6_000_000
"""Bytes of a body, but for an event's."""


@dataclass(frozen=True)
class Operation:
    """What the description says of an operation, and its function."""

    method: str
    path: str
    scope: str
    summary: str
    answer: type[BaseModel] | None
    status: int = 200
    query: type[BaseModel] | None = None
    body: type[BaseModel] | None = None
    raw: bool = False
    """Whether the body is whatever a source reads."""
    refusals: tuple[int, ...] = ()
    """Statuses besides those that every operation may answer with."""
    headers: tuple[str, ...] = ()
    """Request headers that it looks at."""
    about: str = ""
    name: str = ""


operations: list[Operation] = []


class Refused(Exception):
    """A request that is refused, as problem details."""

    def __init__(self, status: int, title: str, detail: str, problems: Any = (), headers: Any = None) -> None:
        super().__init__(detail)
        self.status, self.title, self.detail = status, title, detail
        self.problems, self.headers = problems, headers or {}


@dataclass
class Answer:
    """A model with headers, or another status."""

    model: BaseModel | None
    headers: dict[str, str] = field(default_factory=dict)
    status: int = 0


def operation(method: str, path: str, scope: str, summary: str, answer: Any, **more: Any) -> Callable[[Any], Any]:
    """Registers a function as an operation: it gets the path's parts, and `query` and `body` where it takes them."""

    def register(function: Callable[..., Any]) -> Callable[..., Any]:
        about = inspect.cleandoc(function.__doc__ or "")
        made = Operation(method, path, scope, summary, answer, about=about, name=function.__name__, **more)
        operations.append(made)

        @functools.wraps(function)
        def view(**parts: Any) -> Response:
            return _answered(made, function, parts)

        rule = path.replace("{id}", "<id>").replace("{source}", "<source>").replace("{number}", "<int:number>")
        rule = rule.replace("{part}", "<part>").replace("{key}", "<key>")
        pages.add_url_rule(rule, function.__name__, view, methods=[method])
        return function

    return register


def _answered(made: Operation, function: Callable[..., Any], parts: dict[str, Any]) -> Response:
    spent: dict[str, str] = {}
    try:
        token = _entered(made)
        spent = limits.spend(token.id or 0, services().clock.now())
        if "Retry-After" in spent:
            raise Refused(429, "Too many requests", "This token asks too often. Wait as Retry-After says.")
        given = dict(parts)
        if made.query is not None:
            given["query"] = _read(made.query, _asked_for(made.query), "query")
        if made.body is not None:
            given["body"] = _read(made.body, _json_body(), "body")
        found = function(**given)
    except Refused as error:
        return _problem(error.status, error.title, error.detail, error.problems, {**spent, **error.headers})
    except NotFound as error:
        return _problem(404, "Not found", error.problems[0].what, error.problems, spent)
    except Conflict as error:
        return _problem(409, "Changed meanwhile", str(error.problems[0]), error.problems, spent)
    except Invalid as error:
        return _problem(422, "Not done", str(error.problems[0]), error.problems, spent)
    except HTTPException as error:
        return _problem(error.code or 500, error.name, error.description or error.name, (), spent)
    answer = found if isinstance(found, Answer) else Answer(found)
    body = answer.model.model_dump_json() if answer.model is not None else ""
    response = Response(body, answer.status or made.status, mimetype="application/json" if body else None)
    response.headers.update({**spent, **answer.headers, "Cache-Control": "no-store"})
    return response


def _entered(made: Operation) -> TokenRow:
    """The token of a request (RFC 6750), which may do this. Raises Refused."""
    scheme, _, text = request.headers.get("Authorization", "").partition(" ")
    challenge = {"WWW-Authenticate": 'Bearer realm="angelon"'}
    if scheme.lower() != "bearer" or not text.strip():
        what = "Send a token: Authorization: Bearer angelon_… Tokens are made under Settings, Tokens."
        raise Refused(401, "No token", what, (), challenge)
    try:
        row = tokens.valid(session(), text, services().clock.now())
    except tokens.NotValid as why:
        raise Refused(
            401,
            "No valid token",
            f"The token {why}.",
            (),
            challenge | {"WWW-Authenticate": 'Bearer realm="angelon", error="invalid_token"'},
        ) from None
    if made.scope not in (row.scopes or []):
        what = f"The token may not do this: it needs the scope {made.scope}."
        scoped = f'Bearer realm="angelon", error="insufficient_scope", scope="{made.scope}"'
        raise Refused(403, "Not allowed", what, (), {"WWW-Authenticate": scoped})
    g.store = session().get(StoreRow, row.store_id)
    if request.environ.get(WHICH, g.store.key) != g.store.key:
        what = f"The token is of the store “{g.store.key}”, and this address is of another one."
        raise Refused(403, "Not allowed", what)
    g.actor = Actor(f"token {row.name}")
    tokens.note_use(services().installation, row)
    return row


def _asked_for(kind: type[BaseModel]) -> dict[str, Any]:
    """The query's parameters; one that was given twice is refused. Raises Refused."""
    twice = [name for name in request.args if len(request.args.getlist(name)) > 1]
    if twice:
        problem = Problem(twice[0], f"“{twice[0][:60]}” is given twice.", "Part several values by commas.")
        raise Refused(422, "Not readable", str(problem), [problem])
    return dict(request.args)


def _json_body() -> Any:
    if (request.content_length or 0) > LARGEST_BODY:
        raise Refused(413, "Too large", f"A body may have {LARGEST_BODY:,} bytes.")
    if not request.is_json:
        raise Refused(415, "No JSON", "Send JSON, with Content-Type: application/json.")
    body = request.get_data(cache=True)
    try:
        found = json.loads(body or b"null", parse_constant=_no_constant)
        if b"\\u" in body:
            json.dumps(found, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        what = "The body holds half a surrogate pair, which is no character. Send whole characters."
        raise Refused(422, "Not readable", what) from None
    except (ValueError, RecursionError) as error:
        raise Refused(400, "No JSON", f"The body is no JSON: {error}.") from None
    return found


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is no number of JSON")


def _read(kind: type[BaseModel], data: Any, what: str) -> Any:
    try:
        return kind.model_validate(data)
    except (ValidationError, RecursionError) as error:
        found = problems_of(error) if isinstance(error, ValidationError) else [Problem("", "It is nested too deeply.")]
        raise Refused(422, "Not readable", f"The {what} can’t be read: {found[0]}", found) from None


def _problem(status: int, title: str, detail: str, problems: Any, headers: dict[str, str]) -> Response:
    made = models.ProblemDetails(
        title=title,
        status=status,
        detail=detail,
        problems=[models.Problem(**problem.as_dict()) for problem in problems],
    )
    response = Response(made.model_dump_json(), status, mimetype="application/problem+json")
    response.headers.update({**headers, "Cache-Control": "no-store"})
    return response


# ---- cursors --------------------------------------------------------------------------------------------------------


def cursor_of(at: dt.datetime, id_: str | int) -> str:
    """Where the next part of a list begins: opaque to whoever asks."""
    return base64.urlsafe_b64encode(json.dumps([at.isoformat(), id_]).encode()).decode().rstrip("=")


def read_cursor(text: str) -> tuple[dt.datetime, Any] | None:
    """Raises Refused for one that is none of ours."""
    if not text:
        return None
    try:
        at, id_ = json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
        moment = dt.datetime.fromisoformat(at)
        if moment.tzinfo is None or not isinstance(id_, str | int) or not 1970 <= moment.year <= 9000:
            raise ValueError
        str(id_).encode()  # half a character is no id, and raises ValueError
        if isinstance(id_, int) and not 0 <= id_ < 2**63:
            raise ValueError
    except (ValueError, TypeError):
        problem = Problem("cursor", "The cursor is none that was given out.", "Take it from `next`.")
        raise Refused(422, "Not readable", str(problem), [problem]) from None
    return moment, id_
