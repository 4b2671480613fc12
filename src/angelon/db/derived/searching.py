"""Search over orders, people and sends by the beginnings of words: SQLite's FTS5, PostgreSQL's text search.

What changes is noted in `search_due` by triggers, in the same transaction; `follow` takes the words of what is noted
into the index a little later, so that nobody waits for it. Words are letters and digits; what holds other signs (an
address, an order's number) is indexed as one word, too.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Iterable, Iterator
from typing import Any

from sqlalchemy import Connection, Select, bindparam, text
from sqlalchemy import select as core_select

from angelon.db import triggers
from angelon.db.tables import ContactRow, OrderRow, SendRow, table_of

SEND = table_of(SendRow)
ORDER = table_of(OrderRow)
CONTACT = table_of(ContactRow)
KINDS = ("order", "person", "send")
AT_ONCE = 400
"""Changes that are taken into the index by one transaction."""
MOST = 1000
"""Results that a list is narrowed to, the newest that fit."""
ALL = 10_000_000
"""For what acts on all that fit, or gives all of it out, however long that takes."""
MOST_WORDS = 8
LONGEST = 1200
"""Characters of one thing's words."""

_ONCE = "ON CONFLICT (kind, ref) DO NOTHING"
"""Not INSERT OR IGNORE: in SQLite that of a trigger gives way to how the statement outside meets conflicts."""
_DUE = f"INSERT INTO search_due (kind, ref) VALUES ('{{kind}}', {{ref}}) {_ONCE};"  # noqa: S608 - our own names
_ORDERS_OF = (
    "INSERT INTO search_due (kind, ref) SELECT 'order', CAST(o.id AS TEXT) FROM \"order\" o "  # noqa: S608 - our own
    f"WHERE o.contact_id = NEW.id {_ONCE};"
)
_TRIGGERS = {
    "search_order_new": ('AFTER INSERT ON "order"', _DUE.format(kind="order", ref="NEW.id")),
    "search_order_changed": (
        'AFTER UPDATE OF number, reference, contact_id, read ON "order" WHEN OLD.number IS NOT NEW.number '
        "OR OLD.reference IS NOT NEW.reference OR OLD.contact_id IS NOT NEW.contact_id OR OLD.read IS NOT NEW.read",
        _DUE.format(kind="order", ref="NEW.id"),
    ),
    "search_order_gone": ('AFTER DELETE ON "order"', _DUE.format(kind="order", ref="OLD.id")),
    "search_person_new": ("AFTER INSERT ON contact", _DUE.format(kind="person", ref="NEW.id")),
    "search_person_changed": (
        "AFTER UPDATE OF name, email, phone ON contact WHEN OLD.name IS NOT NEW.name OR OLD.email IS NOT NEW.email "
        "OR OLD.phone IS NOT NEW.phone",
        _DUE.format(kind="person", ref="NEW.id") + _ORDERS_OF,
    ),
    "search_person_gone": ("AFTER DELETE ON contact", _DUE.format(kind="person", ref="OLD.id")),
    "search_send_new": ("AFTER INSERT ON send", _DUE.format(kind="send", ref="NEW.id")),
    "search_send_changed": (
        'AFTER UPDATE OF recipient, recipient_name, subject, "values" ON send WHEN OLD.recipient IS NOT NEW.recipient '
        "OR OLD.recipient_name IS NOT NEW.recipient_name OR OLD.subject IS NOT NEW.subject "
        'OR OLD."values" IS NOT NEW."values"',
        _DUE.format(kind="send", ref="NEW.id"),
    ),
    "search_send_gone": ("AFTER DELETE ON send", _DUE.format(kind="send", ref="OLD.id")),
}


def watch(connection: Connection) -> None:
    """Has the database note what changes. A migration that makes a watched table anew calls it again."""
    triggers.put(connection, _TRIGGERS, {name: _noted_again(what) for name, (_, what) in _TRIGGERS.items()})


