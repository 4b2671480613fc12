"""Reading and mapping: how long a payload takes, and how good the guesses are."""

from __future__ import annotations

import json
import time
from zoneinfo import ZoneInfo

from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import Variables
from angelon.core.shape import Shape
from angelon.core.specs.variable import Recipe, Variable
from angelon.engine.clock import utc_now
from bench.rows import Row, median
from tests import made


def payload_of_20_kb() -> dict:
    """An order with as many lines as make 20 KB of JSON."""
    lines = [
        {
            "sku": f"SKU-{n:04}",
            "title": f"Heron 1.8 m delta number {n}",
            "quantity": n % 3 + 1,
            "price": "119.00",
            "options": {"colour": "rust", "tail": "ribbon"},
        }
        for n in range(140)
    ]
    made_ = made.order(lines=lines)
    assert 18_000 < len(json.dumps(made_)) < 24_000, len(json.dumps(made_))
    return made_


STEPS = [
    ("$.buyer.name", ["strip", "lower", "title"]),
    ("$.reference", [{"removeprefix": {"prefix": "BK-"}}, "strip", {"replace": {"old": "0", "new": "O"}}]),
    ("$.total", ["number", {"multiply": {"by": 2}}, {"money": {"currency": "$.currency"}}]),
    ("$.placed_at", [{"add_days": {"days": 7}}, {"add_days": {"days": 1}}, {"date": {"format": "day"}}]),
    ("$.state", ["upper", "lower", {"truncate": {"length": 20}}]),
    ("$.lines[0].title", ["strip", {"slice": {"start": 0, "end": 12}}, "upper"]),
]


def mapping(rounds: int = 200) -> list[Row]:
    payload = payload_of_20_kb()
    recipes = {f"v{n}": Recipe.model_validate({"path": STEPS[n % 6][0], "steps": STEPS[n % 6][1]}) for n in range(30)}
    kinds = {"2": "money", "3": "date"}
    variables = {
        name: Variable.model_validate({"name": name, "type": kinds.get(str(n % 6), "text")})
        for n, name in enumerate(recipes)
    }
    context = Context(payload=payload, zone=ZoneInfo("Europe/Dublin"), currency="EUR", country="IE")
    took, parsed = [], []
    for _ in range(rounds):
        began = time.perf_counter()
        worked = Variables(variables, recipes, context)
        for name in recipes:
            assert worked[name].present
        took.append((time.perf_counter() - began) * 1000)
        began = time.perf_counter()
        json.loads(json.dumps(payload))
        parsed.append((time.perf_counter() - began) * 1000)
    shape, learning = Shape(), []
    for _ in range(rounds):
        began = time.perf_counter()
        shape.learn([(payload, utc_now())])
        learning.append((time.perf_counter() - began) * 1000)
    return [
        Row(
            "30 variables of three steps on 20 KB",
            median(took),
            "ms",
            "<= 1.0",
            {"of writing and reading that JSON": median(took) / median(parsed)},
        ),
        Row("a shape takes in 20 KB", median(learning), "ms", "<= 1.0", {"paths": len(shape.paths)}),
    ]


def guesses() -> list[Row]:
    """How many parts rank first right: on shapes that the words and rules were worked out with, and on shapes held out
    from that, written before and after it.
    """
    from tests.shapes import CASES, first_right, value_cases, values_right

    right, total, _ = first_right()
    rows = [
        Row(
            "parts of the reading guessed right at first, shapes tuned for",
            right / total,
            "ratio",
            ">= 0.85",
            {"parts": total, "shapes": len(CASES)},
        )
    ]
    for which in ("before", "after"):
        cases = value_cases(which)
        right, total, _, surely_wrong = values_right(cases)
        rows.append(
            Row(
                f"parts guessed right at first, shapes held out, written {which}",
                right / total,
                "ratio",
                ">= 0.9",
                {"parts": total, "shapes": len(cases), "sure and wrong": len(surely_wrong)},
            )
        )
    return rows
