"""Every step there is: what it takes, gives and is given, a line that says what it does, and an example.

A step is a function of a value, its parameters and a Context. It answers with a value or raises StepFailed, and
nothing else, whatever JSON it is handed.
"""

from __future__ import annotations

import datetime as dt
import json
import re as stdlib_re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from dataclasses import replace as replace_context
from decimal import ROUND_HALF_UP, Decimal
from functools import lru_cache
from typing import Any, Literal
from urllib.parse import parse_qsl, quote, urlencode, urlsplit, urlunsplit
from zoneinfo import ZoneInfo

import regex

from angelon.core.addresses import BadPhone, phone_text, read_phone
from angelon.core.numbers import ambiguous
from angelon.core.payload.paths import MISSING, BadPath, compile_path, looks_like_path
from angelon.core.recipes import coerce
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.recipes.text_steps import render_item, render_small
from angelon.core.specs.variable import Step
from angelon.core.timed_patterns import BadPattern, compiled
from angelon.core.values import Day, Money, Value, locale_of, number_of, show, show_day, show_money

MAX_TEXT = 100_000
MAX_ITEMS = 20_000
REGEX_SECONDS = 0.05

Takes = Literal["any", "text", "number", "amount", "money", "date", "list", "object"]


@dataclass(frozen=True)
class Parameter:
    """One thing that a step is given. `path` says that it may be a path into the payload instead."""

    name: str
    about: str
    kind: Literal["text", "number", "choice", "flag", "list"] = "text"
    default: Any = None
    choices: tuple[str, ...] = ()
    path: bool = False
    required: bool = False


@dataclass(frozen=True)
class StepKind:
    name: str
    group: str
    takes: Takes
    gives: Takes
    about: str
    example: tuple[str, str]
    run: Callable[[Value, dict[str, Any], Context], Value]
    parameters: tuple[Parameter, ...] = ()
    takes_nothing: bool = False
    """Whether it works where there is no value at all."""
    find: dict[str, Parameter] = field(default_factory=dict)
    plain: dict[str, Any] | None = None
    """The parameters where none is given; None where that has to be looked into."""


STEPS: dict[str, StepKind] = {}


def step(
    name: str,
    group: str,
    takes: Takes,
    gives: Takes,
    about: str,
    example: tuple[str, str],
    *parameters: Parameter,
    takes_nothing: bool = False,
) -> Callable[[Callable[[Any, dict[str, Any], Context], Value]], Callable[[Any, dict[str, Any], Context], Value]]:
    def register(
        run: Callable[[Any, dict[str, Any], Context], Value],
    ) -> Callable[[Any, dict[str, Any], Context], Value]:
        simple = all(not p.required and (p.kind == "text" or p.default is None) for p in parameters)
        plain = {p.name: p.default for p in parameters} if simple else None
        STEPS[name] = StepKind(
            name,
            group,
            takes,
            gives,
            about,
            example,
            run,
            parameters,
            takes_nothing,
            {p.name: p for p in parameters},
            plain,
        )
        return run

    return register


_INTO: dict[str, Callable[[Value, Context], Any]] = {
    "any": lambda value, _: value,
    "text": coerce.text,
    "number": coerce.number,
    "amount": lambda value, _: value,
    "money": coerce.money,
    "date": coerce.day,
    "list": coerce.items,
}


_READ = "_read"
"""Where a step keeps its parameters as they were read, apart from its fields: where they are the same for every
payload.
"""


