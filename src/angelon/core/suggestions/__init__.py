"""Which field of a payload is which part of an order: ranked guesses, each with its reason.

Looks at what a key's words mean (in several languages, run together, shortened or misspelt), at where a field stands,
and at what its values look like, over all samples. An email address is an email address wherever it stands.
"""

from __future__ import annotations

import dataclasses
import json
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from rapidfuzz import fuzz

from angelon.core.payload.paths import child
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS, READING
from angelon.core.specs.variable import Recipe, Type, Variable
from angelon.core.suggestions import looks
from angelon.core.suggestions.meaning import meaning, words
from angelon.core.suggestions.parts import LINE, PARCEL, PARCEL_MORE, PARTS, Part
from angelon.core.suggestions.places import Place, places
from angelon.core.values import number_of

__all__ = ["Suggestion", "orders_in", "suggest", "suggest_item", "suggest_variables", "sure", "words"]

SURE = 0.74
"""From which score a guess may be called sure."""
MARGIN = 0.05
MOST = 6
_CALLED = {"shown": "that people see it", "each": "price", "minor": "cents", "first": "first name", "created": "placed"}
OF_ORDERS = 0.6
"""The most that a guess is worth in a payload that is a list of orders: split, its paths are others."""


@dataclass(frozen=True)
class Suggestion:
    """One guess: a recipe, what it gives in the first sample that has it, and how good it is, from 0 to 1."""

    recipe: Recipe
    value: Any
    score: float
    reason: str

    @property
    def path(self) -> str:
        return self.recipe.path


def suggest(samples: Sequence[Any]) -> dict[str, list[Suggestion]]:
    """Ranked guesses for every part of the reading."""
    at, split = places(samples), orders_in(samples)
    found: dict[str, list[Suggestion]] = {name: _rank(part, at, len(samples), split) for name, part in PARTS.items()}
    where = str(found["country"][0].value) if found["country"] and found["country"][0].score >= 0.4 else ""
    if where:
        found["phone"] = _rank(
            dataclasses.replace(PARTS["phone"], look=partial(looks.phone, country=where)), at, len(samples), split
        )
    found["name"] = sorted([*_whole_names(at), *found["name"]], key=lambda s: -s.score)[:MOST]
    found["total"] = _largest_first(found["total"])
    found["lines"] = _lists("item", LINE, at)
    found["parcels"] = _lists("parcel", PARCEL, at) or _one_parcel(samples)
    found["address"] = _addresses(samples)
    found["reference"] = _same_for_one_order(found["reference"], found["number"], at, len(samples))
    _settle_numbers(found)
    _one_part_each(found)
    if split is not None:
        found = {name: [_capped(s, OF_ORDERS) for s in ranked] for name, ranked in found.items()}
    return {name: found.get(name, []) for name in READING}


def suggest_item(kind: str, items: Sequence[Any]) -> dict[str, list[Suggestion]]:
    """Ranked guesses for the parts of a line or parcel, from items as a source lists them. Paths start at the item."""
    parts = LINE if kind == "line" else PARCEL | PARCEL_MORE
    objects = [item for item in items if isinstance(item, dict)]
    at = _fields_of(objects)
    return {name: _rank(parts[name], at, len(objects)) for name in (LINE_PARTS if kind == "line" else PARCEL_PARTS)}


def sure(suggestions: Sequence[Suggestion]) -> Suggestion | None:
    """The first guess where it is good, and clearly better than the next that gives another value."""
    if not suggestions or suggestions[0].score < SURE:
        return None
    others = [s for s in suggestions[1:] if s.value != suggestions[0].value]
    return suggestions[0] if not others or suggestions[0].score - others[0].score >= MARGIN else None


def orders_in(samples: Sequence[Any]) -> str | None:
    """The path of the list whose items are orders, where a payload holds several of them rather than one."""
    for sample in samples:
        lists: list[tuple[str, Any]] = []
        if isinstance(sample, list):
            lists = [("$", sample)]
        elif isinstance(sample, dict) and len(sample) <= 8:
            lists = [(child("$", key), inner) for key, inner in sample.items() if isinstance(inner, list)]
            lists += [
                (child(child("$", key), name), deep)
                for key, inner in sample.items()
                if isinstance(inner, dict) and len(inner) <= 8
                for name, deep in inner.items()
                if isinstance(deep, list)
            ]
        for path, items in lists:
            objects = [item for item in items if isinstance(item, dict)]
            if objects and len(objects) == len(items) and all(_is_order(item) for item in objects[:3]):
                return path
    return None


