"""Conditions worked out: yes or no for each, with the value that it saw. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal
from functools import lru_cache
from typing import Any, NamedTuple

import regex

from angelon.core.event_types import label as event_label
from angelon.core.specs.condition import OPERATOR_LABELS, Compare, Group
from angelon.core.values import Day, Money, Value, number_of, show, sign_of_language

PATTERN_SECONDS = 0.05


@dataclass(slots=True)
class Subject:
    """What a comparison looks at. `kind` is text, number, date, flag, list or change; `problem` says that there is no
    such thing.
    """

    value: Value = None
    kind: str = "text"
    problem: str = ""
    _shown: str | None = field(default=None, compare=False, repr=False)

    def shown(self, locale: str) -> str:
        """The value for a reader, cut to 200 characters; made once, since many routes ask for the same."""
        if self._shown is None:
            self._shown = show(self.value, locale)[:200] if self.value is not None else ""
        return self._shown


Look = Callable[[str], Subject]
"""Finds what a comparison names."""


class Verdict(NamedTuple):
    """How a condition came out. `problem` is set where it, or a part of it, can't be evaluated; then `yes` is
    False.
    """

    yes: bool
    label: str
    saw: str = ""
    problem: str = ""
    inner: tuple[Verdict, ...] = ()
    read: str = ""
    """How the numbers that somebody typed are understood, as a reader of the store's language writes them."""

    def why_not(self) -> str:
        """The part that settled a no, as a sentence."""
        if not self.inner and self.saw in ("yes", "no"):
            return f"It does not hold that {self.label}."
        if not self.inner:
            return f"{self.label[:1].upper()}{self.label[1:]} does not hold: it is {self._value}."
        no = next((v for v in self.inner if not v.yes), None)
        if self.label.startswith("none"):
            yes = next((v for v in self.inner if v.yes), None)
            return f"“{yes.label}” holds, and it must not: it is {yes._value}." if yes else ""
        return no.why_not() if no and self.label.startswith("all") else f"None of {len(self.inner)} alternatives holds."

    @property
    def _value(self) -> str:
        """What was seen, quoted where what it was compared with is."""
        return f"“{self.saw}”" if self.saw and "“" in self.label else self.saw or "empty"

    def leaves(self) -> list[Verdict]:
        """The comparisons in it, in order."""
        found: list[Verdict] = []
        for part in self.inner:
            if part.inner:
                found += part.leaves()
            elif part.label:
                found.append(part)
        return found

    def as_dict(self) -> dict[str, Any]:
        return self._asdict() | {"inner": [part.as_dict() for part in self.inner]}


_JOINED = {"all": "all of these", "any": "any of these", "none": "none of these"}


def evaluate(group: Group, look: Look, today: dt.date, locale: str = "en") -> Verdict:
    """Works a group out. Every part is looked at, so that each can show what it saw."""
    inner = []
    holds = fails = 0
    problem = ""
    for part in group.of:
        one = compare(part, look, today, locale) if part.kind == "compare" else evaluate(part, look, today, locale)
        inner.append(one)
        if one.yes:
            holds += 1
        else:
            fails += 1
            problem = problem or one.problem
    join = group.join
    yes = not fails if join == "all" else holds > 0 if join == "any" else not holds
    return Verdict(yes and not problem, _JOINED[join], "", problem, tuple(inner))


def compare(part: Compare, look: Look, today: dt.date, locale: str = "en") -> Verdict:
    """Works one comparison out."""
    subject = look(part.of)
    label = part.label
    if subject.problem:
        return Verdict(False, label, "", subject.problem)
    try:
        if not part.which:
            value = subject.value
            kind = subject.kind if subject.kind != "list" else _kind(value)
            yes, read = _holds(part, value, kind, today, locale), _understood(part, kind, locale)
            return Verdict(yes, label, subject.shown(locale), read=read)
        items = subject.value if isinstance(subject.value, list) else [] if subject.value is None else [subject.value]
        if part.which == "count":
            yes, read = _holds(part, len(items), "number", today, locale), _understood(part, "number", locale)
            return Verdict(yes, label, str(len(items)), read=read)
        values = [_item(item, part.item) for item in items]
        answers = [_holds(part, value, _kind(value), today, locale) for value in values]
        yes = {"any": any(answers), "all": all(answers), "none": not any(answers)}[part.which]
        read = _understood(part, "number", locale) if any(_kind(value) == "number" for value in values) else ""
        shown = [show(value, locale)[:80] for value in values]
        if part.of == "history.events":
            shown = [event_label(name) for name in shown]
        return Verdict(yes, label, _few([one for one in shown if one]), read=read)
    except _Unclear as unclear:
        return Verdict(False, label, subject.shown(locale), str(unclear))


def _few(words: list[str]) -> str:
    """The last few of a list, and how many more there are."""
    return ", ".join(words) if len(words) <= 5 else f"{', '.join(words[-4:])} and {len(words) - 4} before"


def describe_group(group: Group) -> str:
    """A group as people read it; empty where nothing is asked."""
    parts = [f"({describe_group(part)})" if isinstance(part, Group) else part.label for part in group.of]
    joined = {"all": " and ", "any": " or ", "none": ", nor "}[group.join].join(part for part in parts if part)
    return f"none of: {joined}" if group.join == "none" and joined else joined


