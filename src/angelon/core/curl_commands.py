"""A `curl` command, as the documentation of a provider shows it, read as the request of a gateway. Pure; never run."""

from __future__ import annotations

import base64
import binascii
import getopt
import json
import re
import shlex
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, quote, urlsplit

from angelon.core.payload.redact import BLOT, secret
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.gateway import Gateway

MOST = 50_000
"""Characters of a command that are read."""
STANDS_FOR: dict[str, tuple[str, ...]] = {
    "to": ("to", "recipient", "recipients", "phone", "phonenumber", "mobile", "msisdn", "destination", "receiver"),
    "sender": ("from", "sender", "senderid", "originator", "source"),
    "text": ("text", "body", "message", "content", "msg"),
    "key": ("reference", "clientref", "clientreference", "idempotencykey", "externalid"),
    "locale": ("language", "locale", "lang"),
}
"""What a field of a request is taken to stand for, by its name without case, `-` and `_`."""
LABELS = {
    "to": "the recipient",
    "sender": "the sender ID or account of this gateway",
    "text": "the text",
    "key": "the key of the send, the same at every try",
    "locale": "the language",
}
READABLE = "still in the request, readable by anyone who can open this page"
_SIGNS_IN = re.compile(r"(?i)auth|\bkey\b")
"""Names of headers that show who a request is from, besides those that are secret anywhere."""
_ADDRESS = re.compile(r"(?i)https?://[^\s/?#<>\"|\\^`]+")
_DROPPED = ("accept", "accept-encoding", "connection", "content-length", "content-type", "host", "user-agent")
_FORM, _JSON = "application/x-www-form-urlencoded", "application/json"
_WITH_VALUE = [
    "request=",
    "header=",
    "data=",
    "data-raw=",
    "data-binary=",
    "data-ascii=",
    "data-urlencode=",
    "json=",
    "user=",
    "url=",
    "oauth2-bearer=",
    "user-agent=",
    "cookie=",
    "output=",
    "max-time=",
    "connect-timeout=",
    "retry=",
    "form=",
    "upload-file=",
    "referer=",
    "proxy=",
    "cacert=",
]
_PLAIN = [
    "get",
    "head",
    "silent",
    "show-error",
    "location",
    "insecure",
    "verbose",
    "include",
    "compressed",
    "fail",
    "fail-with-body",
    "globoff",
    "http1.1",
    "http2",
    "basic",
    "no-progress-meter",
]
_IGNORED = ("A", "user-agent", "o", "output", "m", "max-time", "connect-timeout", "retry", "e", "referer", "cacert")


@dataclass
class Request:
    """What a command says: fields of an `HttpCall` and of an `Auth`, and the secret, which is kept apart."""

    call: dict[str, Any] = field(default_factory=dict)
    auth: dict[str, Any] = field(default_factory=lambda: {"scheme": "none", "username": "", "header": ""})
    secret: str = ""
    found: list[tuple[str, str]] = field(default_factory=list)
    """(what was in the command, what it is now), for people."""

    def over(self, gateway: Gateway) -> dict[str, Any]:
        """A gateway's spec with this request in place of its own; a header by which the other side knows a second try
        stays where the command has nothing of the kind.
        """
        spec = gateway.model_dump(mode="json")
        own = {name: value for name, value in spec["call"]["headers"].items() if "{{ key" in value}
        keyed = any(now == LABELS["key"] for _, now in self.found)
        headers = self.call["headers"] if keyed else own | self.call["headers"]
        spec["call"] |= self.call | {"headers": headers}
        spec["auth"] |= self.auth
        return spec


@dataclass
class _Parts:
    """A command, taken apart. `headers` are lines; `kind` is the type of its body."""

    method: str
    address: str
    headers: list[str]
    body: str
    kind: str


def read(command: str) -> Request:
    """Raises Invalid with what can't be read, and what to do."""
    made = Request()
    parts = _parts(command, made)
    kept = _headers(made, parts.headers)
    if parts.method not in ("POST", "PUT", "GET"):
        raise _wrong(f"Its method is {parts.method}.", "A gateway sends by POST, PUT or GET.")
    made.call = {
        "method": parts.method,
        "url": _address(made, parts.address),
        "headers": kept,
        "content_type": parts.kind,
        "body": _body(made, parts.body, parts.kind),
    }
    return made


