"""SMS segments, against cases worked out by hand: every boundary, two-unit characters at an edge, emoji."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.messages.segments import BASIC, EXTENSION, count, instead


@pytest.mark.parametrize(
    ("text", "encoding", "segments", "units", "left"),
    [
        ("", "GSM-7", 0, 0, 160),
        ("a", "GSM-7", 1, 1, 159),
        ("a" * 160, "GSM-7", 1, 160, 0),
        ("a" * 161, "GSM-7", 2, 161, 145),  # 153 + 8
        ("a" * 306, "GSM-7", 2, 306, 0),
        ("a" * 307, "GSM-7", 3, 307, 152),
        ("€" * 80, "GSM-7", 1, 160, 0),
        ("€" * 81, "GSM-7", 2, 162, 143),  # 76 fit into 153 with one septet over; 5 follow: 153 - 10
        (
            "a" * 152 + "€" + "a" * 20,
            "GSM-7",
            2,
            174,
            131,
        ),  # the € finds one septet left and starts the second: 153 - 22
        ("a" * 151 + "€" + "a" * 20, "GSM-7", 2, 173, 133),  # here it ends the first: 153 - 20
        ("ä" * 160, "GSM-7", 1, 160, 0),
        ("a" * 69 + "ł", "UCS-2", 1, 70, 0),
        ("a" * 70 + "ł", "UCS-2", 2, 71, 63),  # 67 + 4
        ("ł" * 134, "UCS-2", 2, 134, 0),
        ("ł" * 135, "UCS-2", 3, 135, 66),
        ("😀" * 35, "UCS-2", 1, 70, 0),
        ("😀" * 36, "UCS-2", 2, 72, 61),  # 33 fit into 67 with one unit over; 3 follow: 67 - 6
        ("👩\u200d👩\u200d👧", "UCS-2", 1, 8, 62),  # three pairs and two joiners
        ("Ω" * 160, "GSM-7", 1, 160, 0),
        ("ω", "UCS-2", 1, 1, 69),
    ],
)
def test_counts(text, encoding, segments, units, left):
    made = count(text)
    assert (made.encoding, made.segments, made.units, made.left) == (encoding, segments, units, left)


def test_what_forces_ucs_2_is_named_once_with_what_to_write_instead():
    assert count("It’s “here” – it’s ł 😀").forced_by == [
        ("’", "'"),
        ("“", '"'),
        ("”", '"'),
        ("–", "-"),
        ("ł", ""),
        ("😀", ""),
    ]
    assert count("plain €").forced_by == []
    assert (instead("é"), instead("ê"), instead("…")) == ("e", "e", "...")


def test_the_alphabet_has_as_many_characters_as_the_standard_says():
    assert len(BASIC) == 127, "128 places, one of them the escape"
    assert len(EXTENSION) == 10
    assert not BASIC & EXTENSION


@given(st.text(max_size=400))
def test_units_fit_their_segments_and_what_is_left_is_less_than_one(text):
    made = count(text)
    each = {"GSM-7": (160, 153), "UCS-2": (70, 67)}[made.encoding]
    size = each[0] if made.segments <= 1 else each[1]
    assert made.units <= max(made.segments, 1) * size
    assert 0 <= made.left <= size


@given(st.text(max_size=200), st.characters())
def test_one_more_character_never_takes_fewer_segments(text, more):
    assert count(text + more).segments >= count(text).segments