def unwatch(connection: Connection) -> None:
    triggers.take(connection, _TRIGGERS)


def _noted_again(what: str) -> str:
    """The statements as PostgreSQL has them. What is noted already is written again, so that it is locked until the
    change is there: else the index would take the thing as it was before, and take the note off.
    """
    return what.replace(_ONCE, "ON CONFLICT (kind, ref) DO UPDATE SET ref = excluded.ref")


def begin(connection: Connection) -> None:
    """Follows from here on what changes; and takes all that is there, where nothing was taken yet."""
    if connection.dialect.name == "postgresql":
        for kind in KINDS:
            connection.exec_driver_sql(f"ALTER TABLE search_{kind} ADD COLUMN IF NOT EXISTS lexemes tsvector")
            index = f"CREATE INDEX IF NOT EXISTS ix_search_{kind} ON search_{kind} USING gin (lexemes)"
            connection.exec_driver_sql(index)
    watch(connection)
    if connection.exec_driver_sql("SELECT 1 FROM search_order LIMIT 1").first() is None:
        note_all(connection)


def note_all(connection: Connection) -> None:
    """Notes everything that there is, for an index that is made anew."""
    for kind, table in (("order", '"order"'), ("person", "contact"), ("send", "send")):
        noted = f"SELECT '{kind}', CAST(id AS TEXT) FROM {table}"  # noqa: S608 - our own names
        connection.exec_driver_sql(f"INSERT INTO search_due (kind, ref) {noted} WHERE true ON CONFLICT DO NOTHING")
        connection.exec_driver_sql(f"DELETE FROM search_{kind}")  # noqa: S608 - our own names
        if connection.dialect.name != "postgresql":
            connection.exec_driver_sql(f"INSERT INTO words_{kind} (words_{kind}) VALUES ('delete-all')")  # noqa: S608


# ---- the words of things


def words_in(value: str) -> str:
    """A text's words as they are indexed: with those that hold other signs than letters and digits as one word, too."""
    joined = [_joined(word) for word in value.split() if _PARTED.search(word)]
    return " ".join([value, *joined])


_PARTED = re.compile(r"\w[^\w\s]+\w")
_DIGIT = re.compile(r"\d")
_PIECES = re.compile(r"[^\W_]+")


def _joined(word: str) -> str:
    return "".join(_PIECES.findall(word))


def _phone(number: str) -> str:
    """A number as it is, and its last nine digits, as it is written within its country."""
    digits = _joined(number)
    return f"{digits} {digits[-9:]}" if len(digits) > 9 else digits


def _told(values: Any) -> Iterator[str]:
    """What the variables of a send say that are short texts: not addresses of pages, not the order as a whole."""
    for name, value in (values or {}).items() if isinstance(values, dict) else ():
        if name == "order":
            continue
        for one in value if isinstance(value, list) else [value]:
            if isinstance(one, str) and not one.startswith(("http://", "https://")):
                yield one[:200]


def _texts(*parts: Iterable[str] | str) -> str:
    flat = [part for given in parts for part in ([given] if isinstance(given, str) else given) if part]
    return _each_once(" ".join(words_in(part) for part in flat)[:LONGEST])


def _each_once(words: str) -> str:
    """A text without the words that say nothing new: the index holds each once, and no order."""
    seen: set[str] = set()
    kept = []
    for word in words.split():
        pieces = set(_PIECES.findall(word.lower()))
        if not pieces <= seen:
            kept.append(word)
            seen |= pieces
    return " ".join(kept)


