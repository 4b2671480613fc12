"""Deliveries that no store should send and some do: each a change to an order, or a whole body."""

from __future__ import annotations

import copy
import json
import random
from typing import Any

from tests import made

BIG = int("9" * 400)
NAMED: dict[str, dict[str, Any] | bytes] = {
    "a total of 29 digits": {"total": "9" * 29},
    "a total of 30 nines as a number": {"total": int("9" * 30)},
    "a total of 1e26": {"total": 1e26},
    "a total of 1e28": {"total": 1e28},
    "a total of 1e300": {"total": 1e300},
    "a total of 1e-300": {"total": 1e-300},
    "a total of 4,300 digits": {"total": int("9" * 4300)},
    "a total with an exponent beyond all": {"total": "1e999999999"},
    "a total that is no number": {"total": "NaN"},
    "a total that is infinite": {"total": "Infinity"},
    "a total that is a list": {"total": [1, 2]},
    "a total that is an object": {"total": {"$money": 5}},
    "a total below zero": {"total": "-9" * 20},
    "a null total": {"total": None},
    "no date, as a moment": {"placed_at": "0001-01-01T00:00:00"},
    "no date, as a day": {"placed_at": "0001-01-01"},
    "no date, in UTC": {"placed_at": "0001-01-01T00:00:00Z"},
    "no date, west of Greenwich": {"placed_at": "0001-01-01T00:00:00-12:00"},
    "never, as a moment": {"placed_at": "9999-12-31T23:59:59"},
    "never, as a day": {"placed_at": "9999-12-31"},
    "never, east of Greenwich": {"placed_at": "9999-12-31T23:59:59+14:00"},
    "no date of change": {"changed_at": "0001-01-01T00:00:00"},
    "a change that is never": {"changed_at": "9999-12-31T23:59:59.999999"},
    "the year 1000": {"placed_at": "1000-01-01T00:00:00"},
    "the year 9000": {"placed_at": "9000-12-31T23:59:59"},
    "a date of 310 digits": {"placed_at": int("1" * 310)},
    "a date of seconds below zero": {"placed_at": -62135596800},
    "a date in milliseconds beyond": {"placed_at": 253402300799999},
    "a date that is a number beyond": {"placed_at": 1e300},
    "a date with an offset beyond": {"placed_at": "2026-01-01T00:00:00+99:99"},
    "a 61st second": {"placed_at": "2026-06-30T23:59:60Z"},
    "the 30th of February": {"placed_at": "2026-02-30T00:00:00"},
    "a date that is true": {"placed_at": True},
    "a 20-digit number in a line": {"lines": [{"title": "a", "sku": "s", "quantity": 1, "weird": 10**20}]},
    "a 400-digit number in a line": {"lines": [{"title": "a", "sku": "s", "quantity": 1, "weird": BIG}]},
    "a quantity of 30 digits": {"lines": [{"title": "a", "quantity": int("9" * 30)}]},
    "a quantity of 1e300": {"lines": [{"title": "a", "quantity": 1e300}]},
    "a price of 30 digits": {"lines": [{"title": "a", "quantity": 1, "price": "9" * 30}]},
    "a title that is a number over 64 bits": {"lines": [{"title": 10**30, "quantity": 1}]},
    "a title of our own key": {"lines": [{"title": {"$money": [1, 2]}, "quantity": 1}]},
    "our own keys as lines": {
        "lines": [
            {"$moment": ["2026-01-01", "long", "../../../etc/passwd"]},
            {"$number": "1e999999999"},
            {"$day": ["x"]},
            {"$object": 3},
        ]
    },
    "lines that are no list": {"lines": {"a": 1}},
    "lines of lists of lists": {"lines": [[[[1]]]]},
    "ten thousand lines": {"lines": [{"title": "a", "sku": "s", "quantity": 1}] * 3000},
    "a NUL in the name": {"buyer": {"name": "Jo\x00", "email": "jo@example.org"}},
    "a NUL in the number": {"reference": "BK-\x00"},
    "a NUL in the reference": {"id": "x\x00y"},
    "a NUL in the status": {"state": "paid\x00"},
    "a NUL in the language": {"language": "d\x00e"},
    "a status of 10,000 letters": {"state": "x" * 10_000},
    "a number of 10,000 letters": {"reference": "x" * 10_000},
    "a name of 100,000 letters": {"buyer": {"name": "x" * 100_000, "email": "jo@example.org"}},
    "an address of 10,000 letters": {"buyer": {"name": "Jo", "email": "x" * 10_000 + "@example.org"}},
    "a line break in the address": {"buyer": {"name": "Jo", "email": "jo@example.org\r\nBcc: all@example.org"}},
    "a line break in the name": {"buyer": {"name": "Jo\r\nBcc: all@example.org", "email": "jo@example.org"}},
    "a name of separators": {"buyer": {"name": "\u2028\u2029\u202e", "email": "jo@example.org"}},
    "a buyer that is a text": {"buyer": "Jo"},
    "a buyer that is a list": {"buyer": [{"name": "Jo"}]},
    "a country that is a number": {"buyer": {"name": "Jo", "email": "jo@example.org", "country": 49}},
    "a currency that is none": {"currency": "€€€"},
    "a currency of another script": {"currency": "ＥＵＲ"},
    "a language that is none": {"language": "xx-YY-zz-!!"},
    "an id of 400 digits": {"id": BIG},
    "an id that is a float": {"id": 1e22},
    "an id that is false": {"id": False},
    "an id that is an object": {"id": {"a": 1}},
    "a template in the name": {"buyer": {"name": "{{ 7 * 7 }}{% for x in y %}", "email": "jo@example.org"}},
    "half a surrogate pair inside a string of JSON": {"meta": '{"n": "A\\ud800"}'},
    "a string of JSON that nests deeply": {"meta": "[" * 30_000},
    "a list at the top": b"[1, 2, 3]",
    "a text at the top": b'"order"',
    "a number at the top": b"12345678901234567890123456789012345",
    "null at the top": b"null",
    "an empty object": b"{}",
    "60 levels": b'{"id": 1, "a": ' + b"[" * 60 + b"]" * 60 + b"}",
    "thirty thousand keys": b"{" + b",".join(b'"k%d": 1' % n for n in range(30_000)) + b"}",
    "a key of 100,000 letters": json.dumps({"id": 3, "x" * 100_000: 1}).encode(),
    "keys that look like paths": json.dumps({"id": 4, "$.a['b']": {"..": {"*": 1, "": 2, "\u2028": 3}}}).encode(),
    "the same key twice": b'{"id": 5, "total": 1, "total": 1e400, "total": "x"}',
}


