"""Orders, people and sends are found by their words; what changes is found as it is now; what is gone is not."""

import sqlite3
import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.db.derived import searching
from angelon.engine.followers import indexing
from tests import made


@pytest.fixture
def shop(bench):
    for number, (name, email) in enumerate(
        (("Jörg Ångström", "joerg@example.org"), ("Mika O'Neill", "mika.oneill@sub.example.net")), 1
    ):
        buyer = {"name": name, "email": email, "country": "IE"}
        bench.deliver(made.body(id=number, reference=f"BK-70{number}/x", buyer=buyer), store_delivery=f"d-{number}")
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET phone = '+353209158801' WHERE name LIKE 'J%'")
    indexing.follow(bench.database)
    return bench


def numbers(bench, words):
    with bench.database.reading() as session:
        found = searching.refs(session.connection(), "order", bench.store_id, words, 50)
    named = dict(bench.rows('SELECT CAST(id AS TEXT), number FROM "order"'))
    return sorted(named[ref] for ref in found)


@pytest.mark.parametrize(
    "words",
    [
        "BK-701/x",
        "bk-701",
        "701",
        "bk701",
        "jorg",  # without its marks
        "Jörg angstrom",
        "joerg@example.org",
        "joerg@exa",
        "+3532091588",
        "209158801",
        "0209158801",
        "joerg bk-70",
    ],
)
def test_an_order_is_found_by_its_number_and_its_customer(shop, words):
    assert numbers(shop, words) == ["BK-701/x"]


@pytest.mark.parametrize("words", ["BK-709", "joerg mika", "example.com", "oerg", "org@example"])
def test_what_does_not_fit_is_not_found(shop, words):
    assert numbers(shop, words) == []


def test_every_word_has_to_fit_and_a_beginning_is_enough(shop):
    assert numbers(shop, "bk-70") == ["BK-701/x", "BK-702/x"]
    assert numbers(shop, "example") == ["BK-701/x", "BK-702/x"]
    assert numbers(shop, "o'neill") == ["BK-702/x"]


def test_sends_are_found_by_recipient_order_subject_and_what_they_say(shop):
    with shop.database.reading() as session:
        connection = session.connection()
        (by_number,) = searching.refs(connection, "send", shop.store_id, "BK-701", 9)
        assert searching.refs(connection, "send", shop.store_id, "joerg@example.org", 9) == [by_number]
        assert searching.refs(connection, "send", shop.store_id + 1, "joerg@example.org", 9) == []
        assert searching.found("sqlite", "send", shop.store_id, " -!? ") is None


def test_a_change_is_followed_and_what_is_gone_is_not_found_and_leaves_the_file(shop):
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET name = 'Runa Zwirbel' WHERE name LIKE 'J%'")
    indexing.follow(shop.database)
    assert numbers(shop, "runa zwirbel") == ["BK-701/x"]
    assert numbers(shop, "angstrom") == []
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET name = '', email = '', phone = '' WHERE name LIKE 'Runa%'")
        connection.exec_driver_sql("""UPDATE "order" SET read = '{}' WHERE number = 'BK-701/x'""")
        connection.exec_driver_sql("DELETE FROM send")
        searching.want_tidy(connection)
    indexing.follow(shop.database)
    assert shop.rows("SELECT * FROM search_due") == []
    assert numbers(shop, "zwirbel") == []
    assert numbers(shop, "BK-701") == ["BK-701/x"]
    index = () if shop.database.url.startswith("postgresql") else ("order", "person", "send")
    for table in (*(f"words_{kind}_data" for kind in index), "search_order", "search_send"):
        for row in shop.rows(f"SELECT * FROM {table}"):
            kept = b" ".join(cell if isinstance(cell, bytes) else str(cell).encode() for cell in row).lower()
            assert b"zwirbel" not in kept, table
            assert b"ngstr" not in kept, table