def _orders(connection: Connection, refs: Collection[int]) -> Iterator[tuple[int, int, str]]:
    columns = (ORDER.c.id, ORDER.c.store_id, ORDER.c.number, ORDER.c.reference, ORDER.c.read)
    joined = core_select(*columns, CONTACT.c.name, CONTACT.c.email, CONTACT.c.phone).outerjoin(
        CONTACT, CONTACT.c.id == ORDER.c.contact_id
    )
    for row in connection.execute(joined.where(ORDER.c.id.in_(refs))):
        read = row.read if isinstance(row.read, dict) else {}
        lines = [line for line in read.get("lines") or [] if isinstance(line, dict)]
        parcels = [one for one in read.get("parcels") or [] if isinstance(one, dict)]
        things = [str(line[part]) for line in lines for part in ("name", "sku") if line.get(part)]
        numbers = [str(parcel["number"]) for parcel in parcels if parcel.get("number")]
        person = (row.name or "", row.email or "", _phone(row.phone or ""))
        yield row.id, row.store_id, _texts(row.number, row.reference, *person, numbers, things)


def _people(connection: Connection, refs: Collection[int]) -> Iterator[tuple[int, int, str]]:
    for row in connection.execute(core_select(CONTACT).where(CONTACT.c.id.in_(refs))):
        yield row.id, row.store_id, _texts(row.name, row.email, _phone(row.phone))


def _sends(connection: Connection, refs: Collection[str]) -> Iterator[tuple[str, int, str]]:
    columns = (SEND.c.id, SEND.c.store_id, SEND.c.recipient, SEND.c.recipient_name, SEND.c.subject, SEND.c["values"])
    joined = core_select(*columns, ORDER.c.number).outerjoin(ORDER, ORDER.c.id == SEND.c.order_id)
    for row in connection.execute(joined.where(SEND.c.id.in_(refs))):
        to = row.recipient if "@" in row.recipient else _phone(row.recipient)
        said = list(dict.fromkeys(_told(row._mapping["values"])))
        yield row.id, row.store_id, _texts(row.number or "", to, row.recipient_name, row.subject, said)


# ---- the index


def any_due(connection: Connection) -> bool:
    """Whether anything has changed that is not in the index yet."""
    query = f"SELECT 1 FROM search_due WHERE kind != '{TIDY}' LIMIT 1"  # noqa: S608 - our own names
    return connection.exec_driver_sql(query).first() is not None


TIDY = "tidy"
"""What is noted where words have to leave the file, since somebody was erased."""
_TIDY = {"kind": TIDY}
_TAKEN = text("DELETE FROM search_due WHERE kind = :kind AND ref = :ref")


def want_tidy(connection: Connection) -> None:
    connection.execute(text("INSERT INTO search_due (kind, ref) VALUES (:kind, '') ON CONFLICT DO NOTHING"), _TIDY)


def tidy_wanted(connection: Connection) -> bool:
    return connection.execute(text("SELECT 1 FROM search_due WHERE kind = :kind"), _TIDY).first() is not None


def tidied(connection: Connection) -> None:
    connection.execute(text("DELETE FROM search_due WHERE kind = :kind"), _TIDY)


def pass_over(connection: Connection) -> tuple[str, str]:
    """Takes off what is next, since it can't be read, so that it keeps nothing else waiting; gives what it was."""
    query = f"SELECT kind, ref FROM search_due WHERE kind != '{TIDY}' LIMIT 1"  # noqa: S608 - our own names
    kind, ref = connection.exec_driver_sql(query).one()
    connection.execute(_TAKEN, {"kind": kind, "ref": ref})
    return kind, ref


def follow(connection: Connection, most: int = AT_ONCE) -> int:
    """Takes a part of what has changed into the index; says how much. Called until nothing is left."""
    postgresql = connection.dialect.name == "postgresql"
    taken = f"LIMIT {int(most)}" + (" FOR UPDATE SKIP LOCKED" if postgresql else "")
    query = f"SELECT kind, ref FROM search_due WHERE kind != '{TIDY}' ORDER BY kind, ref {taken}"  # noqa: S608 - our own
    due = connection.exec_driver_sql(query).fetchall()
    for kind in KINDS:
        refs = [ref for found, ref in due if found == kind]
        if refs:
            _take(connection, kind, refs)
            connection.execute(_TAKEN, [{"kind": kind, "ref": ref} for ref in refs])
    return len(due)


