"""Stored specs: the format that they were written in, and what brings an older one into today's."""

import pytest

from angelon.core.problems import Invalid
from angelon.core.specs import Route, Source
from angelon.core.specs.bundle import read_bundle, write_bundle
from angelon.core.specs.stored import FORMAT, from_stored, to_stored
from tests import made


def test_what_is_stored_is_read_back():
    route = made.route(priority=3, fallback={"options": [{"gateway": "line"}], "tell": "owner"})
    assert from_stored(Route, to_stored(route)) == route
    assert to_stored(route)["format"] == FORMAT


def test_a_route_of_the_first_format_is_read_under_today_s_names():
    old = made.route().plain() | {
        "rank": 4,
        "otherwise": {"ways": [{"gateway": "line", "channel": "sms"}], "within_minutes": 30, "tell": "owner"},
        "guards": {"even_if_told": True},
    }
    route = from_stored(Route, old)
    assert (route.priority, route.fallback.options[0].gateway, route.fallback.within_minutes) == (4, "line", 30)
    assert route.guards.even_if_notified


def test_a_source_of_the_first_format_keeps_its_defaults_and_tables():
    recipe = {"path": "$.a", "otherwise": "none", "steps": [{"lookup": {"table": "short", "otherwise": "kite"}}]}
    old = made.source().plain() | {
        "recipes": {"otherwise": recipe},
        "lookups": {"short": {"otherwise": "kept as it is"}},
    }
    source = from_stored(Source, old)
    assert source.recipes["otherwise"].default == "none"
    assert source.recipes["otherwise"].steps[0].given == {"table": "short", "default": "kite"}
    assert source.lookups == {"short": {"otherwise": "kept as it is"}}


@pytest.mark.parametrize("written_in", [FORMAT + 1, 0, "two", None])
def test_what_another_version_wrote_is_told_by_its_format(written_in):
    with pytest.raises(Invalid, match="Start the Angelon that wrote it"):
        from_stored(Route, made.route().plain() | {"format": written_in})


def test_a_bundle_of_the_first_format_is_read_and_written_in_today_s():
    text = (
        "angelon: 1\nstore: {key: a, name: A}\ngateways: [{key: line, name: L, kind: sms, call: {url: 'https://x.example/'}}]\n"
        "routes: [{key: r, name: R, rank: 2, otherwise: {ways: [{gateway: line}]}}]\n"
    )
    bundle = read_bundle(text)
    assert (bundle.angelon, bundle.routes[0].priority) == (FORMAT, 2)
    written = write_bundle(bundle)
    assert "priority: 2" in written
    assert "otherwise" not in written
    assert write_bundle(read_bundle(written)) == written
