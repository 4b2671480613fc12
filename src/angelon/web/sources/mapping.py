"""The mapping page: a payload's fields, the variables, and what each recipe makes of the sample event."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from babel.numbers import get_currency_precision

from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.payload.tree import Field, fields
from angelon.core.reading import ITEM_TYPES, drifting
from angelon.core.recipes.evaluate import Evaluation, evaluate, label
from angelon.core.recipes.steps import StepKind, fitting
from angelon.core.shape import Drift, Shape
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS, READING, Source
from angelon.core.specs.variable import Recipe, Type, Variable
from angelon.core.suggestions import Suggestion, hundredths, orders_in, suggest, suggest_item, suggest_variables, sure
from angelon.core.values import Money, Value, show
from angelon.web.sample_event import SampleEvent

TREE_LIMIT = 600


@dataclass
class Row:
    """One line of the page's right side: a part of the reading, or a variable."""

    kind: str
    """`reading` or `recipes`."""
    name: str
    type: Type
    about: str
    recipe: Recipe | None
    evaluation: Evaluation | None
    shown: str
    places: list[str] = field(default_factory=list)
    """The payload's fields that it comes from, for its thread."""
    required: bool = True
    keep: bool = False
    suggestion: Suggestion | None = None
    others: list[Suggestion] = field(default_factory=list)
    drift: Drift | None = None
    root: str = ""
    """For a part of a line or parcel, where its first item stands in the payload."""

    @property
    def field_id(self) -> str:
        return f"{self.kind}.{self.name}"


@dataclass
class MappingPage:
    tree: list[Field]
    more: int
    reading: list[Row]
    variables: list[Row]
    line: list[Row] = field(default_factory=list)
    parcel: list[Row] = field(default_factory=list)
    open: str = ""
    sure: list[Row] = field(default_factory=list)
    """Rows whose suggestion is sure."""
    across: Across | None = None
    steps: list[StepKind] = field(default_factory=list)
    hundredths: Hundredths | None = None
    """Set where amounts may be told in cents, and nobody has said so."""
    several: str | None = None
    """The path of the list of orders that each delivery holds, where they are not read one by one yet."""

    @property
    def drifting(self) -> list[Row]:
        return [row for row in (*self.variables, *self.reading) if row.drift]

    @property
    def mapped(self) -> int:
        return sum(1 for row in self.variables if row.recipe is not None)

    @property
    def read(self) -> int:
        """Parts of the order that are mapped."""
        return sum(1 for row in self.reading if row.recipe is not None)


@dataclass(frozen=True)
class Hundredths:
    """Amounts that are whole numbers: an example as it is read now, and as it would be."""

    fields: list[str]
    path: str
    raw: str
    now: str
    then: str


@dataclass
class Across:
    """What an open row's recipe makes of all samples at hand: in how many there is a value, and the events where there
    is none.
    """

    total: int
    values: int
    missing: list[tuple[str, str]] = field(default_factory=list)
    shown: list[str] = field(default_factory=list)


def lay_out(
    source: Source,
    variables: dict[str, Variable],
    sample: SampleEvent,
    opened: str,
    locale: str,
    samples: list[SampleEvent],
    shapes: dict[str, Shape],
    as_live: Source,
) -> MappingPage:
    """Everything that the page shows, for a source as it stands, the sample event, and the samples beside it; `as_live`
    is the source without its draft.
    """
    tree = fields(sample.payload, TREE_LIMIT + 1) if sample.payload is not None else []
    payloads = [s.payload for s in samples if s.payload is not None]
    guesses = (
        suggest(payloads)
        if (payloads and any(part not in source.reading for part in READING))
        or (payloads and any(v not in source.recipes for v in variables))
        else {}
    )
    drifts = drifting(source, shapes)
    reading = []
    for part, (wanted, about) in READING.items():
        row = _row(
            "reading",
            part,
            wanted,
            about,
            source.reading.get(part),
            sample.reading.parts.get(part) if sample.reading else None,
            sample,
            locale,
            part in ("reference", "email"),
        )
        _guess(row, guesses.get(part, []))
        row.drift = drifts.get(row.field_id)
        reading.append(row)
    rows = []
    unmapped = [variable for name, variable in variables.items() if name not in source.recipes]
    guessed = suggest_variables(unmapped, payloads, guesses) if payloads else {}
    for name, variable in variables.items():
        recipe = source.recipes.get(name)
        row = _row(
            "recipes",
            name,
            variable.type,
            variable.about,
            recipe,
            sample.variables[name] if sample.variables and recipe is not None else None,
            sample,
            locale,
            variable.required,
        )
        if recipe is None:
            _guess(row, guessed.get(name, []))
        row.drift, row.keep = drifts.get(row.field_id), variable.keep
        rows.append(row)
    _guess_where_now([*reading, *rows], variables, payloads)
    page = MappingPage(tree[:TREE_LIMIT], max(0, len(tree) - TREE_LIMIT), reading, rows)
    page.open = opened
    page.several = orders_in(payloads) if not source.orders_at else None
    for kind, part, names in (("line", "lines", LINE_PARTS), ("parcel", "parcels", PARCEL_PARTS)):
        setattr(page, kind, _inner(source, kind, part, names, sample, locale))
    everything = [*reading, *rows, *page.line, *page.parcel]
    page.sure = [
        row
        for row in everything
        if row.recipe is None and row.suggestion is not None and sure([row.suggestion, *row.others])
    ]
    page.hundredths = _hundredths([*reading, *page.line], payloads, source, sample, locale, as_live)
    chosen = next((row for row in everything if row.field_id == opened), None)
    if chosen and chosen.recipe:
        page.steps = fitting(_value_before_next(chosen, sample))
        if chosen.kind in ("reading", "recipes"):
            page.across = _across(chosen, samples, locale)
    return page


