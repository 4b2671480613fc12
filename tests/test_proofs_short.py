"""A long proof, short: `make proof` runs two hundred rounds of it, and fills a disk ten times."""

from proof import kills


def test_killed_processes_lose_nothing_and_double_nothing_without_a_mark():
    counts, broken = kills.run(rounds=2, senders=2)
    assert broken == []
    assert counts["acknowledged"] > 0
    assert counts["lost"] == counts["doubled without a mark"] == 0
