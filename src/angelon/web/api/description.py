"""The description of the API (OpenAPI 3.1), made from the operations and their models."""

from __future__ import annotations

import re
from functools import lru_cache
from importlib import metadata
from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from angelon.client import models
from angelon.web.api.operation import Operation, operations

TITLES = {
    400: "No JSON",
    401: "No token, or none that is valid",
    403: "The token lacks the scope",
    404: "There is no such thing",
    409: "Changed meanwhile",
    412: "The ETag is not that of the set-up any more",
    413: "Too large",
    415: "No JSON",
    422: "Not readable, or it can’t be done; `problems` say what and what to do",
    429: "The token asks too often; `Retry-After` says when it may again",
    503: "Not stored; send it again later",
}
GROUPS = {
    "sources": "Events", "events": "Events", "sends": "Sends", "orders": "Orders",
    "questions": "Orders", "parcels": "Parcels", "documents": "Documents", "suppressions": "Suppressions",
    "people": "People", "consents": "People",
    "rehearsals": "Tests", "checks": "Tests", "setup": "Set-up",
}  # fmt: skip


@lru_cache(maxsize=1)
def description() -> dict[str, Any]:
    """The whole description, as plain data."""
    kinds = _models()
    _, schemas = models_json_schema(
        [(kind, "serialization" if kind in _answers() else "validation") for kind in kinds],
        ref_template="#/components/schemas/{model}",
    )
    paths: dict[str, Any] = {}
    for one in operations:
        path = one.path.replace("{number}", "{id}")
        paths.setdefault(path, {})[one.method.lower()] = _described(one, schemas["$defs"])
    return {
        "openapi": "3.1.0",
        "jsonSchemaDialect": "https://spec.openapis.org/oas/3.1/dialect/base",
        "info": {
            "title": "Angelon",
            "version": metadata.version("angelon"),
            "summary": "Store events to email, SMS and chat",
            "description": "Errors are problem details (RFC 9457). Lists are paged by cursor. Times are ISO 8601 with "
            "a zone. Every answer to a token says how often it may ask (`RateLimit`).",
            "license": {"name": "Apache-2.0", "identifier": "Apache-2.0"},
        },
        "servers": [{"url": "/api/v1"}],
        "security": [{"token": []}],
        "tags": [{"name": name} for name in dict.fromkeys(GROUPS.values())],
        "paths": paths,
        "components": {
            "schemas": schemas["$defs"],
            "securitySchemes": {
                "token": {
                    "type": "http",
                    "scheme": "bearer",
                    "description": "Made under Settings, Tokens, with the scopes that it needs.",
                }
            },
        },
    }


def _models() -> list[type[BaseModel]]:
    found: dict[type[BaseModel], None] = {models.ProblemDetails: None}
    for one in operations:
        for kind in (one.answer, one.body):
            if kind is not None:
                found[kind] = None
    return list(found)


def _answers() -> set[type[BaseModel]]:
    return {one.answer for one in operations if one.answer is not None} | {models.ProblemDetails}


def _described(one: Operation, schemas: dict[str, Any]) -> dict[str, Any]:
    made: dict[str, Any] = {
        "operationId": one.name,
        "summary": one.summary,
        "description": f"{one.about}\n\nScope: `{one.scope}`.".strip(),
        "tags": [GROUPS[one.path.split("/")[1]]],
        "x-scope": one.scope,
        "responses": _responses(one),
    }
    parameters = [
        {"name": "id" if name == "number" else name, "in": "path", "required": True, "schema": _part(name)}
        for name in re.findall(r"{(\w+)}", one.path)
    ]
    parameters += [{"name": name, "in": "header", "schema": {"type": "string"}} for name in one.headers]
    if one.query is not None:
        schema = one.query.model_json_schema(ref_template="#/components/schemas/{model}")
        for name, part in schema.get("properties", {}).items():
            about = part.pop("description", "")
            parameters.append(
                {"name": name, "in": "query", "schema": part, **({"description": about} if about else {})}
            )
    if one.raw:
        parameters.append({"name": "name", "in": "query", "schema": {"type": "string", "maxLength": 200}})
        kinds = ("application/json", "application/cloudevents+json", "application/x-www-form-urlencoded")
        made["requestBody"] = {"required": True, "content": {kind: {"schema": {}} for kind in kinds}}
    if one.body is not None:
        ref = {"$ref": f"#/components/schemas/{one.body.__name__}"}
        made["requestBody"] = {"required": True, "content": {"application/json": {"schema": ref}}}
    if parameters:
        made["parameters"] = parameters
    return made


def _part(name: str) -> dict[str, Any]:
    return {"type": "integer", "minimum": 0} if name == "number" else {"type": "string", "minLength": 1}


def _responses(one: Operation) -> dict[str, Any]:
    good: dict[str, Any] = {"description": "Done" if one.method != "GET" else "Found"}
    if one.answer is not None:
        ref = {"$ref": f"#/components/schemas/{one.answer.__name__}"}
        good["content"] = {"application/json": {"schema": ref}}
    found = {str(one.status): good}
    if one.raw:
        found["200"] = {**good, "description": "It was there already"}
    refusals = {401, 403, 422, 429, *one.refusals}
    if one.body is not None:
        refusals |= {400, 409, 413, 415}
    if one.raw:
        refusals |= {400, 415}
    if "{" in one.path:
        refusals |= {404}
    problem = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/ProblemDetails"}}}
    for status in sorted(refusals):
        found[str(status)] = {"description": TITLES[status], "content": problem}
    return found