def _take(connection: Connection, kind: str, refs: list[str]) -> None:
    found: dict[str, tuple[int, str]] = {}
    if kind == "send":
        found = {ref: (store_id, words) for ref, store_id, words in _sends(connection, refs)}
    else:
        read = _orders if kind == "order" else _people
        found = {str(id_): (store_id, words) for id_, store_id, words in read(connection, [int(ref) for ref in refs])}
    table, index = f"search_{kind}", f"words_{kind}"
    of_these = text(f"SELECT id, ref, words FROM {table} WHERE ref IN :refs")  # noqa: S608 - our own names
    known = connection.execute(of_these.bindparams(bindparam("refs", refs, expanding=True))).fetchall()
    old = [(id_, words) for id_, ref, words in known if ref not in found or found[ref][1] != words]
    same = {ref for _, ref, words in known if ref in found and found[ref][1] == words}
    if connection.dialect.name == "postgresql":
        _take_on_postgresql(connection, table, [id_ for id_, _ in old], found, same)
        return
    if old:
        out = f"INSERT INTO {index} ({index}, rowid, words) VALUES ('delete', ?, ?)"  # noqa: S608 - our own names
        connection.exec_driver_sql(out, old)
        connection.exec_driver_sql(f"DELETE FROM {table} WHERE id = ?", [(id_,) for id_, _ in old])  # noqa: S608
    new = [(ref, store_id, words) for ref, (store_id, words) in found.items() if ref not in same]
    if new:
        into = f"INSERT INTO {table} (ref, store_id, words) VALUES (?, ?, ?)"  # noqa: S608 - our own names
        connection.exec_driver_sql(into, new)
        of_new = f"SELECT id, words FROM {table} WHERE ref IN ({', '.join('?' * len(new))}) ORDER BY id"  # noqa: S608
        indexed = f"INSERT INTO {index} (rowid, words) {of_new}"
        connection.exec_driver_sql(indexed, tuple(ref for ref, _, _ in new))


def _take_on_postgresql(
    connection: Connection, table: str, old: list[int], found: dict[str, tuple[int, str]], same: set[str]
) -> None:
    if old:
        connection.execute(text(f"DELETE FROM {table} WHERE id = ANY(:ids)"), {"ids": old})  # noqa: S608 - our own names
    new = [
        {"ref": ref, "store_id": store_id, "words": words, "lexemes": lexemes(words)}
        for ref, (store_id, words) in found.items()
        if ref not in same
    ]
    if new:
        into = f"INSERT INTO {table} (ref, store_id, words, lexemes) VALUES (:ref, :store_id, :words, "  # noqa: S608
        connection.execute(text(into + "array_to_tsvector(CAST(:lexemes AS text[])))"), new)


def lexemes(words: str) -> list[str]:
    """The words of a text as PostgreSQL's index holds them: without accents, in lower case, each once."""
    return sorted({piece[:200] for piece in _PIECES.findall(_folded(words))})


def _folded(words: str) -> str:
    plain = unicodedata.normalize("NFKD", words.casefold())
    return "".join(sign for sign in plain if not unicodedata.combining(sign)).replace("\x00", " ")


def tidy(connection: Connection, pages: int = 2000) -> bool:
    """Merges a part of what is old in the index, so that words that were taken out leave the file, too; says whether
    more is left.
    """
    if connection.dialect.name == "postgresql":
        return False  # its own vacuum does that
    before = connection.exec_driver_sql("SELECT total_changes()").scalar_one()
    for kind in KINDS:
        connection.exec_driver_sql(f"INSERT INTO words_{kind} (words_{kind}, rank) VALUES ('merge', {-pages})")  # noqa: S608
    after = connection.exec_driver_sql("SELECT total_changes()").scalar_one()
    return bool(after - before > 2 * len(KINDS))