@dataclass
class Question:
    """What a command asks for, as a look-up or a fetched source has it: nothing in it stands for a message's text.
    `secret` is kept apart; `said` is (what was in the command, what it is now), for people.
    """

    method: str
    url: str
    """Without its query."""
    query: list[tuple[str, str]]
    body: dict[str, Any]
    auth: dict[str, Any]
    secret: str
    said: list[tuple[str, str]]


def question(command: str) -> Question:
    """Raises Invalid with what can't be read, and what to do."""
    made = Request()
    parts = _parts(command, made)
    kept = _headers(made, parts.headers, plain=True)
    made.found += [(name, "left out: no header but that of the authentication is sent") for name in kept]
    if parts.method not in ("GET", "POST"):
        raise _wrong(f"Its method is {parts.method}.", "What is asked for is asked for by GET or POST.")
    body: Any = {}
    if parts.body and parts.kind == _JSON:
        body = _parsed(parts.body)
    elif parts.body:
        body = dict(parse_qsl(parts.body, keep_blank_values=True))
    if not isinstance(body, dict):
        raise _wrong("Its body is no JSON object.", "A look-up sends its parameters as one object.")
    address = urlsplit(parts.address)
    url = address._replace(query="", fragment="").geturl()
    query = parse_qsl(address.query, keep_blank_values=True)
    return Question(parts.method, url, query, body, made.auth, made.secret, made.found)


_PAGES = {"number": ("page", "p", "pagenumber", "pageno"), "cursor": ("cursor", "pagetoken", "nexttoken", "after")}
_SINCE = re.compile(r"(?i)^(updated|modified|changed|last_?modified|updated_?at)?[_-]?(at[_-])?(min|since|after|from)$")


def fetched(asked: Question) -> dict[str, Any]:
    """The fields of a `Fetch` that a command says. Raises Invalid where it does not ask by GET.

    What its query calls a page or a cursor, and since when orders have changed, is given anew with each request.
    """
    if asked.method != "GET":
        raise _wrong("It is a POST.", "Orders are fetched by GET: look for the request that lists them.")
    made: dict[str, Any] = {"auth": asked.auth}
    left = []
    for name, value in asked.query:
        plain = re.sub(r"[^a-z]", "", name.lower())
        how = next((how for how, names in _PAGES.items() if plain in names), "")
        if how and "pages" not in made:
            made |= {"pages": how, "page_parameter": name}
            asked.said.append((f"{name}={value}", f"the {'number' if how == 'number' else 'cursor'} of the page"))
        elif _SINCE.match(name) and "since_parameter" not in made:
            made |= {"since_parameter": name, "since_form": _form_of(value)}
            asked.said.append((f"{name}={value}", "since when orders have changed"))
        else:
            left.append((name, value))
    made["url"] = asked.url + ("?" + "&".join(f"{quote(n)}={quote(v, safe='')}" for n, v in left) if left else "")
    return made


def _form_of(value: str) -> str:
    """How a moment is written: as seconds, as a day, else as ISO 8601 has it."""
    return "unix" if value.isdigit() else "date" if re.fullmatch(r"\d{4}-\d{2}-\d{2}", value) else "iso"


def looked_up(asked: Question) -> dict[str, Any]:
    """The fields of an `Enrichment` that a command says: what it sends are parameters with fixed values, in whose place
    paths are written. Raises Invalid for a body with more than values in it.
    """
    given = [*asked.query, *asked.body.items()]
    if any(isinstance(value, dict | list) for _, value in given):
        raise _wrong(
            "Its body has objects or lists in it.", "Write it as the body of the look-up, with its parameters."
        )
    words = re.findall(r"[a-z]+", urlsplit(asked.url).path.lower())
    return {
        "name": next((word for word in reversed(words) if word not in ("api", "v", "json")), "answer")[:40],
        "method": asked.method,
        "url": asked.url,
        "parameters": {name: {"path": "", "default": str(value)} for name, value in given},
        "auth": asked.auth,
    }


