"""The description of an API (OpenAPI 3.0 or 3.1), of which one operation becomes the request of a gateway. Pure:
nothing is fetched, and a reference out of the document is not followed.
"""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import yaml

from angelon.core import curl_commands
from angelon.core.curl_commands import Question, Request
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.bundle import Loader

MOST = 2_000_000
"""Characters of a description that are read."""
MOST_OPERATIONS = 300
_METHODS = ("post", "put", "get")
_BODIES = ("application/json", "application/x-www-form-urlencoded")
UNKNOWN = "…"
"""Stands in an example for a text that the description does not show."""
_DEEPEST, _MOST_FIELDS = 6, 200
_ID = ("id", "messageid", "message_id", "messageuuid", "uuid", "reference", "sid")
_OUTCOME = ("status", "state", "result")
_REASON = ("reason", "error", "errormessage", "error_message", "detail", "message")


@dataclass(frozen=True, slots=True)
class Operation:
    """One that a gateway could call: `mark` is its method and path."""

    method: str
    path: str
    summary: str

    @property
    def mark(self) -> str:
        return f"{self.method} {self.path}"


def _wrong(what: str, hint: str) -> Invalid:
    return Invalid([Problem("description", what, hint)])


def parse(text: str) -> dict[str, Any]:
    """The document. Raises Invalid where it is no OpenAPI 3 description."""
    if len(text) > MOST:
        raise _wrong(
            f"The description has more than {MOST:,} characters.", "Cut out the operations that you don’t need."
        )
    try:
        found = json.loads(text) if text.lstrip().startswith("{") else yaml.load(text, Loader)  # noqa: S506 - a safe one
    except (ValueError, yaml.YAMLError, RecursionError) as error:
        where = str(error).splitlines()[0][:200]
        raise _wrong(f"It can’t be read as JSON or YAML: {where}.", "Paste the whole file.") from None
    if not isinstance(found, dict) or not str(found.get("openapi", "")).startswith("3."):
        raise _wrong("It is no OpenAPI 3 description.", "Such a file begins with “openapi: 3.…” and has “paths”.")
    return found


def operations(document: Mapping[str, Any]) -> list[Operation]:
    """Those that a gateway could call, those that take something first. Raises Invalid where there is none."""
    found = []
    for path, item in _items(document.get("paths")):
        for method in _METHODS:
            one = item.get(method) if isinstance(item, dict) else None
            if isinstance(one, dict):
                summary = str(one.get("summary") or one.get("operationId") or one.get("description") or "")
                found.append(Operation(method.upper(), path, " ".join(summary.split())[:100]))
    if not found:
        raise _wrong("It has no operation by POST, PUT or GET.", "Choose a description of the provider’s messages.")
    return sorted(found, key=lambda one: one.method == "GET")[:MOST_OPERATIONS]


def request(document: dict[str, Any], mark: str) -> Request:
    """An operation as a gateway's request, with examples in the place of what is not known. Raises Invalid."""
    shown = _shown(document, mark, _meant)
    made = curl_commands.read(shown.command)
    made.secret = ""
    if shown.token_url:
        made.auth |= {"scheme": "oauth", "token_url": shown.token_url}
        made.found.append((shown.token_url, "where a token is asked for: write the client’s id and secret"))
    made.call |= _Reader(document).answer(shown.operation, made.found)
    made.found += shown.notes
    return made


def question(document: dict[str, Any], mark: str) -> Question:
    """An operation as what a look-up or a fetched source asks, with examples in the place of what is not known; those
    of its query's parameters that have to be there, and those that say which page or since when. Raises Invalid.
    """
    shown = _shown(document, mark, lambda one: _ASKS.search(str(one.get("name"))) is not None)
    asked = curl_commands.question(shown.command)
    asked.secret = ""
    asked.said += shown.notes
    return asked


_ASKS = re.compile(r"(?i)page|cursor|limit|since|after|updated|modified|changed")


@dataclass(frozen=True, slots=True)
class _Shown:
    """An operation as a command that asks for it."""

    command: str
    operation: Mapping[str, Any]
    notes: list[tuple[str, str]]
    token_url: str


