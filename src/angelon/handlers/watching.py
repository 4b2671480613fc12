"""Which lines of a handler one call has run, and the values in them: for a rehearsal, where somebody looks on.
Stands alone.
"""

from __future__ import annotations

import ast
from pathlib import Path
from types import FrameType
from typing import Any

from angelon.handlers import Event, Money, Order, Person

MOST_LINES = 400
LONGEST = 70
"""Characters of one value."""


class Watch:
    """A trace function (`sys.settrace`) for the files of a folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = str(folder)
        self._chains: dict[str, dict[int, list[tuple[str, ...]]]] = {}
        self._before: dict[int, tuple[int, dict[str, str]]] = {}
        self.values: dict[str, dict[int, list[str]]] = {}
        """By file and line: what its names were, or became."""
        self.ran: dict[str, list[int]] = {}

    def __call__(self, frame: FrameType, kind: str, argument: Any) -> Any:
        file = frame.f_code.co_filename
        if not file.startswith(self._folder) or frame.f_code.co_name.startswith("<"):
            return None
        if kind in ("line", "return"):
            self._note(frame, file, kind)
        return self

    def _note(self, frame: FrameType, file: str, kind: str) -> None:
        ran = self.ran.setdefault(file, [])
        if len(ran) > MOST_LINES:
            return
        shown = {name: _shown(value) for name, value in frame.f_locals.items() if not isinstance(value, _OURS)}
        line, before = self._before.get(id(frame), (frame.f_lineno, shown))
        for name, value in shown.items():
            if before.get(name) != value:
                self._say(file, line, f"{name} = {value}")
        self._before[id(frame)] = (frame.f_lineno, shown)
        if kind == "return":
            self._before.pop(id(frame), None)
            return
        ran.append(frame.f_lineno)
        for chain in self._read(file).get(frame.f_lineno, ()):
            found: Any = frame.f_locals.get(chain[0])
            for part in chain[1:]:
                if not isinstance(found, _OURS) or part.startswith("_"):
                    break
                found = getattr(found, part, None)
            else:
                if not isinstance(found, _OURS) and not callable(found):
                    self._say(file, frame.f_lineno, f"{'.'.join(chain[1:])} = {_shown(found)}")

    def _say(self, file: str, line: int, said: str) -> None:
        said_here = self.values.setdefault(file, {}).setdefault(line, [])
        if said not in said_here and len(said_here) < 4:
            said_here.append(said)

    def _read(self, file: str) -> dict[int, list[tuple[str, ...]]]:
        """What each line reads of names: `event.order.number` as (event, order, number)."""
        found = self._chains.get(file)
        if found is None:
            found = self._chains[file] = {}
            try:
                tree = ast.parse(Path(file).read_text())
            except (OSError, SyntaxError, ValueError):
                return found
            for node in ast.walk(tree):
                chain = _chain(node)
                if chain:
                    found.setdefault(node.lineno, []).append(chain)  # type: ignore[attr-defined]
        return found


_OURS = (Event, Order, Person)


def _chain(node: ast.AST) -> tuple[str, ...]:
    parts: list[str] = []
    while isinstance(node, ast.Attribute):
        parts.insert(0, node.attr)
        node = node.value
    return (node.id, *parts) if parts and isinstance(node, ast.Name) else ()


def _shown(value: Any) -> str:
    if isinstance(value, Money):
        text = f"{value.amount} {value.currency}"
    elif isinstance(value, str):
        text = value or "“”"
    else:
        try:
            text = repr(value)
        except BaseException:
            text = f"a {type(value).__name__}"
    return text if len(text) <= LONGEST else f"{text[: LONGEST - 1]}…"