def _parts(command: str, made: Request) -> _Parts:
    """Takes a command apart; what shows by an option who it is from goes to `made`."""
    options, addresses = _options(command)
    method, headers, data, in_address = "", [], [], False
    kind = ""
    for name, value in options:
        if name in ("X", "request"):
            method = value.upper()
        elif name in ("H", "header"):
            headers.append(value)
        elif name in ("d", "data", "data-raw", "data-binary", "data-ascii", "data-urlencode"):
            if value.startswith("@") and name != "data-raw":
                raise _wrong(f"The body is in a file, {value[1:]}.", "Paste what is in the file in its place.")
            data.append(value)
        elif name == "json":
            data, kind = [*data, value], _JSON
        elif name in ("u", "user"):
            made.auth["username"], _, made.secret = value.partition(":")
            made.auth["scheme"] = "basic"
            made.found.append((f"-u {made.auth['username']}:…", "user name and password"))
        elif name == "oauth2-bearer":
            headers.append(f"Authorization: Bearer {value}")
        elif name == "url":
            addresses.append(value)
        elif name in ("b", "cookie"):
            headers.append(f"Cookie: {value}")
        elif name in ("G", "get"):
            in_address = True
        elif name in ("F", "form", "T", "upload-file"):
            raise _wrong(
                "It sends a file or a form in parts (multipart/form-data).",
                "A gateway sends JSON or a form: look for such an example in the documentation.",
            )
        elif name in ("x", "proxy", "I", "head"):
            raise _wrong(f"curl’s option --{name} has no place in a gateway.", "Leave it out.")
    if len(addresses) != 1:
        what = "There is no address in it." if not addresses else f"There are {len(addresses)} addresses in it."
        raise _wrong(what, "A command has one address, which starts with https:// or http://.")
    address = addresses[0].strip()
    if not address.lower().startswith(("https://", "http://")):
        address = "https://" + address
    if not _ADDRESS.match(address):
        raise _wrong(f"“{address[:60]}” is no web address.", "An address starts with https:// or http:// and a host.")
    stated = next((value for name, value in map(_header, headers) if name.lower() == "content-type"), "")
    body = "&".join(data)
    if in_address and body:
        address, body = f"{address}{'&' if '?' in address else '?'}{body}", ""
    kind = kind or _kind(stated.partition(";")[0].strip().lower(), body)
    return _Parts(method or ("POST" if body else "GET"), address, headers, body, kind)


def _wrong(what: str, hint: str) -> Invalid:
    return Invalid([Problem("curl", what, hint)])


def _options(command: str) -> tuple[list[tuple[str, str]], list[str]]:
    if len(command) > MOST:
        raise _wrong(f"The command has more than {MOST:,} characters.", "Shorten its text.")
    joined = re.sub(r"[\\^`]\r?\n", " ", command.strip())
    try:
        words = shlex.split(joined.removeprefix("$ "))
    except ValueError as error:
        raise _wrong(
            f"A quotation mark or a backslash has no end ({error}).", "Copy the command once more, to its end."
        ) from None
    if not words or words[0] not in ("curl", "curl.exe"):
        raise _wrong("It does not start with “curl”.", "Paste the whole command.")
    try:
        options, addresses = getopt.gnu_getopt(words[1:], "X:H:d:u:A:b:o:m:e:F:T:x:GIsSLkvif#0g", _WITH_VALUE + _PLAIN)
    except getopt.GetoptError as error:
        raise _wrong(f"One of its options can’t be read: {error.msg}.", "Leave it out, or write it in full.") from None
    named = [(name.lstrip("-"), value) for name, value in options]
    return [(name, value) for name, value in named if name not in _IGNORED], addresses


def _header(line: str) -> tuple[str, str]:
    name, _, value = line.partition(":")
    return name.strip(), value.strip()