def _is_order(item: dict[str, Any]) -> bool:
    """Whether an object names an order, and says whose it is, what it costs or what was bought."""
    at = places([item])

    def there(name: str, least: float) -> bool:
        ranked = _rank(PARTS[name], at, 1)
        return bool(ranked) and ranked[0].score >= least

    named = there("number", 0.66) or there("reference", 0.66)
    says = [there("email", 0.6), there("total", 0.72), there("status", 0.72), there("placed_at", 0.72)]
    return named and sum(says) + bool(_lists("item", LINE, at)) >= 2


# ---- ranking ------------------------------------------------------------------------------------------------------


OF_ONE_ITEM = 0.6
"""The most that a guess is worth of a field of a list's first item: the order has other items besides."""


def _rank(part: Part, at: Iterable[Place], total: int, split: str | None = None) -> list[Suggestion]:
    """Guesses for a part. `split` is the path of the list whose items are orders, where there is one."""
    ranked = []
    identifies = part is PARTS["reference"] or part is PARTS["number"]
    for place in at:
        if place.items or place.value is None:
            continue
        of_item = place.is_first_of_several and not (split and place.path.startswith(f"{split}[0]"))
        if of_item and identifies:
            continue
        present = [v for v in place.values if v not in (None, "")]
        look = sum(part.look(v) for v in present[:8]) / len(present[:8])
        if look == 0:
            continue
        named = part.named(place, look)
        if named == 0 and look >= 0.9:
            named = part.alone
        if named < 0.3:
            continue
        rarely = 0.08 * (1 - len(present) / max(total, 1))
        deep = 0.01 * len([parent for parent in place.parents if "wrapper" not in meaning(parent)])
        favour = 0.07 if place.around & part.favoured else 0.0
        score = 0.62 * named + 0.3 * look + 0.03 + favour - deep - rarely - _against(part, place)
        if of_item and part.named in _OF_THE_ORDER:
            score = min(score, OF_ONE_ITEM)
        if identifies:
            score -= 0.3 if len(present) > 2 and len({str(v) for v in present}) == 1 else 0.0
        if score < 0.2:
            continue
        word = _CALLED.get(said := next((said for said in part.says if said in place.own), ""), said) or "so"
        says = f"its name says {word}" if named >= 0.6 else f"its name may say {word}"
        reason = f"{says}, and it {part.label}" if named > part.alone or named >= 0.6 else ""
        ranked.append(
            Suggestion(
                _recipe(place, part),
                place.value,
                round(max(0.0, min(score, 1.0)), 3),
                reason or f"its name does not say so, but it {part.label}",
            )
        )
    return sorted(ranked, key=lambda s: -s.score)[:MOST]


_OF_THE_ORDER = frozenset(part.named for part in PARTS.values())


def _against(part: Part, place: Place) -> float:
    own = max((much for word, much in part.against if word in place.own), default=0.0)
    around = place.of_order if part is PARTS["reference"] or part is PARTS["number"] else place.around
    return own + max((much for word, much in part.around if word in around), default=0.0)


def _recipe(place: Place, part: Part | None) -> Recipe:
    steps: list[Any] = list(place.steps)
    value = place.value
    if part is not None and part.look is looks.date and isinstance(value, str):
        pattern = looks.date_format(value.strip())
        if pattern:
            steps.append({"parse_date": {"format": pattern}})
    if part is not None and part.look is looks.money and "minor" in meaning(place.key):
        given: dict[str, Any] = {"minor_units": True}
        if place.currency and not place.steps and "?" not in place.currency:
            given["currency"] = place.currency
        steps.append({"money": given})
    return Recipe.model_validate({"path": place.path, "steps": steps})


def _capped(suggestion: Suggestion, most: float) -> Suggestion:
    return dataclasses.replace(suggestion, score=min(suggestion.score, most))


def _largest_first(ranked: list[Suggestion]) -> list[Suggestion]:
    """Of totals that are as good as each other, the largest: the others are parts of it."""
    if not ranked:
        return ranked
    close = [s for s in ranked if ranked[0].score - s.score < 0.02]
    largest = max(close, key=lambda s: number_of(s.value, ".") or 0)
    return [largest, *(s for s in ranked if s is not largest)]