def _hundredths(
    rows: list[Row], payloads: list[Any], source: Source, sample: SampleEvent, locale: str, as_live: Source
) -> Hundredths | None:
    """The amounts of the order and its lines that may be told in cents: none of their recipes has a step yet, all are
    whole numbers in every sample, and one of them is not live yet.
    """
    plain = [row for row in rows if row.type is Type.MONEY and row.recipe is not None and row.recipe.path]
    if not plain or any(row.recipe.steps for row in plain if row.recipe) or sample.payload is None:
        return None
    if all(row.recipe == (as_live.line if row.kind == "line" else as_live.reading).get(row.name) for row in plain):
        return None
    lines = source.reading.get("lines")
    if lines is not None and lines.steps:
        plain = [row for row in plain if row.kind != "line"]
    raw: list[Any] = []
    for row in plain:
        path = row.recipe.path if row.recipe else ""
        whole = f"{lines.path}[*]{path[1:]}" if row.kind == "line" and lines is not None else path
        try:
            for payload in payloads:
                found = compile_path(whole).find(payload)
                raw += found if isinstance(found, list) else [found]
        except BadPath:
            return None
    first = plain[0]
    value = first.evaluation.value if first.evaluation is not None else None
    if not isinstance(value, Money) or get_currency_precision(value.currency) == 0 or not hundredths.probable(raw):
        return None
    smaller = Money(value.amount.scaleb(-get_currency_precision(value.currency)), value.currency)
    path = first.recipe.path if first.recipe else ""
    shown = show(value, locale), show(smaller, locale)
    return Hundredths([row.field_id for row in plain], path, f"{value.amount:f}", *shown)


def _guess(row: Row, guesses: list[Suggestion]) -> None:
    if row.recipe is None and guesses and guesses[0].score >= 0.5:
        row.suggestion, row.others = guesses[0], guesses[1:4]


def _guess_where_now(rows: list[Row], variables: dict[str, Variable], payloads: list[Any]) -> None:
    """Of what is no longer where it was, where it probably is in the samples that lack it."""
    for row in rows:
        if row.drift is None or row.recipe is None:
            continue
        lacking = [payload for payload in payloads if not compile_path(row.drift.path).places(payload)]
        guesses = suggest(lacking) if lacking else {}
        if row.kind == "recipes" and lacking:
            guesses = suggest_variables([variables[row.name]], lacking, guesses)
        found = [one for one in guesses.get(row.name, []) if one.score >= 0.5 and one.path != row.recipe.path]
        row.suggestion, row.others = (found[0], found[1:4]) if found else (None, [])


