"""A call to another system, compiled once and rendered many times."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, ClassVar

import orjson

from angelon.core.messages.channel import Channel, Part, Rendered
from angelon.core.messages.known_fields import shop_values, unknown_fields
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import CallText, Message
from angelon.core.specs.store import Store
from angelon.core.templates import BadTemplate, CantRender, Compiled, Holes, compile_template, one_line, segments
from angelon.core.values import Value, regional, show

MAX_PATH, MAX_HEADER, MAX_BODY = 4000, 500, 100_000


@dataclass(frozen=True, slots=True)
class RenderedCall(Rendered):
    """A request as it goes out: the gateway's address stands before `path`."""

    method: str
    path: str
    headers: tuple[tuple[str, str], ...]
    content_type: str
    body: str
    locale: str = "en"

    @property
    def text(self) -> str:  # type: ignore[override]
        return self.as_text()

    def summary(self) -> str:
        return one_line(f"{self.method} {self.path or '/'} {self.body}")[:200]

    def as_text(self) -> str:
        """The request's line, its own headers, and the body as it is sent."""
        head = "\n".join([f"{self.method} {self.path or '/'}", *(f"{name}: {value}" for name, value in self.headers)])
        return f"{head}\n\n{self.body}" if self.body else head

    def size(self) -> int:
        return len(self.body)

    def about(self) -> dict[str, Any]:
        return {"method": self.method, "path": self.path}

    def provider_values(self) -> dict[str, Any]:
        return {
            "method": self.method,
            "path": self.path,
            "headers": dict(self.headers),
            "content_type": self.content_type,
            "body": self.body,
        }


@dataclass(frozen=True, slots=True)
class CompiledCall(Part):
    spec: CallText
    path: Compiled
    headers: tuple[tuple[str, Compiled], ...]
    body: Compiled
    locale: str

    @property
    def _all(self) -> tuple[Compiled, ...]:
        return (self.path, self.body, *(made for _, made in self.headers))

    @property
    def names(self) -> frozenset[str]:
        return frozenset().union(*(made.names for made in self._all))

    @property
    def shop_gaps(self) -> frozenset[str]:
        return frozenset().union(*(made.shop_gaps for made in self._all))

    @property
    def order_fields(self) -> frozenset[str]:
        return frozenset().union(*(made.order_fields for made in self._all))

    @property
    def needed_order_fields(self) -> frozenset[str]:
        return frozenset().union(*(made.needed_order_fields for made in self._all))

    def render(self, values: Mapping[str, Value], holes: Holes = "refuse") -> RenderedCall:
        """The request for these values. Raises CantRender: also for a body that is no JSON once it is filled."""
        path = self.path.render(values, self.locale, MAX_PATH, holes).strip()
        if path and not path.startswith(("/", "?")):
            path = f"/{path}"
        if holes == "refuse":
            _stay(path, self.spec.path, self.path.names, values)
        headers = tuple(
            (name, one_line(made.render(values, self.locale, MAX_HEADER, holes))) for name, made in self.headers
        )
        body = "" if self.spec.method == "GET" else self.body.render(values, self.locale, MAX_BODY, holes).strip()
        if body and holes == "refuse" and self.spec.content_type == "application/json":
            try:
                orjson.loads(body)
            except orjson.JSONDecodeError as error:
                raise CantRender(
                    Problem(
                        "body",
                        f"The body is no JSON once it is filled: {error}.",
                        "Write every value as {{ name | json }}, without quotes around it.",
                    )
                ) from None
        return RenderedCall(self.spec.method, path, headers, self.spec.content_type, body, self.locale)


def has_steps(path: str) -> bool:
    """Whether a path has `.` or `..` in it, as they are or percent-encoded: steps that lead elsewhere (RFC 3986,
    section 5.2.4).
    """
    parts = path.partition("?")[0].replace("\\", "/").split("/")
    return any(part.lower().replace("%2e", ".") in (".", "..") for part in parts)


def _stay(path: str, template: str, names: Collection[str], values: Mapping[str, Value]) -> None:
    """Raises CantRender where a value would take a path somewhere else: `.` and `..` are steps, not names (RFC 3986,
    section 5.2.4), and a part that is empty names what is above it.
    """
    parts = path.partition("?")[0].split("/")[1:]
    was = template.partition("?")[0]
    empty = "" in parts[:-1] and "//" not in was
    if not empty and not has_steps(path):
        return
    guilty = [name for name in sorted(names) if show(values.get(name)).strip() in ("", ".", "..")]
    what = f"“{guilty[0]}” is “{show(values.get(guilty[0]))}”" if guilty else "One of its values"
    raise CantRender(
        Problem("path", f"{what}, which would call another address than the path says.", "Correct the value.")
    )


class CallChannel(Channel):
    key, label, text_field = "call", "HTTP call", "body"
    address_part, address_label = "system", "system"
    blank: ClassVar[Mapping[str, Any]] = {"path": "", "body": "{}"}

    def compile(self, message: Message, locale: str, store: Store) -> CompiledCall:
        made = _compiled(message.call[locale].model_dump_json(), store.country, locale)
        if not any(part.shop_fields for part in made._all):
            return made
        shop = shop_values(store)
        return CompiledCall(
            made.spec,
            made.path.of_shop(shop),
            tuple((name, part.of_shop(shop)) for name, part in made.headers),
            made.body.of_shop(shop),
            made.locale,
        )

    def check_address(self, text: str, country: str | None = None) -> str:
        """The other side is the gateway's; what names it is shown and never used."""
        if not text.strip():
            raise ValueError("The gateway has no address yet.")
        return one_line(text)[:254]


def system_of(gateway: Gateway) -> str:
    """What the other side of a gateway's calls is known by: its host; empty where the gateway has no address."""
    return gateway.call.url.partition("://")[2].partition("/")[0].rpartition("@")[2]


@lru_cache(maxsize=256)
def _compiled(spec: str, country: str, locale: str) -> CompiledCall:
    text = CallText.model_validate_json(spec)
    problems: list[Problem] = []

    def compiled(where: str, source: str) -> Compiled:
        try:
            made = compile_template(source)
        except BadTemplate as error:
            problems.append(error.problem.at(where))
            return compile_template("")
        problems.extend(problem.at(where) for problem in unknown_fields(made))
        return made

    path = compiled("path", text.path)
    if not problems:
        path = compile_template(_encoded(text.path))
        if any(c.isspace() for plain, part in segments(text.path) if not plain for c in part.strip()):
            problems.append(Problem("path", "The path has a space in it.", "Write it as %20."))
        if "://" in text.path.partition("{{")[0]:
            problems.append(
                Problem("path", "This is a whole address.", "Write what follows the gateway’s address, from the /.")
            )
    headers = []
    for name, source in text.headers.items():
        if not name.isascii() or not name.replace("-", "").replace("_", "").isalnum():
            problems.append(
                Problem("headers", f"“{name}” is no header’s name.", "A name is letters, digits and hyphens.")
            )
        headers.append((name, compiled("headers", source)))
    made = CompiledCall(text, path, tuple(headers), compiled("body", text.body), regional(locale, country))
    if problems:
        raise Invalid(problems)
    return made


def _encoded(path: str) -> str:
    """A path's template with every value percent-encoded."""
    made = []
    for is_jinja, part in segments(path):
        if is_jinja and part.startswith("{{") and "urlencode" not in part:
            inner = part.removeprefix("{{").removesuffix("}}").strip("-+ ")
            part = "{{ (" + inner + ") | urlencode }}"
        made.append(part)
    return "".join(made)
