"""What all specs share: strict fields, keys, and validation errors as problems in plain words."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, StringConstraints, ValidationError

from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Invalid, Problem


class Spec(BaseModel):
    """A strict model: an unknown field is an error that names it, never dropped in silence."""

    model_config = ConfigDict(extra="forbid", str_strip_whitespace=True, validate_assignment=True)

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """A copy, changed; what the original has worked out of its fields (cached properties) is left behind."""
        copied = super().model_copy(update=update, deep=deep)
        for name in copied.__dict__.keys() - type(self).model_fields.keys():
            del copied.__dict__[name]
        return copied

    def plain(self) -> dict[str, Any]:
        """The spec as JSON, without what is at its default: what is stored and bundled."""
        dumped: dict[str, Any] = self.model_dump(mode="json", exclude_defaults=True)
        return dumped


SpecT = TypeVar("SpecT", bound=BaseModel)


def _one_line(text: str) -> str:
    if any(ord(c) < 32 or c in "\u2028\u2029\x7f" for c in text):
        raise ValueError("holds a line break or control character, which this place can't have")
    return text


Key = Annotated[str, StringConstraints(pattern=r"^[a-z0-9]+(-[a-z0-9]+)*$", min_length=1, max_length=60)]
"""What a spec is called by in a bundle and an address: lower case, digits, single hyphens."""

ChannelKey = Literal["email", "sms", "chat", "call"]
"""How somebody is told: a person by email, SMS or chat, another system by a call to it."""

Name = Annotated[str, StringConstraints(min_length=1, max_length=100), AfterValidator(_one_line)]
"""What people call it: one line."""

OneLine = Annotated[str, StringConstraints(max_length=1000), AfterValidator(_one_line)]
"""A text that has no line breaks, since it becomes a header or a label."""


def _path(text: str) -> str:
    try:
        if text:
            compile_path(text)
    except BadPath as error:
        raise ValueError(f"is no path: {error}. Write it like $.orders") from None
    return text


PathText = Annotated[str, StringConstraints(max_length=500), AfterValidator(_path)]
"""A JSONPath (RFC 9535), as it is written; it may be empty."""

ListPath = Annotated[PathText, StringConstraints(min_length=1)]

VariableName = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]*$", max_length=60)]

Tag = Annotated[str, StringConstraints(pattern=r"^\w[\w .:/-]*$", max_length=40)]
"""A word or two that a customer is marked with."""

SetupTag = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=30, pattern=r"^[^,;\n]+$")]
"""A word by which routes or messages are found and chosen together; it means nothing else."""

Locale = Annotated[str, StringConstraints(pattern=r"^[a-z]{2,3}(-[A-Z][a-z]{3})?(-([A-Z]{2}|[0-9]{3}))?$")]
"""A BCP 47 tag of language, script and region: `de`, `de-AT`, `zh-Hant-TW`."""

_SAID = {
    "missing": "is missing",
    "extra_forbidden": "is not known here",
    "string_too_short": "is empty",
    "string_type": "has to be text",
    "int_parsing": "has to be a whole number",
    "int_from_float": "has to be a whole number",
    "int_type": "has to be a whole number",
    "int_parsing_size": "is too large a number",
    "float_parsing": "has to be a number",
    "float_type": "has to be a number",
    "decimal_parsing": "has to be a number",
    "bool_parsing": "has to be yes or no",
    "bool_type": "has to be yes or no",
    "list_type": "has to be a list",
    "dict_type": "has to be a mapping of names to values",
    "model_type": "has to be a mapping of names to values",
    "model_attributes_type": "has to be a mapping of names to values",
    "date_from_datetime_parsing": "has to be a day",
    "date_parsing": "has to be a day",
    "date_type": "has to be a day",
    "time_parsing": "has to be a time of day",
    "time_type": "has to be a time of day",
    "datetime_parsing": "has to be a day and time",
    "datetime_from_date_parsing": "has to be a day and time",
}
"""What is wrong, by pydantic's own names of errors."""

_LIMITS = {
    "greater_than_equal": ("has to be at least {}", "ge"),
    "greater_than": ("has to be more than {}", "gt"),
    "less_than_equal": ("may be at most {}", "le"),
    "less_than": ("has to be less than {}", "lt"),
    "string_too_long": ("is longer than {} characters", "max_length"),
    "too_long": ("has more than {} entries", "max_length"),
    "too_short": ("has fewer than {} entries", "min_length"),
}

_PATTERNS = {
    r"^[a-z0-9]+(-[a-z0-9]+)*$": ("may hold lower-case letters, digits and single hyphens", "order-received"),
    r"^[a-z][a-z0-9_]*$": (
        "may hold lower-case letters, digits and underscores, and starts with a letter",
        "customer_name",
    ),
    r"^[a-z]{2,3}(-[A-Z][a-z]{3})?(-([A-Z]{2}|[0-9]{3}))?$": ("is no language code", "de, or de-AT"),
    r"^([A-Z]{2})?$": ("is no country code", "IE"),
    r"^[A-Z]{3}$": ("is no currency code", "EUR"),
    r"^#[0-9a-fA-F]{6}$": ("is no colour", "#0E5A55"),
}
"""What a text that does not fit a pattern is, and one that does."""