def _same_for_one_order(
    references: list[Suggestion], numbers: list[Suggestion], at: Sequence[Place], total: int
) -> list[Suggestion]:
    """What differs between two deliveries of one number names the delivery, and not the order."""
    values = {place.path: place.values for place in at if not place.items and len(place.values) == total}
    number = sure(numbers)
    if number is None or number.path not in values:
        return references

    def differs(path: str) -> bool:
        first: dict[str, str] = {}
        pairs = zip(values[number.path], values.get(path, []), strict=False)
        return any(first.setdefault(str(n), str(v)) != str(v) for n, v in pairs if "" not in (n, v) and n is not None)

    told = [
        dataclasses.replace(_capped(s, 0.3), reason="it differs between deliveries of one order")
        if differs(s.path)
        else s
        for s in references
    ]
    return sorted(told, key=lambda s: -s.score)


def _settle_numbers(found: dict[str, list[Suggestion]]) -> None:
    """The internal reference and the number that customers see: two fields where there are two, else one is both."""
    references, numbers = found["reference"], found["number"]
    if not references or not numbers:
        there = references or numbers
        lent = [
            dataclasses.replace(s, score=round(s.score * 0.95, 3), reason="nothing else names the order") for s in there
        ]
        found["reference"], found["number"] = references or lent, numbers or lent
        return
    pairs = [
        (r.score + n.score - (0.14 if r.recipe == n.recipe else 0.0), r, n)
        for r in references[:3]
        for n in numbers[:3]
        if r.recipe == n.recipe or min(r.score, n.score) >= 0.4
    ]
    if pairs:
        _, reference, number = max(pairs, key=lambda pair: pair[0])
        rest = [s for s in references if s is not reference]
        if reference.recipe == number.recipe:  # nothing else names the order
            reference = dataclasses.replace(reference, score=max(reference.score, round(number.score - 0.04, 3)))
        found["reference"] = [reference, *rest]
        found["number"] = [number, *(s for s in numbers if s is not number)]


def _one_part_each(found: dict[str, list[Suggestion]]) -> None:
    """Lets each field be the first guess for one part only; the number and the reference may be one field."""
    first: dict[str, str] = {}
    for name in sorted(found, key=lambda name: -(found[name][0].score if found[name] else 0.0)):
        ranked = found[name]
        while ranked:
            mark = str(ranked[0].recipe.model_dump())
            holder = first.get(mark)
            if holder is None or {holder, name} == {"number", "reference"}:
                first.setdefault(mark, name)
                break
            lower = _capped(ranked[0], 0.3)
            rest = ranked[1:]
            if not rest or rest[0].score <= 0.3:
                found[name] = ranked = [*rest, lower]
                break
            found[name] = ranked = [*rest, lower]


# ---- names, lists, addresses ----------------------------------------------------------------------------------------


def _whole_names(at: list[Place]) -> list[Suggestion]:
    """Names kept in two fields side by side, as one."""
    by_parent: dict[tuple[str, frozenset[str]], dict[str, Place]] = {}
    for place in at:
        side = _side_of_name(place) if not place.items and isinstance(place.value, str) and not place.steps else ""
        if side:
            parent = place.path[: -len(child("", place.key))] or "$"
            rest = place.own - {"first", "last", "name", "full"}
            by_parent.setdefault((parent, rest), {}).setdefault(side, place)
    found = []
    for (parent, rest), sides in by_parent.items():
        given = sides.get("first") or sides.get("name")
        family = sides.get("last") or (sides.get("name") if "first" in sides else None)
        if given is None or family is None or given is family:
            continue
        recipe = Recipe.model_validate(
            {
                "path": f"{parent}[{json.dumps(given.key)}, {json.dumps(family.key)}]",
                "steps": [{"join": {"separator": " "}}],
            }
        )
        about = given.around | rest
        score = 0.86 + (0.1 if "customer" in about else 0.04 if "billing" in about else 0.0)
        score -= _against(PARTS["name"], given)
        found.append(
            Suggestion(
                recipe,
                f"{given.value} {family.value}",
                round(max(0.0, min(1.0, score)), 3),
                f"{given.key} and {family.key} stand side by side",
            )
        )
    return found


def _side_of_name(place: Place) -> str:
    """Which half of a name a field may hold; `name` where it may be either, or all of it."""
    own = place.own
    if own & {"first", "last"} == {"first", "last"} or not looks.person(place.value):
        return ""
    return "first" if "first" in own else "last" if "last" in own else "name" if "name" in own else ""


