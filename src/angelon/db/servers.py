"""What PostgreSQL takes otherwise than SQLite: texts hold no NUL there, and whole numbers have a width."""

from __future__ import annotations

from typing import Any

from sqlalchemy import BigInteger, Engine, Integer, event


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
