"""What is otherwise with PostgreSQL than with SQLite: how it is connected to, itself or through a pooler; texts hold no
NUL there, and whole numbers have a width.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import URL, BigInteger, Engine, Integer, create_engine, event, make_url
from sqlalchemy.exc import ArgumentError

_POOL: dict[str, Any] = {
    **{"pool_size": 5, "max_overflow": 10, "pool_timeout": 20, "pool_pre_ping": True},
}
_OPTIONS = "-c timezone=UTC -c lock_timeout=20000 -c jit=off"
"""A process opens at most 15 connections, and keeps five: six processes fit into the 100 that PostgreSQL allows unless
told otherwise. One that the server has closed is noticed before it is used. Statements are not compiled to machine code
(`jit`): that takes 40 ms to 150 ms of each that might look at many rows, and ours look at few.
"""
OURS = ("pooler", "direct")
"""Parts of an address's query that are for us, not for the server."""


def engine_of(url: str) -> tuple[Engine, URL | None]:
    """The engine for an address, and where notices are listened for; None where they can't be.

    With `?pooler=transaction` there is a pooler in between that gives another of its connections to each transaction:
    nothing is prepared on one, no options are sent along (they are set for the role, docs/scale.md), and notices come
    past it, from the server at `direct=HOST:PORT`, or not at all. `?pooler=session` is one that keeps a connection for
    whoever has begun with it.
    """
    made = make_url(url)
    said = {name: str(made.query[name]) for name in OURS if name in made.query}
    made = made.difference_update_query(OURS)
    host, _, port = said.get("direct", "").rpartition(":")
    direct = "direct" not in said or (host and port.isdigit())
    if not direct or said.get("pooler", "session") not in ("session", "transaction"):
        raise ArgumentError("pooler is session or transaction, direct is HOST:PORT")
    connect: dict[str, Any] = {"connect_timeout": 5}
    if not said.get("pooler"):
        connect["options"] = _OPTIONS
    elif said["pooler"] == "transaction":
        connect["prepare_threshold"] = None
    engine = create_engine(made, **_POOL, connect_args=connect)
    prepare(engine)
    if host:
        return engine, made.set(host=host, port=int(port))
    return engine, None if said.get("pooler") == "transaction" else made


def prepare(engine: Engine) -> None:
    """Has a NUL in a text be written as U+FFFD, and numbers be compared as wide ones: one that no row can have finds
    nothing.
    """
    from psycopg.types import string  # only where the database is one that it speaks to

    dialect: Any = engine.dialect
    wide = dialect.colspecs.get(BigInteger)
    if wide is not None:
        dialect.colspecs = {**dialect.colspecs, Integer: wide}

    def without_nul(base: Any) -> Any:
        class Clean(base):  # type: ignore[misc]
            def dump(self, obj: str) -> Any:
                return super().dump(obj.replace("\x00", "\ufffd") if "\x00" in obj else obj)

        return Clean

    as_psycopg = (string.StrBinaryDumper, string.StrDumper, string.StrDumperUnknown)  # the last one is the usual one
    dumpers = [without_nul(one) for one in as_psycopg]

    def connected(connection: Any, _: Any) -> None:
        for dumper in dumpers:
            connection.adapters.register_dumper(str, dumper)

    event.listen(engine, "connect", connected)