# ---- asking


def expression(words: str, whole_words: bool = False) -> str:
    """What FTS5 is asked for some words: all of them, each by its beginning or as it is; empty where there is none."""

    def quoted(piece: str) -> str:
        return f'"{piece}"' if whole_words else f'"{piece}"*'

    asked = []
    for word in words.split()[:MOST_WORDS]:
        pieces = _PIECES.findall(word)
        if not pieces:
            continue
        whole = quoted("".join(pieces))
        if word.startswith("0") and word.isdigit():  # a phone number as it is written within its country
            asked.append(f"({whole} OR {quoted(word.lstrip('0') or word)})")
        elif len(pieces) == 1 or _DIGIT.search(word) or "@" in word or word.startswith("+"):
            asked.append(whole)
        else:
            asked.append(f"({whole} OR ({' AND '.join(quoted(piece) for piece in pieces)}))")
    return " AND ".join(asked)


_ASKED = re.compile(r'"([^"]*)"(\*?)')


def on_postgresql(asked: str) -> str:
    """What FTS5 is asked for, as PostgreSQL takes it."""
    as_lexemes = _ASKED.sub(lambda one: f"'{_folded(one[1])}'{':*' if one[2] else ''}", asked)
    return as_lexemes.replace(" AND ", " & ").replace(" OR ", " | ")


def found(
    dialect: str, kind: str, store_id: int, words: str, limit: int = MOST, below: int = 0, whole_words: bool = False
) -> Select[Any] | None:
    """A query for the ids (as texts) of the newest things of a kind that have some words; None where there is no
    word. `below` asks for those before what `end_of` gave.
    """
    asked = expression(words, whole_words)
    if not asked:
        return None
    if dialect == "postgresql":
        asked = on_postgresql(asked)
        of = f"search_{kind} d WHERE d.lexemes @@ CAST(:asked AS tsquery)"
        last = "d.id"
    else:
        of = f"words_{kind} w JOIN search_{kind} d ON d.id = w.rowid WHERE words_{kind} MATCH :asked"
        last = "w.rowid"
    earlier = f"AND {last} < :below " if below else ""
    query = text(
        f"SELECT d.ref AS ref FROM {of} AND d.store_id = :store_id {earlier}ORDER BY {last} DESC LIMIT :most"  # noqa: S608
    ).bindparams(asked=asked, store_id=store_id, most=limit, **({"below": below} if below else {}))
    found_ = query.columns(ref=SEND.c.id.type).subquery(f"found_{kind}")
    return core_select(found_.c.ref)


def refs(connection: Connection, kind: str, store_id: int, words: str, limit: int, below: int = 0) -> list[str]:
    """The ids of the newest things of a kind that have some words, by their beginnings. Where as many as are wanted
    have the very words, those that only begin so are left out: for the beginning of a word that very many have, all of
    them would have to be put in order first.
    """
    seen: list[str] = []
    for whole_words in (True, False):
        query = found(connection.dialect.name, kind, store_id, words, limit, below, whole_words)
        seen = [str(ref) for ref in connection.execute(query).scalars()] if query is not None else []
        if len(seen) >= limit:
            break
    return seen


def end_of(connection: Connection, kind: str, store_id: int, words: str, limit: int, below: int = 0) -> int:
    """Where a search for so many things has ended, for `refs` to go on from; 0 where it has met the oldest."""
    refs_ = refs(connection, kind, store_id, words, limit, below)
    if len(refs_) < limit:
        return 0
    ids = text(f"SELECT min(id) FROM search_{kind} WHERE ref IN :refs")  # noqa: S608 - our own names
    given = ids.bindparams(bindparam("refs", refs_, expanding=True))
    return int(connection.execute(given).scalar() or 0)