def _shown(document: dict[str, Any], mark: str, wanted: Callable[[Mapping[str, Any]], bool]) -> _Shown:
    """`wanted` says which parameters are taken besides those that are required."""
    method, _, path = mark.partition(" ")
    item = _dict(_dict(document.get("paths")).get(path))
    operation = _dict(item.get(method.lower()))
    if method.lower() not in _METHODS or not operation:
        raise _wrong(f"It has no operation {mark[:100]}.", "Choose one of the list.")
    reader = _Reader(document)
    given = [reader.resolved(one) for part in (item, operation) for one in _list(part.get("parameters"))]
    notes: list[tuple[str, str]] = []
    address = _server(document, item, operation, notes)
    for one in given:
        if one.get("in") == "path":
            value = str(reader.example(one.get("schema"), str(one.get("name"))) or "")
            name = str(one.get("name"))
            shown = quote(value, safe="") if value not in ("", UNKNOWN) else name.upper()
            path = path.replace(f"{{{name}}}", shown)
            notes.append((f"{name}: {shown}", "in the address: write yours in its place"))
    query = [one for one in given if one.get("in") == "query" and (one.get("required") or wanted(one))]
    pairs = [f"{quote(str(one.get('name')))}={quote(str(reader.of_parameter(one)))}" for one in query]
    words = ["curl", "-X", method]
    for one in given:
        if one.get("in") == "header" and (one.get("required") or wanted(one)):
            words += ["-H", f"{one.get('name')}: {reader.of_parameter(one)}"]
    kind, body = reader.body(operation)
    if kind:
        words += ["-H", f"Content-Type: {kind}", "-d", body]
    signed, token_url = _signed(document, operation, pairs)
    words += [*signed, address.rstrip("/") + path + (f"?{'&'.join(pairs)}" if pairs else "")]
    return _Shown(" ".join(map(shlex.quote, words)), operation, notes, token_url)


def _items(value: Any) -> Iterator[tuple[str, Any]]:
    return ((str(key), one) for key, one in _dict(value).items())


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _meant(parameter: Mapping[str, Any]) -> bool:
    return bool(curl_commands.meaning(str(parameter.get("name"))))


def _server(
    document: Mapping[str, Any], item: Mapping[str, Any], operation: Mapping[str, Any], notes: list[tuple[str, str]]
) -> str:
    """The address of the first server; one that is not said, or is relative, is left to be written."""
    for part in (operation, item, document):
        for server in _list(part.get("servers")):
            url = str(_dict(server).get("url", ""))
            for name, variable in _items(_dict(server).get("variables")):
                url = url.replace(f"{{{name}}}", str(_dict(variable).get("default", name)))
            if url.startswith(("https://", "http://")):
                return url
    notes.append(("the server", "not in the description: write its address"))
    return "https://provider.example"


def _signed(document: Mapping[str, Any], operation: Mapping[str, Any], query: list[str]) -> tuple[list[str], str]:
    """What shows who a request is from, as words of the command; and where a token is asked for, where one is."""
    needs = operation["security"] if "security" in operation else document.get("security")
    schemes = _dict(_dict(document.get("components")).get("securitySchemes"))
    for need in _list(needs):
        for name in _dict(need):
            scheme = _dict(schemes.get(name))
            kind, place, field = scheme.get("type"), scheme.get("in"), str(scheme.get("name", ""))
            if kind == "http" and str(scheme.get("scheme", "")).lower() == "basic":
                return ["-u", "USER:PASSWORD"], ""
            if kind == "http":
                return ["-H", "Authorization: Bearer TOKEN"], ""
            if kind == "apiKey" and place == "header":
                return ["-H", f"{field}: KEY"], ""
            if kind == "apiKey" and place == "query":
                query.append(f"{quote(field)}=KEY")
                return [], ""
            flow = _dict(_dict(scheme.get("flows")).get("clientCredentials"))
            if kind == "oauth2" and str(flow.get("tokenUrl", "")).startswith(("https://", "http://")):
                return [], str(flow["tokenUrl"])[:2000]
    return [], ""