def run_step(name: str, given: dict[str, Any], value: Value, context: Context, kept: Step | None = None) -> Value:
    """The value after a step; with `kept`, its parameters are read once and kept with it. Raises StepFailed: an unknown
    step, a parameter or a value that does not fit.
    """
    kind = STEPS.get(name)
    if kind is None:
        from rapidfuzz import process

        close = process.extractOne(name, STEPS.keys(), score_cutoff=60)
        raise StepFailed(
            f"There is no step “{name}”.",
            f"Did you mean “{close[0]}”?" if close else "The steps are listed under Add a step.",
        )
    parameters = kept.__dict__.get(_READ) if kept is not None else None
    if parameters is None:
        parameters = kind.plain if not given and kind.plain is not None else read_parameters(kind, given, context)
        if kept is not None and not any(p.path and looks_like_path(given.get(p.name)) for p in kind.parameters):
            kept.__dict__[_READ] = parameters
    if value is None and not kind.takes_nothing:
        raise StepFailed("There is no value to work on.")
    try:
        if kind.takes == "object":
            if not isinstance(value, dict):
                raise StepFailed(f"It takes an object, and this is {coerce.named(value)}.")
            into: Any = value
        else:
            into = value if value is None else _INTO[kind.takes](value, context)
        made = kind.run(into, parameters, context)
    except StepFailed:
        raise
    except (ValueError, TypeError, ArithmeticError, LookupError, AttributeError, RecursionError, RuntimeError):
        raise StepFailed(f"It can't work on {coerce.named(value)}.") from None
    if isinstance(made, str) and len(made) > MAX_TEXT:
        raise StepFailed(f"It makes a text of {len(made):,} characters; at most {MAX_TEXT:,} are allowed.")
    return made


def read_parameters(kind: StepKind, given: dict[str, Any], context: Context) -> dict[str, Any]:
    """Parameters with their defaults, paths looked up. Raises StepFailed for one that is unknown, missing or misfit."""
    for name in given:
        if name not in kind.find:
            known = ", ".join(kind.find) or "none"
            raise StepFailed(f"“{kind.name}” has no parameter “{name}”. It has: {known}.")
    read: dict[str, Any] = {}
    for p in kind.parameters:
        value = given.get(p.name, p.default)
        if p.path:
            value = context.parameter(value)
        if p.required and value in (None, ""):
            asked = given.get(p.name)
            what = (
                f"“{p.name}” of {kind.name} has no value at {asked}."
                if asked
                else f"“{kind.name}” needs “{p.name}”: {p.about}."
            )
            raise StepFailed(what)
        if value is not None:
            if p.kind == "number":
                number = number_of(value, context.decimal_sign() if looks_like_path(given.get(p.name)) else "")
                if number is None and isinstance(value, str) and ambiguous(value):
                    what = coerce.two_readings(value)[0]
                    raise StepFailed(f"“{p.name}” of {kind.name}: {what}", "Write it without a sign for thousands.")
                if number is None:
                    raise StepFailed(f"“{p.name}” of {kind.name} has to be a number, not {coerce.named(value)}.")
                value = number
            elif p.kind == "choice" and value not in p.choices:
                raise StepFailed(f"“{p.name}” of {kind.name} is one of {', '.join(p.choices)}, not “{value}”.")
            elif p.kind == "flag":
                value = coerce.flag(value, context)
            elif p.kind == "list":
                value = (
                    [str(v) for v in value]
                    if isinstance(value, list)
                    else [v.strip() for v in str(value).split(",") if v.strip()]
                )
            elif p.kind == "text":
                value = coerce.text(value, context)
        read[p.name] = value
    return read


def whole(number: Decimal, low: int, high: int, what: str) -> int:
    if number != number.to_integral_value() or not low <= number <= high:
        raise StepFailed(f"{what} has to be a whole number from {low} to {high}, not {number}.")
    return int(number)


# ---- text ---------------------------------------------------------------------------------------------------------


@step(
    "strip",
    "text",
    "text",
    "text",
    "Takes white space, or the characters you name, off both ends",
    ("  BK-7 ", "BK-7"),
    Parameter("chars", "which characters; white space if none"),
)
def strip(value: str, p: dict[str, Any], _: Context) -> str:
    return value.strip(p["chars"] or None)


@step(
    "removeprefix",
    "text",
    "text",
    "text",
    "Takes a beginning off, where it is there",
    ("No. 7", "7"),
    Parameter("prefix", "the beginning", required=True),
)
def removeprefix(value: str, p: dict[str, Any], _: Context) -> str:
    return value.removeprefix(p["prefix"])


@step(
    "removesuffix",
    "text",
    "text",
    "text",
    "Takes an ending off, where it is there",
    ("7 kg", "7"),
    Parameter("suffix", "the ending", required=True),
)
def removesuffix(value: str, p: dict[str, Any], _: Context) -> str:
    return value.removesuffix(p["suffix"])


