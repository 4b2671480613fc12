"""Every address that pages lead to, followed from the first; and what of it tells of customers."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterable, Iterator
from html import unescape
from typing import Any
from urllib.parse import quote, unquote, urldefrag, urljoin, urlsplit

_LINK = re.compile(r'(?:href|src|action|data-[a-z-]+)="([^"#][^"]*)"')


def addresses(client: Any) -> Iterator[str]:
    """Addresses without a part of their own, from the map of all."""
    for rule in client.application.url_map.iter_rules():
        if "GET" in rule.methods and not rule.arguments and not rule.rule.startswith("/live"):
            yield rule.rule


def crawl(client: Any, start: Iterable[str] = ("/",), each: int = 12) -> Iterator[tuple[str, Any]]:
    """Each address once with its answer. `client` is Flask's test client. Of addresses that differ by a number, an id
    or a query alone, `each` are followed.
    """
    waiting, seen, times = deque(start), set(start), dict[str, int]()
    while waiting:
        address = waiting.popleft()
        answer = client.get(address, buffered=True)
        yield address, answer
        if answer.status_code in (301, 302, 303, 307, 308):
            found = [answer.headers["Location"]]
        elif answer.mimetype == "text/html":
            found = [unescape(one) for one in _LINK.findall(answer.get_data(as_text=True))]
        else:
            found = []
        for one in found:
            to = urldefrag(urljoin(address, one)).url if not one.startswith(("data:", "mailto:", "tel:")) else ""
            parts = urlsplit(to)
            if not to.startswith("/") or "/static/" in to or to in seen or "/live" in parts.path:
                continue
            kind = re.sub(r"[\w-]*\d[\w-]*", "#", parts.path)
            times[kind] = times.get(kind, 0) + 1
            if times[kind] <= each:
                seen.add(to)
                waiting.append(to)


def forms_of(mark: str) -> set[bytes]:
    """How something may be written in an answer: as it is, escaped for HTML, JSON and addresses."""
    quoted = {mark, quote(mark), quote(mark, safe=""), mark.replace("&", "&amp;").replace("'", "&#39;")}
    quoted.add(mark.replace('"', "&#34;"))
    return {one.encode() for one in quoted} | {mark.encode("unicode_escape")}


def told(data: bytes, marks: Iterable[str]) -> list[str]:
    """Which marks an answer tells."""
    plain = unquote(data.decode("utf-8", "replace")).encode()
    return [mark for mark in marks if any(form in data or form in plain for form in forms_of(mark))]
