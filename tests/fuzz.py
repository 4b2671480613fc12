"""Every address and every form with what nobody would type: never an error of ours, never a page that can't be opened
again.
"""

from __future__ import annotations

import json
import random
import re
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlsplit

from lxml import html

POISON = (
    "",
    " ",
    "-1",
    "0",
    "9" * 30,
    str(2**63),
    str(2**64),
    "9" * 10_000,
    "²",
    "٣",
    "NaN",
    "inf",
    "-inf",
    "1e999999",
    "1e400",
    "0x10",
    "1_000",
    "a\x00b",
    "\x005\x00",
    "x" * 101,
    "x" * 6000,
    "a\u2028b",
    "凧の店",
    "Größe",
    "2024-01-01",
    "2024-01-01T00:00:00",
    "2024-01-01T00:00:00Z",
    "0001-01-01T00:00:00",
    "9999-12-31T23:59:59Z",
    "2024-01-01~x",
    "25:61",
    "[" * 3000,
    '{"a":' * 2000,
    "[1]",
    '"x"',
    "null",
    "{}",
    "../../etc/passwd",
    "<script>alert(1)</script>",
    "{{ x",
    "{% autoescape false %}x{% endautoescape %}",
    "{{ x.upper }}",
    "{% for i in x %}",
    "$..*",
    "$[",
    "$..[?count($..*)>1]",
    "(a+)+$",
    "a@b",
    "https://",
    "javascript:alert(1)",
    "\r\nX-Header: 1",
    "'; DROP TABLE send; --",
    "%",
    "_",
    "~",
    "on",
    "yes",
    "all",
)
KEYS = {
    "sources": ["shop"],
    "in": ["shop"],
    "messages": ["received"],
    "routes": ["received"],
    "gateways": ["mailroom", "sms"],
    "rehearsals": ["received"],
    "checks": ["received-bk-1"],
    "segments": ["regulars"],
}
"""The content of an address's first part."""


@dataclass
class Outcome:
    requests: int = 0
    faults: list[str] = field(default_factory=list)