def _lists(concept: str, parts: dict[str, Part], at: list[Place]) -> list[Suggestion]:
    """Lists of objects that look like lines or parcels."""
    ranked = []
    for place in at:
        if not place.items:
            continue
        items = [i for v in place.values if isinstance(v, list) for i in v[:3] if isinstance(i, dict)]
        if not items:
            continue
        inner = _fields_of(items)
        known = [
            name for name, part in parts.items() if (fits := _rank(part, inner, len(items))) and fits[0].score >= 0.6
        ]
        mine = meaning(place.key.split("{")[0].strip("_.-"))
        above = meaning(place.parents[-1]) if place.parents else frozenset()
        named = 1.0 if concept in mine else 0.9 if concept in above and mine <= {"wrapper"} else 0.0
        other = 0.35 if (mine | above) & ({"parcel", "item"} - {concept}) and not named else 0.0
        score = (
            0.5 * named + 0.42 * (len(known) / len(parts)) + (0.1 if {"name", "number"} & set(known) else 0.0) - other
        )
        if "event" in mine or "status" in mine:
            score -= 0.3
        if score < 0.35:
            continue
        reason = f"a list of objects with {', '.join(known) or 'other fields'}" + (
            ", and its name says so" if named else ""
        )
        ranked.append(Suggestion(_recipe(place, None), place.values[0], round(min(score, 1.0), 3), reason))
    return sorted(ranked, key=lambda s: -s.score)[:MOST]


def _one_parcel(samples: Sequence[Any]) -> list[Suggestion]:
    """The object that is an event's only parcel: it has a number, and a carrier or an expected day."""
    ranked: list[Suggestion] = []

    def look(value: Any, path: str, key: str, depth: int) -> None:
        if not isinstance(value, dict) or depth > 4:
            return
        own = {name: inner for name, inner in value.items() if not isinstance(inner, dict | list)}
        at = _fields_of([own])
        fits = {name: _rank(part, at, 1) for name, part in PARCEL.items()}
        known = [name for name, one in fits.items() if one and one[0].score >= 0.6]
        named = "parcel" in meaning(key) or any("parcel" in place.own for place in at)
        if named and "number" in known and len(known) > 1:
            score = 0.6 + 0.1 * len(known)
            recipe = Recipe.model_validate({"path": path})
            ranked.append(Suggestion(recipe, value, score, f"an object with {', '.join(known)}"))
        for name, inner in value.items():
            look(inner, child(path, name), name, depth + 1)

    if samples:
        look(samples[0], "$", "", 0)
    return sorted(ranked, key=lambda s: -s.score)[:MOST]


def _fields_of(items: Sequence[dict[str, Any]]) -> list[Place]:
    return [place for place in places(items) if not place.items]


_ADDRESS = (
    ("line", re.compile(r"(street|line_?1?|address_?1?|addr|road)$")),
    ("line 2", re.compile(r"(line_?2|address_?2|addr_?2|extra)$")),
    ("postcode", re.compile(r"(zip|zip_?code|post_?code|postal(_?code)?)$")),
    ("city", re.compile(r"(city|town|place|locality)$")),
    ("country", re.compile(r"country(_?code)?$")),
)
_BOUND_FOR = re.compile(r"ship|deliver|recipient")


def _addresses(samples: Sequence[Any]) -> list[Suggestion]:
    """Objects that hold a street, a postcode and a town: their texts, a line each. What something is shipped to goes
    first.
    """
    ranked: list[Suggestion] = []

    def look(value: Any, path: str, depth: int) -> None:
        if not isinstance(value, dict) or depth > 6:
            return
        texts = [key for key, inner in value.items() if isinstance(inner, str) and inner]
        for prefix in sorted(
            {p for p in (key.lower().partition("_")[0] + "_" for key in texts) if _BOUND_FOR.search(p)}
        ) or [""]:
            parts = {
                part: next(
                    (
                        k
                        for k in texts
                        if k.lower().startswith(prefix) and pattern.match(k.lower().removeprefix(prefix))
                    ),
                    "",
                )
                for part, pattern in _ADDRESS
            }
            keys = [key for key in parts.values() if key]
            if parts["city"] and (parts["line"] or parts["postcode"]) and len(keys) >= 3:
                bound = bool(prefix or _BOUND_FOR.search(path.lower()))
                names = ", ".join(json.dumps(key) for key in keys)
                recipe = Recipe.model_validate({"path": f"{path}[{names}]", "steps": [{"join": {"separator": "\n"}}]})
                label = "where it is shipped to: " if bound else ""
                ranked.append(
                    Suggestion(
                        recipe,
                        ", ".join(value[key] for key in keys),
                        0.9 if bound else 0.6,
                        f"{label}fields called {', '.join(keys)}",
                    )
                )
        for key, inner in value.items():
            look(inner, child(path, key), depth + 1)

    if samples:
        look(samples[0], "$", 0)
    return sorted(ranked, key=lambda s: -s.score)[:MOST]