def test_a_change_that_is_rolled_back_is_not_followed(shop):
    with pytest.raises(RuntimeError), shop.database.connection() as connection:  # noqa: PT012
        connection.exec_driver_sql("UPDATE contact SET name = 'Nobody'")
        raise RuntimeError
    assert indexing.follow(shop.database) == 0


def test_the_index_made_anew_finds_the_same(shop):
    with shop.database.connection() as connection:
        searching.note_all(connection)
    assert numbers(shop, "joerg") == []
    indexing.follow(shop.database)
    assert numbers(shop, "joerg") == ["BK-701/x"]
    assert shop.rows("SELECT count(*) FROM search_order") == [(2,)]


@given(st.text(max_size=60))
def test_whatever_is_typed_is_an_expression_or_nothing(words):
    asked = searching.expression(words)
    with sqlite3.connect(":memory:") as plain:
        plain.execute("CREATE VIRTUAL TABLE w USING fts5(words, detail=none)")
        if asked:
            plain.execute("SELECT * FROM w WHERE w MATCH ?", (asked,)).fetchall()


def test_one_thing_that_can_t_be_read_keeps_nothing_else_out_of_the_index(shop):
    with shop.database.connection() as connection:
        connection.exec_driver_sql("""UPDATE "order" SET read = '{broken' WHERE number = 'BK-701/x'""")
        connection.exec_driver_sql("UPDATE contact SET name = 'Zwirbel' WHERE name LIKE 'M%'")
    indexing.follow(shop.database)
    assert shop.rows("SELECT * FROM search_due") == []
    assert numbers(shop, "zwirbel") == ["BK-702/x"]


def test_a_row_that_is_written_over_while_its_change_waits_for_the_index_is_noted_once_more(shop):
    over = (
        "INSERT INTO contact (id, store_id, identity, name, email, phone, country, language, first_seen) "
        "SELECT id, store_id, identity, 'Nora', email, phone, country, language, first_seen FROM contact WHERE true "
        "ON CONFLICT (id) DO UPDATE SET name = excluded.name"
    )
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET name = name || 'x'")
        connection.exec_driver_sql(over)  # a move writes so; in SQLite, INSERT OR IGNORE in a trigger fails then
    indexing.follow(shop.database)
    assert numbers(shop, "nora") == ["BK-701/x", "BK-702/x"]


def test_while_events_wait_to_be_planned_nothing_is_taken_into_the_search_until_it_is_late(shop, monkeypatch):
    def renamed(name):
        with shop.database.connection() as connection:
            connection.exec_driver_sql(f"UPDATE contact SET name = '{name}' WHERE name LIKE 'M%'")

    renamed("Mzwirbel")
    busy = [True]
    follower = indexing.Follower(shop.database, threading.Event(), lambda: busy[0])
    assert follower.look() == 0
    assert numbers(shop, "mzwirbel") == []
    monkeypatch.setattr(indexing, "LATEST", -1.0)
    assert follower.look()
    assert numbers(shop, "mzwirbel") == ["BK-702/x"]
    monkeypatch.undo()
    renamed("Mnora")
    busy[0] = False
    assert follower.look()
    assert numbers(shop, "mnora") == ["BK-702/x"]


@given(
    st.lists(
        st.sampled_from(["BK-701/x", "bk", "Jörg", "jörg", "x_y", "x", "é", "e\u0301", "Straße", "STRASSE", "·", "701"])
    )
)
def test_words_that_say_nothing_new_are_left_out_and_nothing_else(words):
    text = " ".join(words)
    kept = searching._each_once(text)
    assert len(kept) <= len(text)
    with sqlite3.connect(":memory:") as plain:
        plain.execute("CREATE VIRTUAL TABLE w USING fts5(words, detail=none, tokenize='unicode61 remove_diacritics 2')")
        plain.execute("CREATE VIRTUAL TABLE terms USING fts5vocab(w, row)")
        found = []
        for one in (text, kept):
            plain.execute("DELETE FROM w")
            plain.execute("INSERT INTO w VALUES (?)", (one,))
            found.append({term for (term,) in plain.execute("SELECT term FROM terms")})
    assert found[0] == found[1]
