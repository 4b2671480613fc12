"""Who brings a shop's parcels: made, saved, switched on and off, deleted, read from a file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import yaml

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.bundle import plain_bundle
from angelon.core.specs.carrier import Carrier
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import Store
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import Work

MOST_BYTES = 1_000_000


def of(store: Store, key: str) -> Carrier:
    """Raises NotFound."""
    found = store.carrier(key)
    if found is None:
        raise NotFound(f"There is no carrier “{key[:60]}”. It may have been deleted.")
    return found


def create(work: Work, name: str) -> str:
    """A carrier of which only the name is known; gives its key. Raises Invalid."""
    store = store_operations.current(work)
    if not name.strip():
        raise Invalid([Problem("name", "The name is empty.", "Write what the carrier is called.")])
    key, number = key_of(name) or "carrier", 2
    taken = {carrier.key for carrier in store.carriers}
    wanted = key
    while key in taken:
        key, number = f"{wanted[:50]}-{number}", number + 1
    _keep(work, [*store.carriers, read_spec(Carrier, {"key": key, "name": name.strip()})])
    return key


def save(work: Work, key: str, given: dict[str, Any], expected: int | None = None) -> Carrier:
    """A carrier as it was edited. Raises Invalid, NotFound and Conflict."""
    store = store_operations.current(work)
    of(store, key)
    made = read_spec(Carrier, {**given, "key": key})
    _keep(work, [made if carrier.key == key else carrier for carrier in store.carriers], expected)
    return made


def switch(work: Work, keys: Sequence[str], on: bool) -> int:
    """Switches carriers on or off; gives how many it changed."""
    store = store_operations.current(work)
    made = [c.model_copy(update={"on": on}) if c.key in keys else c for c in store.carriers]
    changed = sum(before.on != after.on for before, after in zip(store.carriers, made, strict=True))
    if changed:
        _keep(work, made)
    return changed


def delete(work: Work, key: str) -> None:
    """Raises NotFound. Parcels of it keep its key."""
    store = store_operations.current(work)
    of(store, key)
    _keep(work, [carrier for carrier in store.carriers if carrier.key != key])


def means(work: Work, key: str, words: str, stage: str) -> None:
    """Says what a carrier's words mean. Raises Invalid and NotFound."""
    before = of(store_operations.current(work), key)
    save(work, key, before.plain() | {"words": {**before.words, words: stage}})


def as_file(store: Store) -> str:
    """All carriers as YAML, as `read_file` takes it."""
    plain = [carrier.plain() for carrier in store.carriers]
    return yaml.safe_dump({"carriers": plain}, allow_unicode=True, sort_keys=False)


def read_file(work: Work, data: bytes) -> tuple[int, int]:
    """Takes carriers from a file (YAML or JSON, with a list `carriers`): one of a key that is known takes its place.
    Gives how many are new, and how many were there. Raises Invalid; nothing is taken then.
    """
    if len(data) > MOST_BYTES:
        raise Invalid([Problem("file", "The file is larger than 1 MB.", "Split it.")])
    try:
        listed = plain_bundle(data.decode("utf-8-sig")).get("carriers")
    except UnicodeDecodeError:
        listed = None
    if not isinstance(listed, list) or not all(isinstance(one, dict) for one in listed):
        raise Invalid([Problem("file", "The file has no list “carriers”.", "Export the carriers to see the form.")])
    made: dict[str, Carrier] = {}
    problems: list[Problem] = []
    for number, one in enumerate(listed):
        try:
            carrier = read_spec(Carrier, one)
            made[carrier.key] = carrier
        except Invalid as error:
            problems += [problem.at(f"carriers[{number}]") for problem in error.problems]
    if problems:
        raise Invalid(problems[:20])
    store = store_operations.current(work)
    kept = [made.pop(carrier.key, carrier) for carrier in store.carriers]
    _keep(work, [*kept, *made.values()])
    return len(made), len(listed) - len(made)


def _keep(work: Work, carriers: Sequence[Carrier], expected: int | None = None) -> None:
    store_operations.change(work, {"carriers": [carrier.plain() for carrier in carriers]}, expected, "carriers")
