"""Long proofs, short: `make proof` runs two hundred rounds of them, and fills a disk ten times."""

from proof import bombs, kills, races, shop_day


def test_killed_processes_lose_nothing_and_double_nothing_without_a_mark():
    counts, broken = kills.run(rounds=2, senders=2)
    assert broken == []
    assert counts["acknowledged"] > 0
    assert counts["lost"] == counts["doubled without a mark"] == 0


def test_a_day_of_a_shop_tells_everybody_what_a_plain_model_says():
    counts, broken = shop_day.run(days=2, first=1_001)
    assert broken == []
    assert counts["told"] > 20
    assert counts["told by SMS"] > 0


def test_what_grows_when_it_is_read_is_read_or_refused_in_words():
    counts, broken = bombs.run(rounds=2, first=1_000)
    assert broken == []
    assert counts["bombs"] == 22


def test_of_many_who_write_over_http_with_one_etag_one_wins():
    counts, broken = races.run(rounds=2)
    assert broken == []
    assert counts["won"] == 2