# ---- variables ------------------------------------------------------------------------------------------------------

_LOOKS: dict[Type, Callable[[Any], float]] = {
    Type.EMAIL: looks.email,
    Type.PHONE: looks.phone,
    Type.MONEY: looks.money,
    Type.DATE: looks.date,
    Type.NUMBER: lambda v: 1.0 if number_of(v, ".") is not None else 0.0,
    Type.URL: looks.link,
    Type.FLAG: lambda v: 1.0 if isinstance(v, bool) else 0.0,
    Type.TEXT: lambda v: 1.0 if isinstance(v, str | int) and not isinstance(v, bool) else 0.0,
}
_AS_PART = {
    "customer_name": "name",
    "order_number": "number",
    "total": "total",
    "items": "lines",
    "placed_on": "placed_at",
    "email": "email",
    "phone": "phone",
    "country": "country",
    "language": "language",
}


def suggest_variables(
    variables: Iterable[Variable], samples: Sequence[Any], reading: dict[str, list[Suggestion]]
) -> dict[str, list[Suggestion]]:
    """Ranked guesses for each variable, by its name; `reading` are those for the order's parts."""
    wanted = list(variables)
    at = places(samples) if wanted else []
    return {variable.name: _for_variable(variable, at, reading) for variable in wanted}


def _for_variable(variable: Variable, at: Sequence[Place], reading: dict[str, list[Suggestion]]) -> list[Suggestion]:
    """Ranked guesses for one variable: from its name and type, and from the part of the order that it is named
    after. One that holds a link comes from fields that hold links.
    """
    part = _AS_PART.get(variable.name) or (variable.name if variable.name in READING else "")
    found = list(reading.get(part, [])) if part else []
    if part == "lines":
        found = [_as_texts(s) for s in found]
    wanted = " ".join(words(variable.name))
    is_link = variable.type is Type.URL or bool({"link", "url"} & set(words(variable.name)))
    look = looks.link if is_link else _LOOKS.get(variable.type, lambda v: 0.0)
    for place in at:
        value = place.value
        if place.items:
            score = fuzz.ratio(wanted, " ".join(words(place.key))) / 100 if variable.type is Type.LIST else 0.0
        else:
            own, parent = " ".join(words(place.key)), " ".join(words(place.parents[-1])) if place.parents else ""
            close = max(fuzz.ratio(wanted, own), fuzz.ratio(wanted, f"{parent} {own}".strip())) / 100
            score = close * (0.4 + 0.6 * look(value)) if look(value) or not is_link else 0.0
        if score >= 0.6 and value is not None:
            dated = PARTS["placed_at"] if variable.type is Type.DATE else None
            found.append(
                Suggestion(
                    _recipe(place, dated),
                    value,
                    round(min(score, 1.0) * 0.98, 3),
                    f"its name is close to {variable.name}",
                )
            )
    best: dict[str, Suggestion] = {}
    for suggestion in found:
        mark = str(suggestion.recipe.model_dump())
        if mark not in best or best[mark].score < suggestion.score:
            best[mark] = suggestion
    return sorted(best.values(), key=lambda s: -s.score)[:MOST]


def _as_texts(lines: Suggestion) -> Suggestion:
    """A list of lines as texts that people read, where it is known which field is the name: `2 × braided line`."""
    inner = suggest_item("line", lines.value if isinstance(lines.value, list) else [])
    name, quantity = (
        inner[part][0].path.removeprefix("$.") if inner[part] and inner[part][0].score >= 0.5 else ""
        for part in ("name", "quantity")
    )
    if not name.isidentifier():
        return lines
    text = f"{{{{ {quantity} }}}} × {{{{ {name} }}}}" if quantity.isidentifier() else f"{{{{ {name} }}}}"
    recipe = Recipe.model_validate(
        {"path": lines.recipe.path, "steps": [*(s.model_dump() for s in lines.recipe.steps), {"each": {"text": text}}]}
    )
    return Suggestion(recipe, lines.value, lines.score, lines.reason)