@step(
    "replace",
    "text",
    "text",
    "text",
    "Puts one text in place of another, everywhere",
    ("a-b-c", "a b c"),
    Parameter("old", "what to look for", required=True),
    Parameter("new", "what to put there", default=""),
)
def replace(value: str, p: dict[str, Any], _: Context) -> str:
    if len(p["new"] or "") * (value.count(p["old"]) + 1) > MAX_TEXT * 2:
        raise StepFailed("The text would become too long.")
    return value.replace(p["old"], p["new"] or "")


@step(
    "sub",
    "text",
    "text",
    "text",
    "Replaces what a regular expression finds",
    ("Order 0042", "Order 42"),
    Parameter("pattern", "a regular expression, as Python writes it", required=True),
    Parameter("new", "what to put there; \\1 is the first group", default=""),
)
def sub(value: str, p: dict[str, Any], _: Context) -> str:
    return str(_timed(lambda: _pattern(p["pattern"]).sub(p["new"] or "", value, timeout=REGEX_SECONDS)))


@step(
    "extract",
    "text",
    "text",
    "text",
    "Keeps what a regular expression finds: its first group, else all of it",
    ("Order BK-7, paid", "BK-7"),
    Parameter("pattern", "a regular expression, as Python writes it", required=True),
)
def extract(value: str, p: dict[str, Any], _: Context) -> str:
    found = _timed(lambda: _pattern(p["pattern"]).search(value, timeout=REGEX_SECONDS))
    if not found:
        raise StepFailed(f"The pattern finds nothing in {coerce.named(value)}.")
    return str(next((g for g in found.groups() if g is not None), found.group()))


def _pattern(pattern: str) -> Any:
    try:
        return compiled(pattern)
    except BadPattern as error:
        raise StepFailed(str(error)) from None


def _timed(run: Callable[[], Any]) -> Any:
    try:
        return run()
    except TimeoutError:
        raise StepFailed(
            "The regular expression took too long on this text.", "Make it simpler: no repeats inside repeats."
        ) from None
    except (regex.error, IndexError):
        raise StepFailed("The replacement names a group that the expression does not have.") from None


@step(
    "slice",
    "text",
    "text",
    "text",
    "Keeps a part, counted in characters",
    ("2026-11-03", "2026"),
    Parameter("start", "first character, from 0; negative counts from the end", "number", 0),
    Parameter("end", "where to stop, not included", "number"),
)
def slice_(value: str, p: dict[str, Any], _: Context) -> str:
    end = p["end"]
    return value[
        whole(p["start"], -MAX_TEXT, MAX_TEXT, "start") : None
        if end is None
        else whole(end, -MAX_TEXT, MAX_TEXT, "end")
    ]


@step("lower", "text", "text", "text", "Small letters", ("Paid", "paid"))
def lower(value: str, p: dict[str, Any], _: Context) -> str:
    return value.lower()


@step("upper", "text", "text", "text", "Capital letters", ("de", "DE"))
def upper(value: str, p: dict[str, Any], _: Context) -> str:
    return value.upper()


@step("title", "text", "text", "text", "Every word with a capital", ("jörg ahlers", "Jörg Ahlers"))
def title(value: str, p: dict[str, Any], _: Context) -> str:
    return stdlib_re.sub(r"[^\W\d_]+('[^\W\d_]+)?", lambda m: m[0][:1].upper() + m[0][1:].lower(), value)


@step(
    "truncate",
    "text",
    "text",
    "text",
    "Cuts at a length, at a word's end, with an ellipsis",
    ("Guillemot dual-line", "Guillemot…"),
    Parameter("length", "at most so many characters", "number", 80),
)
def truncate(value: str, p: dict[str, Any], _: Context) -> str:
    length = whole(p["length"], 1, MAX_TEXT, "length")
    if len(value) <= length:
        return value
    cut = value[: length - 1]
    at_word = cut.rsplit(None, 1)[0] if " " in cut and not value[length - 1].isspace() else cut
    return at_word.rstrip() + "…"


@step(
    "split",
    "text",
    "text",
    "list",
    "Parts a text into a list",
    ("a, b", "a and b"),
    Parameter("separator", "text between two marks", default=","),
)
def split(value: str, p: dict[str, Any], _: Context) -> list[str]:
    return [part.strip() for part in value.split(p["separator"] or ",", MAX_ITEMS) if part.strip()]


