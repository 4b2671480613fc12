"""From a form to a spec and back: a field's name is the path of the value that it holds.

`filled` lays what a form says over a spec as plain data. The same data is validated, and drawn again where it is
refused: so a page shows what was typed, whatever it was.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any

from flask import Flask
from werkzeug.datastructures import MultiDict

from angelon.core.problems import Problem
from angelon.core.specs.base import Spec
from angelon.core.specs.marks import Marks, written_marks


@dataclass(frozen=True, slots=True)
class Spelling:
    """How a value is written in one field. `read` raises ValueError with what is wrong and what to do, parted by a line
    break.
    """

    read: Callable[[str], Any]
    write: Callable[[Any], str]


def _written(write: Callable[[Any], str]) -> Callable[[Any], str]:
    """The same, for what was typed and can't be read as well."""
    return lambda value: value if isinstance(value, str) else "" if value is None else write(value)


def _headers(text: str) -> dict[str, str]:
    made = {}
    for line in text.splitlines():
        name, colon, value = line.partition(":")
        if not line.strip():
            continue
        if not colon:
            raise ValueError(f"“{line.strip()[:60]}” is no header.\nWrite each on a line, as Name: value.")
        made[name.strip()] = value.strip()
    return made


def _bytes(text: str) -> int:
    try:
        number = float(text.replace(",", "."))
    except ValueError:
        number = -1
    if not 0 <= number < 1e6:  # nan, inf
        raise ValueError(f"“{text.strip()[:40]}” is no number of megabytes.\nWrite it like 10 or 2.5.")
    return int(number * 1e6)


def _split(text: str, *at: str) -> list[str]:
    for sign in at:
        text = text.replace(sign, "\n")
    return [part.strip() for part in text.splitlines() if part.strip()]


TEXT = Spelling(str.strip, _written(str))
RAW = Spelling(lambda text: text, _written(str))
"""Text whose white space counts."""
CODE = Spelling(lambda text: text.strip().upper(), _written(str))
LINES = Spelling(_split, _written("\n".join))
WORDS = Spelling(lambda text: text.replace(",", " ").split(), _written(" ".join))
COMMAS = Spelling(lambda text: _split(text, ","), _written(", ".join))
HEADERS = Spelling(_headers, _written(lambda value: "\n".join(f"{name}: {text}" for name, text in value.items())))
OR_ZERO = Spelling(lambda text: text.strip() or 0, _written(str))
OR_NONE = Spelling(lambda text: text.strip() or None, _written(str))
MEGABYTES = Spelling(_bytes, _written(lambda value: f"{value / 1e6:g}"))


def filled(
    form: MultiDict[str, str],
    spec: Spec,
    fields: Mapping[str, Spelling],
    optional: Mapping[str, str] | None = None,
    switches: Collection[str] = (),
) -> tuple[dict[str, Any], list[Problem]]:
    """A spec as plain data with what a form says in place of what was there, and what in the form can't be read.

    `optional` names the parts that are left out unless a box is ticked: path of the part, name of the box. `switches`
    are the boxes that are values themselves. A field that the form does not have leaves its value.
    """
    made = spec.model_dump(mode="json")
    problems = []
    for path, spelling in fields.items():
        if path not in form:
            continue
        value: Any
        try:
            value = spelling.read(form[path])
        except ValueError as error:
            what, _, hint = str(error).partition("\n")
            problems.append(Problem(path, what, hint))
            value = form[path]
        _put(made, path.split("."), value)
    for path in switches:
        _put(made, path.split("."), form.get(path) in ("yes", "1"))
    for path, box in (optional or {}).items():
        if box not in form:
            _put(made, path.split("."), None)
    return made, problems


def pairs(form: MultiDict[str, str], left: str, right: str) -> dict[str, str]:
    """Rows of two fields each; one that has nothing on either side is left out."""
    rows = zip(form.getlist(left), form.getlist(right), strict=False)
    return {a.strip(): b.strip() for a, b in rows if a.strip() and b.strip()}


def rows(form: MultiDict[str, str], **columns: str) -> list[dict[str, str]]:
    """Rows of several fields each, by the part that a field (`most="cap.most"`) holds; one whose first field is empty
    is left out.
    """
    found = zip(*(form.getlist(field) for field in columns.values()), strict=False)
    made = [dict(zip(columns, (value.strip() for value in row), strict=True)) for row in found]
    return [row for row in made if row[next(iter(columns))]]


def _put(into: dict[str, Any], path: list[str], value: Any) -> None:
    for name in path[:-1]:
        if not isinstance(into.get(name), dict):
            into[name] = {}
        into = into[name]
    into[path[-1]] = value


def _marks(marks: Any) -> str:
    """What is noted about a customer as lines; what was typed and can't be read as it was."""
    return marks if isinstance(marks, str) else written_marks(Marks.model_validate(marks or {}))


def install(app: Flask) -> None:
    """Filters by which templates write values into fields."""
    spellings = {"lines": LINES, "words": WORDS, "commas": COMMAS, "headers": HEADERS, "megabytes": MEGABYTES}
    app.jinja_env.filters["as_marks"] = _marks
    app.jinja_env.filters.update({f"as_{name}": spelling.write for name, spelling in spellings.items()})


def with_text(texts: Mapping[str, str], locale: str, text: str) -> dict[str, str]:
    """Texts by language with one of them as it was typed; an empty one is left out."""
    others = {tag: said for tag, said in texts.items() if tag != locale}
    return others | ({locale: text.replace("\r\n", "\n").strip()} if text.strip() else {})