_EXAMPLES = {
    "has to be a whole number": "10",
    "has to be a number": "2.5",
    "has to be a day": "2026-12-24",
    "has to be a time of day": "09:30",
    "has to be a day and time": "2026-12-24T09:30",
}


def problems_of(error: ValidationError) -> list[Problem]:
    """Pydantic's errors as problems: where as a dotted path, what as a sentence that names the field and what was
    given, and an example where there is one.
    """
    return [_problem(item) for item in error.errors(include_url=False)]


def _problem(item: Any) -> Problem:
    where = ".".join(str(part) for part in item["loc"] if not str(part).startswith("function-"))
    context, kind = item.get("ctx") or {}, item["type"]
    example = ""
    if kind == "string_pattern_mismatch":
        what, example = _PATTERNS.get(str(context.get("pattern")), ("does not have the form it needs", ""))
    elif kind in ("literal_error", "enum"):
        what = f"has to be one of {_plainly(str(context.get('expected')))}"
    elif kind == "value_error":
        what = str(context.get("error") or item["msg"])
    elif kind in _LIMITS:
        said, limit = _LIMITS[kind]
        what = said.format(f"{context.get(limit):,}" if isinstance(context.get(limit), int) else context.get(limit))
    else:
        what = _SAID.get(kind) or item["msg"][:1].lower() + item["msg"][1:]
        example = _EXAMPLES.get(what, "")
    shown = item.get("input")
    given = isinstance(shown, str | int | float) and kind != "extra_forbidden" and shown != ""
    told = f" It was “{str(shown)[:60]}”." if given and f"“{str(shown)[:60]}”" not in what else ""
    hint = f"Write it like {example}." if example else ""
    if "[key]" in item["loc"] and isinstance(shown, str):  # what names an entry, such as the language of a text
        return Problem(where, f"“{shown[:60]}” {what}.", hint)
    return Problem(where, f"“{_called(item['loc'])}” {what}.{told}", hint)


def _called(place: tuple[int | str, ...]) -> str:
    """What a field is called in a sentence: its name without underscores; that of its list where it is one of many."""
    names = [part for part in place if isinstance(part, str) and not part.startswith("function-")]
    number = next((part + 1 for part in reversed(place) if isinstance(part, int)), None)
    if not names:
        return "this"
    last = names[-1].replace("_", " ")
    return f"{last}, number {number}" if isinstance(place[-1], int) else last


def _plainly(expected: str) -> str:
    """A list of words as pydantic writes it (`'a', 'b' or 'c'`), without its quotes."""
    return re.sub(r"'([^']*)'", lambda word: word[1] or "nothing", expected)


def read_spec(kind: type[SpecT], data: Any) -> SpecT:
    """Validates plain data as a spec. Raises Invalid with every problem found."""
    try:
        unfit = _unfit(data)
        if unfit is not None:
            raise Invalid([unfit])
        return kind.model_validate(data)
    except ValidationError as error:
        raise Invalid(problems_of(error)) from None
    except RecursionError:
        raise Invalid([Problem("", "It is nested too deeply.", "Write it flatter.")]) from None


MOST_LEVELS = 60


def _unfit(data: Any) -> Problem | None:
    """What no spec may hold wherever it stands: a NUL, half a surrogate pair, a number that is none, boundless
    nesting.
    """
    stack: list[tuple[Any, str, int]] = [(data, "", 0)]
    while stack:
        value, where, depth = stack.pop()
        if depth > MOST_LEVELS:
            return Problem(where, f"It is nested more than {MOST_LEVELS} levels deep.", "Write it flatter.")
        if isinstance(value, str):
            if "\x00" in value or (not value.isascii() and any("\ud800" <= c <= "\udfff" for c in value)):
                return Problem(
                    where,
                    f"“{value[:40].encode('utf-8', 'replace').decode().replace(chr(0), '?')}” holds a character "
                    "that no text has (NUL, or half a surrogate pair).",
                    "Type it again.",
                )
        elif isinstance(value, float) and not math.isfinite(value):
            return Problem(where, f"“{value}” is no number.", "Write a number.")
        elif isinstance(value, int) and not isinstance(value, bool) and abs(value) >= 2**63:
            return Problem(where, "The number is too large.", "Write a smaller one.")
        elif isinstance(value, dict):
            stack += [(inner, f"{where}.{key}" if where else str(key), depth + 1) for key, inner in value.items()]
            stack += [(key, where, depth + 1) for key in value if isinstance(key, str)]
        elif isinstance(value, list | tuple):
            stack += [
                (inner, f"{where}.{number}" if where else str(number), depth + 1) for number, inner in enumerate(value)
            ]
    return None