@step(
    "default",
    "choose",
    "any",
    "any",
    "What to use where there is no value, or an empty one",
    ("nothing", "friend"),
    Parameter("value", "what to use", required=True, path=True),
    takes_nothing=True,
)
def default(value: Value, p: dict[str, Any], _: Context) -> Value:
    return p["value"] if value is None or value == "" or value == [] else value


@step(
    "choose",
    "choose",
    "any",
    "any",
    "The value, or the first of other paths that has one",
    ("nothing", "+49 30 23125 014"),
    Parameter("paths", "other paths, in order", "list", required=True),
    takes_nothing=True,
)
def choose(value: Value, p: dict[str, Any], context: Context) -> Value:
    if value not in (None, "", []):
        return value
    for path in p["paths"]:
        found = _at(path, context.payload)
        if found not in (MISSING, None, "", []):
            return found
    raise StepFailed("None of the paths has a value.")


def _at(path: str, payload: Any) -> Any:
    try:
        return compile_path(path).find(payload)
    except BadPath as error:
        raise StepFailed(error.problem.what) from None


@step(
    "lookup",
    "choose",
    "any",
    "any",
    "Finds it in a small table kept with the source; of a list, each item",
    ("HER-180", "the Heron delta"),
    Parameter("table", "the table's name", required=True),
    Parameter("default", "what to use where the table has no such row"),
)
def lookup(value: Value, p: dict[str, Any], context: Context) -> Value:
    """What the table has for it; of a list, a list of what it has for each item."""
    table = context.lookups.get(p["table"])
    if table is None:
        raise StepFailed(f"The source has no table “{p['table']}”.", "Make it under Tables, or choose another.")
    if isinstance(value, list):
        return [_row(item, table, p, context) for item in value]
    return _row(value, table, p, context)


def _row(value: Value, table: Mapping[str, str], p: dict[str, Any], context: Context) -> str:
    key = coerce.text(value, context)
    if key in table:
        return table[key]
    if p["default"] is not None:
        return str(p["default"])
    raise StepFailed(f"The table “{p['table']}” has no row “{key[:60]}”.", "Add the row, or give a fallback text.")


@step(
    "template",
    "choose",
    "any",
    "text",
    "Makes a text from this value and other variables",
    ("7", "order 7"),
    Parameter("text", "`{{ value }}` is this value; `{{ city }}` is another variable", required=True),
    takes_nothing=True,
)
def template(value: Value, p: dict[str, Any], context: Context) -> str:
    return render_small(p["text"], value, context)


@step(
    "run",
    "choose",
    "any",
    "any",
    "The steps that the source keeps under a name",
    ("030 23125", "+493023125"),
    Parameter("steps", "the name they are kept under", required=True),
    takes_nothing=True,
)
def run(value: Value, p: dict[str, Any], context: Context) -> Value:
    kept = context.shared.get(p["steps"])
    if kept is None:
        raise StepFailed(
            f"The source keeps no steps under “{p['steps']}”.", f"It keeps {', '.join(context.shared) or 'none yet'}."
        )
    if context.depth >= 5:
        raise StepFailed(
            f"The steps “{p['steps']}” run one another in a circle.", "Take one of them out of the circle."
        )
    inner = replace_context(context, depth=context.depth + 1)
    for one in kept:
        value = run_step(one.do, one.given, value, inner, one)
    return value


# ---- numbers and money --------------------------------------------------------------------------------------------


@step("number", "number", "number", "number", "Reads a number with either decimal sign", ("1.234,50", "1,234.5"))
def number(value: Decimal, p: dict[str, Any], _: Context) -> Decimal:
    return value


@step(
    "round",
    "number",
    "number",
    "number",
    "Rounds half up to so many digits",
    ("2.3456", "2.35"),
    Parameter("digits", "after the decimal sign", "number", 0),
)
def round_(value: Decimal, p: dict[str, Any], _: Context) -> Decimal:
    return value.quantize(Decimal(1).scaleb(-whole(p["digits"], 0, 10, "digits")), rounding=ROUND_HALF_UP)


