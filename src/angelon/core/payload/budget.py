"""JSONPath (RFC 9535) with a budget: however a path is written, it looks at so many places of a payload and no more.

The library walks a payload without any bound, and a filter with a descent inside a descent is cubic. Its compiled
queries are rebuilt here from segments that count.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator
from typing import Any

import regex
from iregexp_check import check
from jsonpath_rfc9535 import JSONPathEnvironment
from jsonpath_rfc9535.exceptions import JSONPathError, JSONPathTypeError
from jsonpath_rfc9535.filter_expressions import FilterContext, FilterQuery
from jsonpath_rfc9535.function_extensions import ExpressionType, FilterFunction
from jsonpath_rfc9535.function_extensions._pattern import map_re
from jsonpath_rfc9535.segments import JSONPathChildSegment, JSONPathRecursiveDescentSegment
from jsonpath_rfc9535.selectors import FilterSelector

MAX_STEPS = 100_000
"""Places that one path may look at in one payload: some tenths of a second."""
PATTERN_SECONDS = 0.05

_spent = threading.local()


class TooMuch(JSONPathError):
    """A path looks at more places than the budget allows."""


def _spend() -> None:
    _spent.left -= 1
    if _spent.left < 0:
        raise TooMuch(f"it looks at more than {MAX_STEPS:,} places of this payload", token=None)


class _Descent(JSONPathRecursiveDescentSegment):
    def resolve(self, nodes: Iterable[Any]) -> Iterator[Any]:
        for node in nodes:
            for visited in self._visit(node):
                for selector in self.selectors:
                    for found in selector.resolve(visited):
                        _spend()
                        yield found

    def _visit(self, node: Any, depth: int = 1) -> Iterator[Any]:
        stack = [node]
        while stack:
            here = stack.pop()
            _spend()
            yield here
            value = here.value
            if isinstance(value, dict):
                stack += [
                    here.new_child(inner, name, here)
                    for name, inner in reversed(value.items())
                    if isinstance(inner, dict | list)
                ]
            elif isinstance(value, list):
                stack += [
                    here.new_child(value[i], i, here)
                    for i in range(len(value) - 1, -1, -1)
                    if isinstance(value[i], dict | list)
                ]


class _Child(JSONPathChildSegment):
    def resolve(self, nodes: Iterable[Any]) -> Iterator[Any]:
        for node in nodes:
            for selector in self.selectors:
                for found in selector.resolve(node):
                    _spend()
                    yield found


class _Filter(FilterSelector):
    def resolve(self, node: Any) -> Iterator[Any]:
        value = node.value
        members = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        for key, inner in members:
            _spend()
            try:
                if self.expression.evaluate(FilterContext(env=self.env, current=inner, root=node.root)):
                    yield node.new_child(inner, key, node)
            except JSONPathTypeError as error:
                error.token = error.token or self.token
                raise


class _Pattern(FilterFunction):
    """`match` and `search` (RFC 9535, sections 2.4.6 and 2.4.7; patterns by RFC 9485), each for a bounded time."""

    arg_types = [ExpressionType.VALUE, ExpressionType.VALUE]  # noqa: RUF012 - as the library has it
    return_type = ExpressionType.LOGICAL

    def __init__(self, whole: bool) -> None:
        self._run = regex.fullmatch if whole else regex.search

    def __call__(self, string: Any, pattern: Any) -> bool:
        if not isinstance(pattern, str) or not check(pattern):
            return False
        try:
            return bool(self._run(map_re(pattern), string, timeout=PATTERN_SECONDS))
        except (TypeError, regex.error):
            return False
        except TimeoutError:
            raise TooMuch(f"its pattern takes longer than {PATTERN_SECONDS * 1000:.0f} ms", token=None) from None


class _Environment(JSONPathEnvironment):
    def setup_function_extensions(self) -> None:
        super().setup_function_extensions()
        self.function_extensions |= {"match": _Pattern(True), "search": _Pattern(False)}


_ENVIRONMENT = _Environment()


def compile_bounded(text: str) -> Any:
    """A compiled query whose `find` is bounded. Raises JSONPathError."""
    query = _ENVIRONMENT.compile(text)
    _bound(query)
    return query


def _bound(query: Any) -> None:
    query.segments = tuple(_bounded_segment(segment) for segment in query.segments)


def _bounded_segment(segment: Any) -> Any:
    kind = _Descent if isinstance(segment, JSONPathRecursiveDescentSegment) else _Child
    return kind(
        env=segment.env,
        token=segment.token,
        selectors=tuple(_bounded_selector(selector) for selector in segment.selectors),
    )


def _bounded_selector(selector: Any) -> Any:
    if not isinstance(selector, FilterSelector):
        return selector
    stack = [selector.expression]
    while stack:
        part = stack.pop()
        if isinstance(part, FilterQuery):
            _bound(part.query)
        stack += [
            inner
            for name in ("expression", "left", "right")
            if (inner := getattr(part, name, None)) is not None and hasattr(inner, "evaluate")
        ]
        stack += [inner for inner in getattr(part, "args", ()) if hasattr(inner, "evaluate")]
    return _Filter(env=selector.env, token=selector.token, expression=selector.expression)


def find_bounded(query: Any, payload: Any) -> Any:
    """The nodes of a compiled query. Raises TooMuch, and JSONPathError as the library does."""
    _spent.left = MAX_STEPS
    return query.find(payload)