def _inner(source: Source, kind: str, part: str, names: tuple[str, ...], sample: SampleEvent, locale: str) -> list[Row]:
    """The parts of a line or parcel, shown for the first item of the sample event."""
    recipe = source.reading.get(part)
    if recipe is None or sample.payload is None or sample.reading is None:
        return []
    evaluation = evaluate(recipe, Type.LIST, sample.reading.context)
    items = evaluation.value if isinstance(evaluation.value, list) else []
    first = items[0] if items else None
    root = ""
    if not recipe.steps and recipe.path:
        places = compile_path(recipe.path).places(sample.payload)
        root = f"{places[0]}[0]" if places else ""
    guesses = suggest_item(kind, items)
    rows = []
    for name in (*names, *(own for own in getattr(source, kind) if own not in names)):
        own = getattr(source, kind).get(name)
        wanted = ITEM_TYPES.get(name, Type.TEXT)
        made = (
            evaluate(own, wanted, replace(sample.reading.context, payload=first))
            if own is not None and first is not None
            else None
        )
        row = _row(
            kind,
            name,
            wanted,
            f"of each {kind}; the path starts at the {kind}"
            + ("" if name in names else f"; in a text {{{{ {kind}.{name} }}}} within a loop over the order’s {part}"),
            own,
            made,
            sample,
            locale,
            name == "name",
        )
        row.places = [root + row.recipe.path[1:]] if root and row.recipe and row.recipe.path.startswith("$") else []
        row.root = root
        _guess(row, guesses.get(name, []))
        rows.append(row)
    return rows


def _across(row: Row, samples: list[SampleEvent], locale: str) -> Across:
    """The open row over all samples."""
    across = Across(0, 0)
    for sample in samples:
        if sample.event is None or sample.reading is None or sample.variables is None:
            continue
        across.total += 1
        evaluation = sample.variables[row.name] if row.kind == "recipes" else sample.reading.parts.get(row.name)
        if evaluation is not None and evaluation.present:
            across.values += 1
            text = (
                show(evaluation.value, locale)
                if not isinstance(evaluation.value, list) or row.kind == "recipes"
                else f"{len(evaluation.value)} items"
            )
            if text not in across.shown and len(across.shown) < 4:
                across.shown.append(text[:60])
        else:
            across.missing.append((sample.event.id, sample.number))
    return across


def _value_before_next(row: Row, sample: SampleEvent) -> Value:
    """The value that the next step would be handed."""
    values = [line for line in (row.evaluation.lines if row.evaluation else []) if line.used and not line.problem]
    return values[-1].value if values else None


def _row(
    kind: str,
    name: str,
    wanted: Type,
    about: str,
    recipe: Recipe | None,
    evaluation: Evaluation | None,
    sample: SampleEvent,
    locale: str,
    required: bool,
) -> Row:
    text = ""
    if evaluation is not None and evaluation.problem is None:
        value = evaluation.value
        text = (
            f"{len(value)} {'item' if len(value) == 1 else 'items'}"
            if kind == "reading" and isinstance(value, list)
            else show(value, locale)
        )
    places: list[str] = []
    path = (evaluation.path if evaluation else "") or (recipe.path if recipe else "")
    if path and sample.payload is not None:
        try:
            places = compile_path(path).places(sample.payload)[:12]
        except BadPath:
            places = []
    return Row(kind, name, wanted, about, recipe, evaluation, text, places, required)


def column(row: Row, locale: str = "en") -> list[dict[str, Any]]:
    """The steps of an open row as lines: label, what came out, and which step it is (for editing)."""
    if row.recipe is None or row.evaluation is None:
        return []
    lines, done = [], row.evaluation.lines
    paths = [p for p in (row.recipe.path, *row.recipe.or_paths) if p]
    for number, line in enumerate(done):
        step = number - len(paths)
        lines.append(
            {
                "label": line.label,
                "value": "" if line.problem else value_line(line.value, locale),
                "problem": line.problem,
                "used": line.used,
                "path": number if number < len(paths) else None,
                "step": step if 0 <= step < len(row.recipe.steps) else None,
            }
        )
    reached = len(done) - len(paths)
    for number in range(max(reached, 0), len(row.recipe.steps)):
        lines.append(
            {
                "label": label(row.recipe.steps[number]),
                "value": "",
                "problem": None,
                "used": False,
                "path": None,
                "step": number,
            }
        )
    return lines


def value_line(value: Value, locale: str) -> str:
    """A value in one line, as a reader of `locale` has it; a dash for none."""
    if value is None:
        return "—"
    if isinstance(value, list):
        inner = ", ".join(show(item, locale) if not isinstance(item, dict) else "{…}" for item in value[:4])
        return f"[{inner}{', …' if len(value) > 4 else ''}] {len(value)}"
    if isinstance(value, dict):
        return "{" + ", ".join(list(value)[:5]) + "}"
    text = show(value, locale)
    return text if len(text) <= 120 else text[:119] + "…"