def _arithmetic(name: str, about: str, example: tuple[str, str], run: Callable[[Decimal, Decimal], Decimal]) -> None:
    @step(
        name,
        "number",
        "any",
        "any",
        about,
        example,
        Parameter("by", "the other number", "number", path=True, required=True),
    )
    def calculate(value: Value, p: dict[str, Any], context: Context) -> Value:
        if isinstance(value, Money):
            return Money(run(value.amount, p["by"]), value.currency)
        return run(coerce.number(value, context), p["by"])


def _divide(a: Decimal, b: Decimal) -> Decimal:
    if b == 0:
        raise StepFailed("Nothing can be divided by 0.")
    return a / b


_arithmetic("add", "Adds a number", ("2", "3"), lambda a, b: a + b)
_arithmetic("subtract", "Takes a number away", ("3", "2"), lambda a, b: a - b)
_arithmetic("multiply", "Multiplies by a number", ("2", "6"), lambda a, b: a * b)
_arithmetic("divide", "Divides by a number", ("13550", "135.5"), _divide)


@step(
    "money",
    "number",
    "amount",
    "money",
    "An amount with its currency, shown as the reader writes it",
    ("135.50", "€135.50"),
    Parameter("currency", "an ISO 4217 code or a path; the order's where left out", path=True),
    Parameter("minor_units", "whether the number counts cents", "flag", False),
    Parameter("locale", "a fixed locale; the reader's where left out"),
)
def money(value: Value, p: dict[str, Any], context: Context) -> Value:
    given = (p["currency"] or "").strip().upper()
    amount, named = coerce.amount_of(value, given or context.currency.strip().upper(), context)
    currency = given or named
    if not stdlib_re.fullmatch(r"[A-Z]{3}", currency):
        raise StepFailed("No currency is known for this amount.", "Give an ISO 4217 code, or its path.")
    if p["minor_units"]:
        from babel.numbers import get_currency_precision

        amount = amount.scaleb(-get_currency_precision(currency))
    made = Money(amount, currency)
    return show_money(made, p["locale"]) if p["locale"] else made


# ---- dates --------------------------------------------------------------------------------------------------------


@step(
    "parse_date",
    "date",
    "text",
    "date",
    "Reads a date that is written in a form of its own",
    ("03.11.2026 18:22", "November 3, 2026"),
    Parameter("format", "as Python's strptime writes it: %d.%m.%Y %H:%M", required=True),
    Parameter("zone", "an IANA time zone; the store's where left out"),
)
def parse_date(value: str, p: dict[str, Any], context: Context) -> Day:
    try:
        moment = dt.datetime.strptime(value.strip(), p["format"])
    except ValueError:
        raise StepFailed(
            f"{coerce.named(value)[0].upper()}{coerce.named(value)[1:]} is not written like {p['format']}."
        ) from None
    if not stdlib_re.search(r"%[HIMSTXcs]", p["format"]):
        return Day(moment.date())
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=_zone(p["zone"]) if p["zone"] else context.zone)
    return Day(context.in_zone(moment))


@step(
    "epoch",
    "date",
    "number",
    "date",
    "Reads seconds or milliseconds since 1970",
    ("1793698867", "November 3, 2026"),
    Parameter("unit", "what is counted", "choice", "seconds", ("seconds", "milliseconds")),
)
def epoch(value: Decimal, p: dict[str, Any], context: Context) -> Day:
    seconds = float(value) / (1000 if p["unit"] == "milliseconds" else 1)
    if not -62_000_000_000 < seconds < 250_000_000_000:
        raise StepFailed(f"{value} {p['unit']} since 1970 is outside the calendar.")
    return Day(context.in_zone(dt.datetime.fromtimestamp(seconds, dt.UTC)))


@step(
    "add_days",
    "date",
    "date",
    "date",
    "So many days later, or earlier",
    ("2026-11-03", "November 10, 2026"),
    Parameter("days", "how many; negative is earlier", "number", required=True, path=True),
)
def add_days(value: Day, p: dict[str, Any], _: Context) -> Day:
    return _shift(value, whole(p["days"], -36500, 36500, "days"))


def _shift(value: Day, days: int) -> Day:
    try:
        return Day(value.value + dt.timedelta(days=days), value.format)
    except OverflowError:
        raise StepFailed("The day is outside the calendar.") from None