class _Unclear(ValueError):
    """A comparison whose given value makes no sense for what it looks at."""


def _item(item: Any, name: str) -> Any:
    return item.get(name) if name and isinstance(item, dict) else item


def _kind(value: Any) -> str:
    if isinstance(value, bool):
        return "flag"
    if isinstance(value, int | float | Decimal | Money):
        return "number"
    return "date" if isinstance(value, Day | dt.date) else "text"


_OF_TEXTS = frozenset({"one_of", "none_of", "contains", "starts_with", "ends_with", "matches"})
"""Comparisons that are always of words, whatever the kind."""


def _holds(part: Compare, value: Any, kind: str, today: dt.date, locale: str) -> bool:
    op = part.op
    if op in ("present", "absent"):
        return (value not in (None, "", [])) is (op == "present")
    if op in ("yes", "no"):
        return bool(value) is (op == "yes")
    if op == "changed":
        was, now = value if isinstance(value, tuple) else ("", "")
        return bool(now) and was != now and (not part.value or part.value == was) and (not part.to or part.to == now)
    if value is None:
        return op in ("is_not", "none_of")
    if kind == "number" and op not in _OF_TEXTS:
        return _numbers(part, value, locale)
    if kind == "date" and op not in _OF_TEXTS and op != "is_not":
        return _dates(part, value, today)
    return _texts(part, value)


def _numbers(part: Compare, value: Any, locale: str) -> bool:
    left = number_of(value)
    if left is None:
        return part.op == "is_not"
    if part.op in ("before", "after", "changed"):
        raise _Unclear(f"A number can't be compared with “{OPERATOR_LABELS[part.op]}”.")
    right = _number(part.value, part, locale)
    match part.op:
        case "is":
            return left == right
        case "is_not":
            return left != right
        case "greater":
            return left > right
        case "at_least":
            return left >= right
        case "less":
            return left < right
        case "at_most":
            return left <= right
        case "between":
            return right <= left <= _number(part.to, part, locale)
    raise _Unclear(f"A number can't be compared with “{OPERATOR_LABELS[part.op]}”.")


@lru_cache(maxsize=4096)
def typed_number(text: str, locale: str) -> Decimal | None:
    """A number as somebody of the shop typed it; one that has two readings is read as its language (a tag) has it."""
    return number_of(text.strip(), sign_of_language(locale))


def _understood(part: Compare, kind: str, locale: str) -> str:
    """The numbers of a comparison as they are understood; empty where it has none."""
    if kind != "number" or part.op in _OF_TEXTS or part.op in ("present", "absent", "yes", "no", "changed"):
        return ""
    found = [typed_number(text, locale) for text in (part.value, part.to if part.op == "between" else "") if text]
    return " to ".join(show(number, locale) for number in found if number is not None)


def _number(text: str, part: Compare, locale: str) -> Decimal:
    found = typed_number(text, locale)
    if found is None:
        raise _Unclear(f"“{text}” is no number, and {part.of} is one.")
    return found


def _dates(part: Compare, value: Any, today: dt.date) -> bool:
    inner = value.value if isinstance(value, Day) else value
    left = inner.date() if isinstance(inner, dt.datetime) else inner
    if part.op not in ("is", "before", "after", "between"):
        raise _Unclear(f"A day can't be compared with “{OPERATOR_LABELS[part.op]}”.")
    right = read_day(part.value, today)
    match part.op:
        case "is":
            return bool(left == right)
        case "before":
            return bool(left < right)
        case "after":
            return bool(left > right)
        case "between":
            return bool(right <= left <= read_day(part.to, today))
    raise _Unclear(f"A day can't be compared with “{OPERATOR_LABELS[part.op]}”.")


def read_day(text: str, today: dt.date) -> dt.date:
    """A day as written: `2026-12-24`, `today`, `today+3`, `today-1`. Raises ValueError with a sentence."""
    text = text.strip().replace(" ", "")
    if text.startswith("today"):
        rest = text[5:]
        try:
            return today + dt.timedelta(days=int(rest or 0))
        except (ValueError, OverflowError):
            raise _Unclear(f"“{text}” is no day: write today, today+3 or 2026-12-24.") from None
    try:
        return dt.date.fromisoformat(text)
    except ValueError:
        raise _Unclear(f"“{text}” is no day: write today, today+3 or 2026-12-24.") from None


def _texts(part: Compare, value: Any) -> bool:
    if part.op == "contains" and isinstance(value, list):
        return any(_fold(item) == _fold(part.value) for item in value)
    left, right = _fold(value), _fold(part.value)
    match part.op:
        case "is":
            return left == right
        case "is_not":
            return left != right
        case "one_of":
            return left in {_fold(v) for v in part.values}
        case "none_of":
            return left not in {_fold(v) for v in part.values}
        case "contains":
            return right in left
        case "starts_with":
            return left.startswith(right)
        case "ends_with":
            return left.endswith(right)
        case "matches":
            try:
                return regex.search(part.value, show(value), timeout=PATTERN_SECONDS) is not None
            except (regex.error, TimeoutError):
                raise _Unclear(f"The pattern “{part.value[:60]}” takes too long for this value.") from None
    raise _Unclear(f"A text can't be compared with “{OPERATOR_LABELS[part.op]}”.")


def _fold(value: Any) -> str:
    return (value if isinstance(value, str) else show(value)).strip().casefold()