class Fuzz:
    """Requests made from the map of addresses and from the forms of the pages. `client` is Flask's test client, or one
    like it.
    """

    def __init__(self, app: Any, client: Any, seed: int) -> None:
        self._client = client
        self._dice = random.Random(seed)
        self._rules = [
            rule
            for rule in app.url_map.iter_rules()
            if rule.endpoint != "static" and not any(word in rule.endpoint for word in ("live", "watch", "health."))
        ]
        self.outcome = Outcome()
        self._ids: dict[str, list[str]] = {}

    def know(self, **ids: list[str]) -> None:
        """Values that stand for something, for the names of places in addresses."""
        self._ids |= ids

    def _place(self, name: str, first: str, poison: float = 0.2) -> str:
        known = self._ids.get(name) or (KEYS.get(first) if name == "key" else None) or ["1"]
        return self._dice.choice(POISON) if self._dice.random() < poison else self._dice.choice(known)

    def _address(self, rule: Any, poison: float = 0.2) -> str:
        return re.sub(
            r"<(?:[^:<>]+:)?([^<>]+)>",
            lambda m: quote(self._place(m[1], rule.rule.split("/")[1], poison), safe="") or "x",
            rule.rule,
        )

    def ask(self, method: str, address: str, **more: Any) -> Any:
        self.outcome.requests += 1
        shown = f"{method} {address[:160]} {str(more)[:300]}"
        try:
            answer = self._client.open(address, method=method, **more)
            answer.get_data()
        except Exception as error:
            self.outcome.faults.append(f"{shown}: {type(error).__name__}: {str(error)[:200]}")
            return None
        if answer.status_code >= 500:
            self.outcome.faults.append(f"{shown}: {answer.status_code}")
        return answer

    def addresses(self, rounds: int) -> None:
        """Places and parameters of every address."""
        parameters = (
            "sample",
            "open",
            "page",
            "before",
            "after",
            "words",
            "state",
            "span",
            "route",
            "order",
            "channel",
            "locale",
            "limit",
            "mail",
            "since",
            "to",
            "was",
            "now",
            "source",
            "path",
            "q",
        )
        for _ in range(rounds):
            for rule in self._dice.sample(self._rules, len(self._rules)):
                if rule.rule.endswith("/delete") and self._dice.random() < 0.9:
                    continue
                methods = sorted((rule.methods or set()) - {"OPTIONS", "HEAD"})
                method = self._dice.choice([*methods, "HEAD"] if "GET" in methods else methods)
                query = "&".join(
                    f"{quote(name)}={quote(self._dice.choice(POISON)[:2000])}"
                    for name in self._dice.sample(parameters, 3)
                )
                more: dict[str, Any] = {}
                if method in ("POST", "PUT", "PATCH"):
                    more = (
                        {"json": self._json()}
                        if self._dice.random() < 0.4
                        else {"data": {name: self._dice.choice(POISON) for name in self._dice.sample(parameters, 4)}}
                    )
                self.ask(method, f"{self._address(rule)}?{query}", **more)

    def _json(self, depth: int = 0) -> Any:
        kind = self._dice.randrange(7)
        if kind < 3 or depth > 3:
            return self._dice.choice([*POISON, 1, -1, 2**63, 1.5, True, None, [], {}])
        if kind == 3:
            return [self._json(depth + 1) for _ in range(self._dice.randrange(4))]
        return {
            self._dice.choice(
                [
                    "spec",
                    "key",
                    "name",
                    "channel",
                    "locale",
                    "known",
                    "force",
                    "after",
                    "blocks",
                    "email",
                    "act",
                    "path",
                ]
            ): self._json(depth + 1)
            for _ in range(self._dice.randrange(5))
        }

    def forms(self, pages: list[str], changes: int) -> None:
        """Real forms of these pages, each sent with so many of its fields spoilt in turn."""
        for page in pages:
            answer = self.ask("GET", page)
            if answer is None or answer.status_code != 200 or answer.mimetype != "text/html":
                continue
            for form in html.document_fromstring(answer.get_data(as_text=True)).iter("form"):
                fields = [
                    (element.get("name"), element)
                    for element in form.iter("input", "textarea", "select", "button")
                    if element.get("name")
                ]
                if (form.get("method") or "get").lower() != "post" or (form.get("action") or "").endswith("/delete"):
                    continue
                address = form.get("action") or urlsplit(page).path
                given = [(name, self._value(element)) for name, element in fields]
                for _ in range(changes):
                    spoilt = list(given)
                    for _ in range(self._dice.choice((1, 1, 2))):
                        if len(spoilt) > 1:
                            at = self._dice.randrange(1, len(spoilt))  # the first is the token
                            spoilt[at] = (spoilt[at][0], self._dice.choice(POISON))
                    data: dict[str, list[str]] = {}
                    for name, value in spoilt:
                        data.setdefault(name, []).append(value)
                    self.ask("POST", address, data=data)

    def drafts(self, address: str, spec: dict[str, Any], page: str, changes: int) -> None:
        """A message's draft with one of its values spoilt, kept as the editor keeps it; its page has to open after
        each.
        """
        for _ in range(changes):
            spoilt = json.loads(json.dumps(spec))
            holders = [(holder, key) for holder, key in _leaves(spoilt) if key != "key"]
            holder, key = self._dice.choice(holders)
            holder[key] = self._dice.choice(
                [*POISON, 10**400, -1, 1.5e308, None, [], {}, [[]], "{% if x %}" * 2000, "<div>" * 5000, "(" * 4000]
            )
            self.ask(
                "POST",
                address,
                json={
                    "spec": spoilt,
                    "force": True,
                    "channel": self._dice.choice(["email", "sms", "chat", "x"]),
                    "locale": self._dice.choice(["en", "de", "²"]),
                },
            )
            self.ask("GET", page)

    def _value(self, element: Any) -> str:
        if element.tag == "textarea":
            return element.text or ""
        if element.tag == "select":
            options = [option.get("value") or option.text or "" for option in element.iter("option")]
            return self._dice.choice(options) if options else ""
        return element.get("value") or ""

    def fragments(self, address: str, names: list[str], changes: int) -> None:
        """Parts of a form as scripts send them, spoilt."""
        for _ in range(changes):
            data = {
                name: self._dice.choice(
                    [
                        *POISON,
                        '{"of": [{"kind": "compare", "of": "order.total", "op": "at_least", "value": "²"}]}',
                        "order.created",
                    ]
                )
                for name in self._dice.sample(names, min(3, len(names)))
            }
            self.ask("POST", address, data=data, headers={"X-Fragment": "1"})

    def open_again(self, pages: list[str]) -> None:
        """Every page has to open, whatever was kept."""
        for page in pages:
            answer = self.ask("GET", page)
            if answer is not None and answer.status_code >= 500:
                self.outcome.faults.append(f"{page} can't be opened again: {answer.status_code}")


def _leaves(value: Any) -> list[tuple[Any, Any]]:
    """Every (holder, key) below a value whose own value can be replaced."""
    pairs = (
        list(value.items()) if isinstance(value, dict) else list(enumerate(value)) if isinstance(value, list) else []
    )
    return [found for key, inner in pairs for found in [(value, key), *_leaves(inner)]]
