"""Makes the dictionary that JSON values are packed by (`db/tables/packed.py`), from a demo's database: keys, and the
words of our own sentences; nothing that is said of a person.

    python scripts/make_dictionary.py HOME/angelon.db src/angelon/db/tables/json-1.dict
"""

import json
import re
import sqlite3
import sys
from pathlib import Path

import zstandard

SIZE = 6_000
OUR_OWN = re.compile(r"[a-z_]{2,24}\Z|[a-z]+/[a-z]+\Z")
"""Words such as `customer`, `yes` and `text/calendar`: what has a capital, a digit or a sign may be somebody's."""


def bare(value: object, key: str = "") -> object:
    """A value with its keys, and without what it says; sentences of traces with their small words."""
    if isinstance(value, dict):
        return {name: bare(inner, name) for name, inner in value.items()}
    if isinstance(value, list):
        return [bare(inner, key) for inner in value]
    if not isinstance(value, str):
        return value if value is None or isinstance(value, bool) else 0
    if key in ("why", "saw"):
        return " ".join(word for word in value.split() if re.fullmatch(r"[A-Z]?[a-z’]{1,14}[.,:]?", word))
    return value if key in ("part", "verdict", "$", "type", "kind") and OUR_OWN.match(value) else ""


def main(database: str, to: str) -> None:
    connection = sqlite3.connect(f"file:{database}?mode=ro", uri=True)
    samples = []
    for column, table in (("trace", "send"), ('"values"', "send"), ("about", "content")):
        for (text,) in connection.execute(f"SELECT {column} FROM {table} WHERE {column} IS NOT NULL"):  # noqa: S608
            samples.append(json.dumps(bare(json.loads(text)), ensure_ascii=False, separators=(",", ":")).encode())
    Path(to).write_bytes(zstandard.train_dictionary(SIZE, samples, level=3).as_bytes())


if __name__ == "__main__":
    main(*sys.argv[1:])
