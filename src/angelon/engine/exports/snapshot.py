"""All rows of a store as files: one of each kind, as CSV, JSON Lines or Parquet, in a folder for each day."""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import IO, Any, Literal

from angelon.core.problems import Invalid, Problem
from angelon.db.database import Database
from angelon.db.log.documents import Wanted as WantedDocuments
from angelon.db.log.parcels import Wanted as WantedParcels
from angelon.db.log.sends import Filter
from angelon.db.setup import specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.exports.documents import Documents
from angelon.engine.exports.lines import Rows, heading, lines
from angelon.engine.exports.listed import Listed
from angelon.engine.exports.orders import Orders, People
from angelon.engine.exports.parcels import Parcels
from angelon.engine.exports.sends import Sends
from angelon.engine.exports.targets import NO_PYARROW, Target

Form = Literal["csv", "jsonl", "parquet"]
FORMS: tuple[Form, ...] = ("csv", "jsonl", "parquet")
COMPLETE = "complete.json"
"""Written last: what the other files of the folder are, with their rows. Without it a folder is not whole."""


KINDS: dict[str, Callable[[Database, LiveSetup], Listed]] = {
    "orders": lambda database, live: Orders(live.store_id),
    "customers": lambda database, live: People(live.store_id),
    "sends": lambda database, live: Sends(live.store_id, Filter(), _names(database, live)),
    "documents": lambda database, live: Documents(live.store_id, WantedDocuments()),
    "parcels": lambda database, live: Parcels(live, WantedParcels()),
}


def _names(database: Database, live: LiveSetup) -> Mapping[str, Mapping[str, str]]:
    with database.reading() as session:
        return {
            "messages": {row.key: row.spec.name for row in specs.messages(session, live.store_id)},
            "routes": {row.key: row.spec.name for row in specs.routes(session, live.store_id)},
            "gateways": {key: gateway.name for key, gateway in live.setup.gateways.items()},
        }


def write(
    database: Database,
    live: LiveSetup,
    target: Target,
    now: dt.datetime,
    form: Form,
    only: Sequence[str] = (),
    told: Callable[[str, int], None] = lambda kind, rows: None,
) -> dict[str, int]:
    """Writes the store's files below `STORE/DAY` (the day of `now`, UTC); gives the rows of each. Each file is replaced
    where it is there already. `told` hears of each kind's rows as they are written. Raises Invalid and OSError.
    """
    if form == "parquet":
        _pyarrow()
    folder = f"{live.setup.store.key}/{now.astimezone(dt.UTC).date()}"
    written: dict[str, int] = {}
    target.drop(f"{folder}/{COMPLETE}")  # until all of it is there again
    for kind in [kind for kind in KINDS if not only or kind in only]:
        listed = KINDS[kind](database, live)
        written[kind] = 0
        with target.writing(f"{folder}/{kind}.{form}") as file:
            for rows in (_parquet if form == "parquet" else _text)(file, form, listed.columns, listed.parts(database)):
                written[kind] += rows
                told(kind, written[kind])
    with target.writing(f"{folder}/{COMPLETE}") as file:
        files = [{"name": f"{kind}.{form}", "rows": rows} for kind, rows in written.items()]
        file.write(json.dumps({"store": live.setup.store.key, "made_at": now.isoformat(), "files": files}).encode())
    return written


def is_there(target: Target, store: str, day: dt.date) -> bool:
    """Whether a day's files are there, all of them."""
    return target.has(f"{store}/{day}/{COMPLETE}")


def newest(target: Target, store: str) -> str:
    """The newest day whose files are all there; empty where there is none."""
    return next((day for day in reversed(_days(target, store)) if target.has(f"{store}/{day}/{COMPLETE}")), "")


def _days(target: Target, store: str) -> list[str]:
    return sorted(name for name in target.names(store) if re.fullmatch(r"\d{4}-\d\d-\d\d", name))


def let_go(target: Target, store: str, keep: int) -> list[str]:
    """Removes the folders of a store's days, but for the newest; gives the days."""
    gone = _days(target, store)[:-keep] if keep else []
    for day in gone:
        target.remove(f"{store}/{day}")
    return gone


def _text(file: IO[bytes], form: str, columns: Sequence[str], parts: Iterator[Rows]) -> Iterator[int]:
    file.write(heading(form, columns).encode())
    for rows in parts:
        file.write(lines(form, columns, rows).encode())
        yield len(rows)


# ---- Parquet


def _pyarrow() -> Any:
    try:
        import pyarrow as pa
        import pyarrow.parquet
    except ImportError:
        raise Invalid([Problem("form", *NO_PYARROW)]) from None
    return pa


_NUMBERS = ("amount", "cost")
_EXACT = ("net", "tax", "gross", "rate")
_WHOLE = ("tries",)
_MOMENTS = ("first_seen", "delivered", "at")
_DAYS = ("day", "expected")


def _parquet(file: IO[bytes], form: str, columns: Sequence[str], parts: Iterator[Rows]) -> Iterator[int]:
    """Times are moments in UTC, days are days, amounts of documents decimals; what is empty is null."""
    pa = _pyarrow()
    types = {name: _type(pa, name) for name in columns}
    schema = pa.schema(list(types.items()))
    with pa.parquet.ParquetWriter(file, schema, compression="zstd") as writer:
        for rows in parts:
            read = {name: [_cell(pa, types[name], row[name]) for row in rows] for name in columns}
            writer.write_table(pa.table(read, schema=schema))
            yield len(rows)


def _type(pa: Any, name: str) -> Any:
    if name.endswith("_at") or name in _MOMENTS:
        return pa.timestamp("us", tz="UTC")
    return {
        **dict.fromkeys(_NUMBERS, pa.float64()),
        **dict.fromkeys(_EXACT, pa.decimal128(18, 4)),
        **dict.fromkeys(_WHOLE, pa.int64()),
        **dict.fromkeys(_DAYS, pa.date32()),
        "test": pa.bool_(),
    }.get(name, pa.string())


def _cell(pa: Any, type_: Any, value: Any) -> Any:
    if value is None or value == "":
        return None
    if pa.types.is_timestamp(type_):
        return dt.datetime.fromisoformat(value) if isinstance(value, str) else value
    if pa.types.is_date(type_):
        return dt.date.fromisoformat(value[:10]) if isinstance(value, str) else value
    if pa.types.is_decimal(type_):
        return Decimal(str(value)).quantize(Decimal("0.0001"))
    return str(value) if pa.types.is_string(type_) else value