def _headers(made: Request, lines: list[str], plain: bool = False) -> dict[str, str]:
    """The headers that stay with the request; what shows who it is from goes to `auth`. In a `plain` one nothing stands
    for what differs from send to send.
    """
    kept = {}
    for name, value in map(_header, lines):
        scheme, _, rest = value.partition(" ")
        if name.lower() in _DROPPED or not name:
            continue
        if name.lower() == "authorization" and scheme.lower() == "bearer" and rest:
            made.auth, made.secret = made.auth | {"scheme": "bearer"}, rest.strip()
            made.found.append(("Authorization: Bearer …", "a bearer token"))
        elif name.lower() == "authorization" and scheme.lower() == "basic" and rest:
            try:
                user, _, made.secret = base64.b64decode(rest.strip(), validate=True).decode().partition(":")
            except (binascii.Error, UnicodeDecodeError):
                user, made.secret = "", ""
            made.auth = made.auth | {"scheme": "basic", "username": user}
            made.found.append(("Authorization: Basic …", "user name and password"))
        elif meaning(name) == "key" and not plain:
            kept[name] = "{{ key }}"
            made.found.append((name, LABELS["key"]))
        elif (secret(name) or _SIGNS_IN.search(name)) and made.auth["scheme"] == "none":
            made.auth, made.secret = made.auth | {"scheme": "header", "header": name}, value
            made.found.append((f"{name}: …", "a header with the key"))
        else:
            _note_secret(made, name)
            kept[name] = _literal(value)
    return kept


def _note_secret(made: Request, name: str) -> None:
    """Says of a field that is secret by its name, and not the gateway's authentication, that it is not sealed."""
    if secret(name):
        made.found.append((f"{name}: {BLOT}", READABLE))


def _kind(stated: str, body: str) -> str:
    """JSON or a form, as the command says, or as its body looks."""
    if stated.endswith("json"):
        return _JSON
    if stated and stated != _FORM:
        raise _wrong(f"Its body is {stated}.", "A gateway sends JSON or a form.")
    looks_json = body.lstrip().startswith(("{", "["))
    return _FORM if body and not looks_json else _JSON


def meaning(name: str) -> str:
    plain = re.sub(r"[^a-z]", "", name.lower())
    return next((what for what, names in STANDS_FOR.items() if plain in names), "")


def _literal(text: str) -> str:
    """A text as a template has it that is no placeholder."""
    return f"{{% raw %}}{text}{{% endraw %}}" if "{{" in text or "{%" in text or "{#" in text else text


def _placed(made: Request, name: str, value: str, used: set[str]) -> str:
    """What a field stands for, once in each request; empty for what stays as it is."""
    what = meaning(name)
    if not what or what in used:
        _note_secret(made, name)
        return ""
    used.add(what)
    made.found.append((f"{name}: {value[:60]}", LABELS[what]))
    return what


def _address(made: Request, address: str) -> str:
    parts = urlsplit(address)
    if not parts.query:
        return _literal(address)
    head = _literal(address.partition("?")[0])
    return f"{head}?{_form(made, parts.query)}"


def _form(made: Request, text: str) -> str:
    used: set[str] = set()
    fields = []
    for name, value in parse_qsl(text, keep_blank_values=True):
        what = _placed(made, name, value, used)
        fields.append(f"{quote(name)}=" + (f"{{{{ {what} | urlencode }}}}" if what else quote(value, safe="")))
    return "&".join(fields)


def _body(made: Request, body: str, kind: str) -> str:
    if not body:
        return ""
    if kind == _FORM:
        return _form(made, body)
    parsed = _parsed(body)
    used: set[str] = set()
    marks: dict[str, str] = {}

    def mark(what: str) -> str:
        marks[f"\ue000{what}\ue000"] = f"{{{{ {what} | json }}}}"
        return f"\ue000{what}\ue000"

    marked = _marked(made, parsed, "", used, mark)
    text = json.dumps(marked, indent=2, ensure_ascii=False)
    for sign, placeholder in marks.items():
        text = text.replace(f'"{sign}"', placeholder)
    return text


def _parsed(body: str) -> Any:
    try:
        return json.loads(body)
    except json.JSONDecodeError as error:
        raise _wrong(
            f"Its body is not JSON: {error.msg}, line {error.lineno}, column {error.colno}.",
            "Put values in the place of what the documentation writes in brackets.",
        ) from None
    except RecursionError:
        raise _wrong("Its body is nested too deeply.", "Shorten it.") from None


def _marked(made: Request, value: Any, name: str, used: set[str], mark: Callable[[str], str]) -> Any:
    if isinstance(value, dict):
        return {_literal(key): _marked(made, one, key, used, mark) for key, one in value.items()}
    if isinstance(value, list):
        return [_marked(made, one, name, used, mark) for one in value[:1]] + value[1:]
    if isinstance(value, str) and (what := _placed(made, name, value, used)):
        return mark(what)
    return _literal(value) if isinstance(value, str) else value
