"""Bundles: the same bytes back, every problem at once, and nothing that YAML could do behind one's back."""

from pathlib import Path

import pytest

import angelon.demo
from angelon.core.problems import Invalid
from angelon.core.specs.bundle import read_bundle, write_bundle

DEMO = Path(angelon.demo.__file__).with_name("bundle.yaml").read_text()


def test_a_bundle_written_and_read_is_the_same_and_byte_stable():
    first = write_bundle(read_bundle(DEMO))
    assert write_bundle(read_bundle(first)) == first


def problems(text):
    with pytest.raises(Invalid) as caught:
        read_bundle(text)
    return [str(p) for p in caught.value.problems]


def test_every_problem_is_told_with_its_place():
    sent_for_order = problems(
        "store: {key: Bad Key, name: A, timezone: Mars/Olympus, colour: red}\nsources:\n- {key: a, name: A, "
        "reading: {colour: $.x}, event_names: {x: Placed}}\n"
    )
    text = "\n".join(sent_for_order)
    for part in (
        "store.key",
        "lower-case letters",
        "store.timezone",
        "“Mars/Olympus” is no time zone",
        "“colour” is not known here",
        "is no part of it",
        "which is no event type",
    ):
        assert part in text


def test_a_route_s_other_ways_and_what_it_waits_for_are_looked_up():
    sent_for_order = "\n".join(
        problems(
            "store: {key: a, name: A}\nroutes:\n- {key: r, name: R, fallback: {options: [{gateway: g, send: m}]}, "
            "guards: {after_route: x}}\n"
        )
    )
    for part in ("goes on by “g”", "goes on with “m”", "is sent only after “x”"):
        assert part in sent_for_order


def test_references_to_what_is_not_there_are_told():
    sent_for_order = "\n".join(
        problems(
            "store: {key: a, name: A}\nroutes:\n- {key: r, name: R, sources: [x], send: y, gateway: z}\n- {key: r, "
            "name: R}\nlive: [q]\nsources:\n- {key: s, name: S, recipes: {v: $.a}}\n"
        )
    )
    for part in (
        "no source has that key",
        "no message has that key",
        "no gateway has that key",
        "“r” is used twice",
        "“q” is to be live",
        "no variable has that name",
    ):
        assert part in sent_for_order


@pytest.mark.parametrize(
    "text",
    [
        "",
        "a: [",
        "- 1",
        "a: &x [1]\nb: *x",
        "!!python/object/apply:os.system [ls]",
        "store: {key: a, name: A}\nangelon: 3",
    ],
)
def test_what_is_no_bundle_is_refused(text):
    assert problems(text)


def test_a_sender_with_a_line_break_is_refused():
    sent_for_order = problems(
        'store: {key: a, name: A}\ngateways:\n- {key: g, name: G, sender: {address: "a@example.org\\nBcc: '
        'b@example.org"}}\n'
    )
    assert "no email address" in sent_for_order[0]


AROUND = """
store: {key: a, name: A, timezone: Europe/Dublin}
gateways:
- {key: texts, name: Texts, kind: sms, call: {url: "https://sms.example/send", body: "{}"}}
sources:
- {key: shop, name: Shop}
messages:
- {key: m, name: M, sms: {en: {text: hi}}}
routes:
- {key: busy, name: Busy, sources: [shop], send: m, gateway: texts, channel: sms}
- {key: quiet, name: Quiet}
live: [busy]
"""


def test_a_part_is_read_by_what_is_there():
    around = read_bundle(AROUND)
    part = read_bundle("routes:\n- {key: new, name: New, sources: [shop], send: m, gateway: texts}\n", around)
    assert (part.store, part.gateways, part.live) == (around.store, [], [])
    assert part.routes[0].channel == "sms", "the gateway's, where none is said"
    assert read_bundle("routes: [{key: busy, name: Renamed}]", around).live == ["busy"], "it stays on"
    assert read_bundle("routes: [{key: busy, name: Renamed}]\nlive: []", around).live == []
    store = read_bundle("store: {name: Other}", around).store
    assert (store.key, store.name, store.timezone) == ("a", "Other", "Europe/Dublin")
    with pytest.raises(Invalid) as caught:
        read_bundle("routes: [{key: new, name: New, sources: [nowhere]}]", around)
    assert "no source has that key" in str(caught.value.problems[0])


def test_aliases_are_read_and_none_multiplies():
    bundle = read_bundle("store: &s {key: a, name: &n A}\nsources:\n- {key: a, name: *n}\n- {key: b, name: *n}\n")
    assert [source.name for source in bundle.sources] == ["A", "A"]
    laughs = "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n" + "".join(
        f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]\n" for n in range(1, 9)
    )
    for text in (laughs, "store: &s {key: a, name: A, team: [*s]}"):
        with pytest.raises(Invalid) as caught:
            read_bundle(text)
        assert "aliases" in str(caught.value.problems[0])