class _Reader:
    """Examples of a document's schemas: stated ones, else made of their types; so many fields at most."""

    def __init__(self, document: dict[str, Any]) -> None:
        self._document = document
        self._left = _MOST_FIELDS

    def resolved(self, value: Any) -> dict[str, Any]:
        """A value with what it refers to in its place, some steps far."""
        for _ in range(10):
            reference = _dict(value).get("$ref")
            if not isinstance(reference, str):
                return _dict(value)
            value = self._document if reference.startswith("#/") else None
            for part in reference.removeprefix("#/").split("/"):
                value = _dict(value).get(part.replace("~1", "/").replace("~0", "~"))
        return {}

    def of_parameter(self, parameter: Mapping[str, Any]) -> str:
        if "example" in parameter:
            return _plain(parameter["example"])
        return _plain(self.example(parameter.get("schema"), str(parameter.get("name"))))

    def body(self, operation: Mapping[str, Any]) -> tuple[str, str]:
        """(its type, an example of it); empty where it takes none. Raises Invalid where that is no JSON and no form."""
        content = _dict(self.resolved(operation.get("requestBody")).get("content"))
        if not content:
            return "", ""
        kind = next((one for wanted in _BODIES for one in content if str(one).split(";")[0].strip() == wanted), "")
        kind = kind or next((str(one) for one in content if str(one).split(";")[0].endswith("+json")), "")
        if not kind:
            raise _wrong(
                f"Its body is {next(iter(content))}.", "A gateway sends JSON or a form: choose another operation."
            )
        media = _dict(content[kind])
        example = media.get("example")
        if example is None:
            first = next((self.resolved(one) for _, one in _items(media.get("examples"))), {})
            example = first.get("value", self.example(media.get("schema"), ""))
        if "form" in kind:
            fields = example.items() if isinstance(example, dict) else ()
            return _BODIES[1], "&".join(f"{quote(str(name))}={quote(_plain(one))}" for name, one in fields)
        return _BODIES[0], json.dumps(example, default=str)

    def example(self, schema: Any, name: str, depth: int = 0) -> Any:
        """An example of a schema: what the document states, else one made of its type."""
        found = self.resolved(schema)
        self._left -= 1
        for stated in ("example", "default", "const"):
            if stated in found:
                return found[stated]
        for listed in ("examples", "enum"):
            if _list(found.get(listed)):
                return found[listed][0]
        for choice in ("oneOf", "anyOf"):
            if _list(found.get(choice)) and depth < _DEEPEST:
                return self.example(found[choice][0], name, depth + 1)
        fields = self.fields(found, depth)
        kinds = found.get("type")
        kind = next((one for one in kinds if one != "null"), "") if isinstance(kinds, list) else kinds
        if fields or kind == "object":
            return {one: self.example(inner, one, depth + 1) for one, inner in fields.items()}
        if kind == "array":
            return [self.example(found.get("items"), name, depth + 1)] if depth < _DEEPEST and self._left > 0 else []
        if kind in ("integer", "number"):
            return found.get("minimum", 0)
        return False if kind == "boolean" else UNKNOWN

    def fields(self, schema: Mapping[str, Any], depth: int) -> dict[str, Any]:
        """The fields that an example has: those that are required, and those that mean something here; all where none
        is required.
        """
        if depth >= _DEEPEST or self._left <= 0:
            return {}
        properties, required = dict(_dict(schema.get("properties"))), set(map(str, _list(schema.get("required"))))
        for part in _list(schema.get("allOf")):
            found = self.resolved(part)
            properties |= _dict(found.get("properties"))
            required |= set(map(str, _list(found.get("required"))))
        named = {name: one for name, one in properties.items() if name in required or curl_commands.meaning(str(name))}
        chosen = named if required else properties
        return dict(list(chosen.items())[: max(0, self._left)])

    def answer(self, operation: Mapping[str, Any], found: list[tuple[str, str]]) -> dict[str, str]:
        """Where an answer that is 2xx says its id, how it went and why, as its schema names them."""
        answers = [one for code, one in _items(operation.get("responses")) if re.fullmatch(r"2..|default", code)]
        content = _dict(self.resolved(answers[0]).get("content")) if answers else {}
        media = next((_dict(one) for kind, one in _items(content) if "json" in kind), {})
        paths = dict(self._paths(media.get("schema"), "$", 0))
        made: dict[str, str] = {}
        for part, names, label in (
            ("id_at", _ID, "where the answer says the message’s id"),
            ("outcome_at", _OUTCOME, "where the answer says how it went"),
            ("reason_at", _REASON, "where the answer says why not"),
        ):
            by_name = {re.sub(r"[^a-z_]", "", path.rpartition(".")[2].lower()): path for path in reversed(paths)}
            path = next((by_name[name] for name in names if name in by_name and by_name[name] not in made.values()), "")
            if path:
                made[part] = path[:300]
                found.append((path, label))
        return made

    def _paths(self, schema: Any, path: str, depth: int) -> Iterator[tuple[str, None]]:
        """The paths of plain values in an answer, those that lie higher first."""
        if depth > 3 or self._left <= -_MOST_FIELDS:
            return
        self._left -= 1
        found = self.resolved(schema)
        properties = dict(_dict(found.get("properties")))
        for part in _list(found.get("allOf")):
            properties |= _dict(self.resolved(part).get("properties"))
        deeper: list[tuple[Any, str]] = []
        for name, inner in properties.items():
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", str(name)):
                continue
            one = self.resolved(inner)
            if one.get("type") == "array":
                deeper.append((one.get("items"), f"{path}.{name}[0]"))
            elif one.get("properties") or one.get("allOf"):
                deeper.append((one, f"{path}.{name}"))
            else:
                yield f"{path}.{name}", None
        if found.get("type") == "array":
            deeper.append((found.get("items"), f"{path}[0]"))
        for lower, below in deeper:
            yield from self._paths(lower, below, depth + 1)


def _plain(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, default=str)