@step(
    "add_business_days",
    "date",
    "date",
    "date",
    "So many working days later: not Saturdays, Sundays, or a country's holidays",
    ("2026-12-23", "December 30, 2026"),
    Parameter("days", "how many", "number", required=True, path=True),
    Parameter("country", "whose holidays (ISO 3166-1); the order's where left out", path=True),
)
def add_business_days(value: Day, p: dict[str, Any], context: Context) -> Day:
    days = whole(p["days"], -400, 400, "days")
    country = (p["country"] or context.country or "").upper()
    free = _holidays(country)
    at = value
    while days:
        at = _shift(at, 1 if days > 0 else -1)
        date = at.value.date() if isinstance(at.value, dt.datetime) else at.value
        if date.weekday() < 5 and date not in free:
            days -= 1 if days > 0 else -1
    return at


@lru_cache(maxsize=64)
def _holidays(country: str) -> Any:
    import holidays  # a tenth of a second, for those who need it

    if not country:
        return ()
    try:
        return holidays.country_holidays(country)
    except NotImplementedError:
        raise StepFailed(f"No holidays are known for “{country}”.", "Give another country, or leave it out.") from None


@step(
    "timezone",
    "date",
    "date",
    "date",
    "The same moment on another place's clocks",
    ("09:41 UTC", "10:41"),
    Parameter("zone", "an IANA time zone", required=True, path=True),
)
def timezone(value: Day, p: dict[str, Any], _: Context) -> Day:
    if not isinstance(value.value, dt.datetime):
        raise StepFailed("This is a day without a time, which is the same everywhere.")
    return Day(value.value.astimezone(_zone(p["zone"])), value.format)


