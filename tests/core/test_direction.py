"""Languages written from right to left: the mail's layout, values that run the other way, the fixed words."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.direction import END, FIRST_STRONG, isolated, right_to_left
from angelon.core.messages.email import compile_email
from angelon.core.messages.fixed_words import NAMES, WORDS, words_in
from angelon.core.specs.message import EmailText
from angelon.core.specs.store import Letterhead
from angelon.core.templates import compile_template
from tests import made

BLOCKS = [
    {"kind": "text", "text": "رقمك {{ phone }} [هنا](https://shop.example/o/{{ order_number }})"},
    {"kind": "button", "text": "اتبع", "url": "https://shop.example/o/{{ order_number }}"},
    {"kind": "lines", "total": True},
]
VALUES = {
    "phone": "+49 170 123",
    "order_number": "A-17",
    "order": {"lines": [{"name": "Lamp X", "quantity": 2, "price": None}], "total": "25"},
}


def mail(locale, **letterhead):
    text = EmailText.model_validate({"subject": "{{ order_number }}", "blocks": BLOCKS})
    store = made.store().model_copy(update={"letterhead": Letterhead.model_validate(letterhead)})
    return compile_email(text, store, locale).render(VALUES)


def inside(value):
    return f"{FIRST_STRONG}{value}{END}"


def test_an_arabic_mail_is_laid_out_from_the_right():
    html = mail("ar").html
    assert 'lang="ar" dir="rtl"' in html
    assert "direction:ltr" not in html
    assert re.findall(r"text-align: ?(\w+); ?white-space", html) == ["left", "left"], (
        "amounts end the line, at the left"
    )
    english = mail("en").html
    assert 'lang="en" dir="ltr"' in english
    assert "direction:rtl" not in english


def test_values_that_run_the_other_way_are_isolated_in_what_is_read_and_not_in_addresses():
    made_mail = mail("ar")
    assert inside("+49 170 123") in made_mail.html
    assert inside("+49 170 123") in made_mail.text
    assert made_mail.subject == inside("A-17")
    assert re.findall(r'href="([^"]*)"', made_mail.html) == ["https://shop.example/o/A-17"] * 2
    assert made_mail.text.count("https://shop.example/o/A-17") == 2
    assert FIRST_STRONG not in mail("en").html


@pytest.mark.parametrize(
    ("text", "locale", "alone"),
    [
        ("محمد", "ar", True),
        ("محمد", "en", False),
        ("Jörg", "ar", False),
        ("Jörg", "en", True),
        ("25", "he", True),
        ("+49 170", "fa", False),
        ("דוד Levi", "he", False),
        ("佐藤", "de", True),
    ],
)
def test_what_is_isolated(text, locale, alone):
    assert isolated(text, locale) == (text if alone else inside(text))


@given(st.text(max_size=40), st.sampled_from(["ar", "he", "en", "ja"]))
def test_isolating_changes_nothing_but_what_stands_around(text, locale):
    assert isolated(text, locale) in (text, inside(text))


@pytest.mark.parametrize(
    ("source", "html", "expected"),
    [
        ("اسم {{ n }}", False, "اسم " + inside("A&b")),
        ("اسم {{ n }}", True, "اسم " + inside("A&amp;b")),
        ('<a title="{{ n }}">{{ n }}</a>', True, f'<a title="A&amp;b">{inside("A&amp;b")}</a>'),
        ("https://x.example/{{ n }}/ {{ n }}", False, "https://x.example/A&b/ " + inside("A&b")),
        ("https://x.example/{% if n %}{{ n }}{% endif %}", False, "https://x.example/A&b"),
    ],
)
def test_where_a_value_is_isolated(source, html, expected):
    assert compile_template(source, html).render({"n": "A&b"}, "ar", isolate=True) == expected


def test_a_request_never_holds_a_sign_of_direction():
    assert compile_template('{"n": {{ n | json }}}').render({"n": "A"}, "ar") == '{"n": "A"}'


def test_fixed_words_are_there_in_each_language_and_the_shop_s_own_come_first():
    for language, words in WORDS.items():
        assert [name for name in NAMES if words.get(name)] == list(words), language
    own = {"ar": {"total": "الإجمالي"}, "de-AT": {"postage": "Porto"}}
    assert words_in("ar-EG", own)("total") == "الإجمالي"
    assert words_in("de-AT", own)("postage") == "Porto"
    assert words_in("de", own)("postage") == "Versand"
    assert words_in("cy")("total") == "Total"
    assert "الإجمالي" in mail("ar", fixed_words=own).html
    assert "المجموع" not in mail("ar", fixed_words=own).html
    assert right_to_left("ar-EG")
    assert not right_to_left("de")
