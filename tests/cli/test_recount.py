"""Counts are checked and made anew by a command; a demo is made large."""

import sqlite3

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from angelon.db.derived import counting
from angelon.demo.growing import grow
from angelon.engine.followers import indexing
from tests import made


def run(bench, monkeypatch, *given):
    monkeypatch.setenv("ANGELON_HOME", str(bench.home))
    monkeypatch.setenv("ANGELON_SECRET_KEY", "a-key-for-tests-only")
    return CliRunner().invoke(main, ["recount", *given])


@pytest.mark.sqlite
def test_wrong_counts_are_told_and_mended(bench, monkeypatch):
    bench.deliver(made.body())
    bench.plan()
    right = run(bench, monkeypatch, "--check")
    assert (right.exit_code, right.output.count("right.")) == (0, 3)
    with sqlite3.connect(bench.home / "angelon.db") as plain:
        plain.execute("UPDATE send_count SET number = number + 5")
    wrong = run(bench, monkeypatch, "--check")
    assert wrong.exit_code == 1
    assert "are not what the rows say" in wrong.output
    mended = run(bench, monkeypatch)
    assert mended.exit_code == 0
    assert "Counted anew." in mended.output
    assert run(bench, monkeypatch, "--check").exit_code == 0


@pytest.mark.sqlite
def test_a_demo_is_copied_until_it_is_large_and_nothing_of_the_copies_goes_out(bench):
    for number in range(4):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d-{number}")
    bench.plan()
    told = []
    assert grow(bench.database, 100, lambda done, of: told.append((done, of))) == 100
    assert told == [(24, 24)]
    with bench.database.reading() as session:
        assert not any(counting.differences(session.connection()).values())
    assert bench.rows("SELECT count(*) FROM send WHERE state IN ('scheduled', 'retrying', 'sending')") == [(4,)]
    assert bench.rows('SELECT count(DISTINCT number) FROM "order"') == [(100,)]
    assert bench.rows("PRAGMA foreign_key_check") == []
    indexing.follow(bench.database, longest=60)
    assert bench.rows("SELECT count(*) FROM search_order") == [(100,)]