def body(name: str) -> bytes:
    change = NAMED[name]
    return change if isinstance(change, bytes) else made.body(**change)


SCALARS: tuple[Any, ...] = (
    None,
    True,
    False,
    0,
    -1,
    1,
    2**63,
    2**64,
    10**29,
    1e26,
    1e300,
    -1e300,
    5e-324,
    "",
    " ",
    "0",
    "NaN",
    "9" * 30,
    "\x00",
    "\u2028",
    "0001-01-01T00:00:00",
    "9999-12-31T23:59:59",
    "1e999999",
    "x" * 5000,
    {},
    [],
    [[]],
    {"$money": ["1", "EUR"]},
    {"$moment": ["x", "y", "z"]},
    "{{ x }}",
    "²",
    "+49 30 1",
    "jo@",
    "2026-02-30",
)


def mutated(rng: random.Random, payload: Any) -> Any:
    """A payload with one to three of its places changed, taken away, doubled or wrapped."""
    made_one = json.loads(json.dumps(payload))
    for _ in range(rng.choice((1, 1, 2, 3))):
        places = list(_places(made_one))
        if not places:
            return made_one
        holder, key = rng.choice(places)
        how = rng.randrange(6)
        if how < 3:
            holder[key] = copy.deepcopy(rng.choice(SCALARS))
        elif how == 3:
            if isinstance(holder, dict):
                del holder[key]
            else:
                holder.pop(key)
        elif how == 4:
            holder[key] = [copy.deepcopy(holder[key]) for _ in range(rng.choice((1, 2, 50)))]
        else:
            holder[key] = {"value": holder[key], "unit": copy.deepcopy(rng.choice(SCALARS))}
    return made_one


def _places(value: Any):
    pairs = (
        list(value.items()) if isinstance(value, dict) else list(enumerate(value)) if isinstance(value, list) else []
    )
    for key, inner in pairs:
        yield value, key
        yield from _places(inner)