def _zone(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise StepFailed(f"“{name}” is no time zone of the IANA database.", "Write it like Europe/Dublin.") from None


@step(
    "date",
    "date",
    "date",
    "date",
    "How a date is shown: in the reader's language, or a fixed one",
    ("2026-11-10", "Tuesday, November 10"),
    Parameter(
        "format", "day (weekday and day), short, medium, long, full, or a CLDR pattern such as d MMMM", default="long"
    ),
    Parameter("locale", "a fixed locale; the reader's where left out"),
)
def date(value: Day, p: dict[str, Any], _: Context) -> Value:
    made = Day(value.value, p["format"] or "long")
    if p["format"] in ("day", "short", "medium", "long", "full") and isinstance(made.value, dt.datetime):
        made = Day(made.value.date(), made.format)
    try:
        text = show_day(made, p["locale"] or "en")
    except (ValueError, AttributeError, KeyError, TypeError):
        raise StepFailed(
            f"“{p['format']}” is no date pattern.", "Use long, or a CLDR pattern such as d MMMM y."
        ) from None
    return text if p["locale"] else made


# ---- lists --------------------------------------------------------------------------------------------------------


@step(
    "pick",
    "list",
    "list",
    "list",
    "One field of each item",
    ("the lines", "their titles"),
    Parameter("key", "the field's name, or a path in the item", required=True),
)
def pick(value: list[Any], p: dict[str, Any], _: Context) -> list[Any]:
    found = [picked for picked in (_field(item, p["key"]) for item in value[:MAX_ITEMS]) if picked is not None]
    if value and not found:
        raise StepFailed(f"No item has a field “{p['key']}”.", _has(value))
    return found


def _field(item: Any, key: str) -> Any:
    if isinstance(item, dict) and key in item:
        return item[key]
    path = key if key.startswith("$") else f"$.{key}" if stdlib_re.fullmatch(r"\w+([.]\w+|\[\d+\])*", key) else None
    if path is None:
        return None
    found = _at(path, item)
    return None if found is MISSING else found


def _has(items: list[Any]) -> str:
    first = next((item for item in items if isinstance(item, dict)), None)
    return f"The first has: {', '.join(list(first)[:12])}." if first else ""


@step(
    "where",
    "list",
    "list",
    "list",
    "Only the items whose field is what you say",
    ("the contacts", "those of kind email"),
    Parameter("key", "the field", required=True),
    Parameter("equals", "what it has to be", required=True, path=True),
)
def where(value: list[Any], p: dict[str, Any], context: Context) -> list[Any]:
    def same(item: Any) -> bool:
        found = _field(item, p["key"])
        return (
            found is not None
            and not isinstance(found, dict | list)
            and coerce.text(found, context) == coerce.text(p["equals"], context)
        )

    return [item for item in value[:MAX_ITEMS] if same(item)]


@step(
    "sort",
    "list",
    "list",
    "list",
    "In order, of themselves or by a field",
    ("b, a", "a and b"),
    Parameter("key", "the field, where the items are objects"),
    Parameter("descending", "largest first", "flag", False),
)
def sort(value: list[Any], p: dict[str, Any], context: Context) -> list[Any]:
    def rank(item: Any) -> tuple[int, Decimal, str]:
        found = _field(item, p["key"]) if p["key"] else item
        as_number = number_of(found, context.decimal_sign())
        if as_number is not None:
            return (0, as_number, "")
        return (1, Decimal(0), "" if isinstance(found, dict | list) else coerce.text(found, context).casefold())

    return sorted(value[:MAX_ITEMS], key=rank, reverse=bool(p["descending"]))


@step("unique", "list", "list", "list", "Each only once, in the order of the first", ("a, b, a", "a and b"))
def unique(value: list[Any], p: dict[str, Any], _: Context) -> list[Any]:
    seen: set[str] = set()
    kept = []
    for item in value[:MAX_ITEMS]:
        mark = json.dumps(item, sort_keys=True, default=repr)
        if mark not in seen:
            seen.add(mark)
            kept.append(item)
    return kept


@step(
    "join",
    "list",
    "list",
    "text",
    "One text from a list",
    ("a, b, c", "a, b and c"),
    Parameter("separator", "text between two marks", default=", "),
    Parameter("last", "text before the last; the same as between if left out"),
)
def join(value: list[Any], p: dict[str, Any], context: Context) -> str:
    texts = [coerce.text(item, context) for item in value if item is not None]
    between = ", " if p["separator"] is None else p["separator"]
    if p["last"] and len(texts) > 1:
        return between.join(texts[:-1]) + str(p["last"]) + texts[-1]
    return str(between).join(texts)


@step(
    "each",
    "list",
    "list",
    "list",
    "A text for each item, made by a small template",
    ("the lines", "2 × braided line"),
    Parameter("text", "`{{ quantity }} × {{ title }}`: fields of the item by name", required=True),
)
def each(value: list[Any], p: dict[str, Any], context: Context) -> list[str]:
    return [render_item(p["text"], item, context) for item in value[:1000]]


@step("first", "list", "list", "any", "The first item", ("a, b", "a"))
def first(value: list[Any], p: dict[str, Any], _: Context) -> Value:
    if not value:
        raise StepFailed("The list is empty.")
    return value[0]


@step("last", "list", "list", "any", "The last item", ("a, b", "b"))
def last(value: list[Any], p: dict[str, Any], _: Context) -> Value:
    if not value:
        raise StepFailed("The list is empty.")
    return value[-1]


@step("count", "list", "list", "number", "How many there are", ("a, b", "2"))
def count(value: list[Any], p: dict[str, Any], _: Context) -> int:
    return len(value)


@step(
    "sum",
    "list",
    "list",
    "number",
    "All added up, of themselves or by a field",
    ("1, 2", "3"),
    Parameter("key", "the field, where the items are objects"),
)
def sum_(value: list[Any], p: dict[str, Any], context: Context) -> Decimal:
    return sum((coerce.number(_field(item, p["key"]) if p["key"] else item, context) for item in value), Decimal(0))


@step(
    "group",
    "list",
    "list",
    "list",
    "Items with the same field together, with their count",
    ("the lines", "by sku"),
    Parameter("key", "the field", required=True),
)
def group(value: list[Any], p: dict[str, Any], context: Context) -> list[Any]:
    groups: dict[str, list[Any]] = {}
    for item in value[:MAX_ITEMS]:
        found = _field(item, p["key"])
        groups.setdefault(
            "" if found is None or isinstance(found, dict | list) else coerce.text(found, context), []
        ).append(item)
    return [{"key": key, "count": len(members), "items": members} for key, members in groups.items()]


@step(
    "collect",
    "list",
    "object",
    "list",
    "Makes a list from numbered fields",
    ("item_1_name, item_2_name", "a list of 2"),
    Parameter("pattern", "how they are named: item_{n}_{field}", required=True),
)
def collect(value: dict[str, Any], p: dict[str, Any], _: Context) -> list[Any]:
    pattern = p["pattern"]
    if "{n}" not in pattern:
        raise StepFailed("The pattern has to hold {n}, for the number.", "Write it like item_{n}_{field}.")
    form = stdlib_re.escape(pattern).replace(r"\{n\}", r"(?P<n>\d{1,5})").replace(r"\{field\}", r"(?P<field>.+)")
    found: dict[int, Any] = {}
    for key, item in value.items():
        match = stdlib_re.fullmatch(form, key)
        if match:
            number = int(match["n"])
            if "field" in match.groupdict():
                found.setdefault(number, {})[match["field"]] = item
            else:
                found[number] = item
    if not found:
        raise StepFailed(f"No field is named like {pattern}.")
    return [found[n] for n in sorted(found)]


# ---- phone, address, JSON -----------------------------------------------------------------------------------------


@step(
    "phone",
    "text",
    "text",
    "text",
    "A phone number in one form, read in any",
    ("+49 (30) 23125-014", "+493023125014"),
    Parameter(
        "region", "the country of national numbers (ISO 3166-1) or a path; the order's where left out", path=True
    ),
    Parameter("form", "how it is written", "choice", "e164", ("e164", "national", "international")),
)
def phone(value: str, p: dict[str, Any], context: Context) -> str:
    try:
        return phone_text(read_phone(value, p["region"] or context.country or None), str(p["form"]))
    except BadPhone as error:
        raise StepFailed(str(error), "Say which region national numbers are of.") from None


@step("urlencode", "text", "text", "text", "Makes it safe inside a web address (RFC 3986)", ("a b&c", "a%20b%26c"))
def urlencode_(value: str, p: dict[str, Any], _: Context) -> str:
    return quote(value, safe="")


@step(
    "add_query",
    "text",
    "text",
    "text",
    "Adds a parameter to a web address",
    ("https://example.com/o", "https://example.com/o?no=7"),
    Parameter("name", "the parameter", required=True),
    Parameter("value", "its value, or a path", path=True, required=True),
)
def add_query(value: str, p: dict[str, Any], context: Context) -> str:
    parts = urlsplit(coerce.url(value, context))
    query = [*parse_qsl(parts.query, keep_blank_values=True), (p["name"], coerce.text(p["value"], context))]
    return urlunsplit(parts._replace(query=urlencode(query)))


@step(
    "parse_json",
    "choose",
    "text",
    "any",
    "Reads JSON inside a text, then a path in it",
    ('{"account":"jo"}', "jo"),
    Parameter("path", "where in it; all of it where left out"),
)
def parse_json(value: str, p: dict[str, Any], _: Context) -> Value:
    try:
        inner = json.loads(value)
    except (ValueError, RecursionError):
        raise StepFailed(f"This is no JSON: {coerce.named(value)}.") from None
    if not p["path"]:
        return inner
    found = _at(p["path"], inner)
    if found is MISSING:
        raise StepFailed(f"The JSON has nothing at {p['path']}.")
    return found


@step(
    "show",
    "text",
    "any",
    "text",
    "As a reader of a fixed locale sees it",
    ("135.5", "135,50 €"),
    Parameter("locale", "the locale", default="en"),
)
def show_(value: Value, p: dict[str, Any], _: Context) -> str:
    locale_of(p["locale"] or "en")
    return show(value, p["locale"] or "en")


def fitting(value: Value) -> list[StepKind]:
    """The steps that can take a value like this one, for the picker."""
    if isinstance(value, list):
        kinds = {"any", "list"}
    elif isinstance(value, dict):
        kinds = {"any", "object"}
    elif isinstance(value, Day):
        kinds = {"any", "date", "text"}
    elif isinstance(value, Money):
        kinds = {"any", "number", "amount", "money"}
    elif value is None:
        return [kind for kind in STEPS.values() if kind.takes_nothing]
    else:
        kinds = {"any", "text"}
        if number_of(value, ".") is not None:
            kinds |= {"number", "amount"}
        try:
            coerce.day(value, Context())
            kinds.add("date")
        except StepFailed:
            pass
    return [kind for kind in STEPS.values() if kind.takes in kinds]
