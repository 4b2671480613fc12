"""SMS and chat texts: rendered, numbered, reviewed; what a payload says stays text in both."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.messages.chat import compile_chat, fill, review_problems, review_values
from angelon.core.messages.sms import compile_sms, tidy
from angelon.core.problems import Invalid
from angelon.core.specs.message import ChatText, SmsText
from angelon.core.templates import CantRender
from angelon.core.values import Money
from tests import made

NASTY = ["{{ 7 * 7 }}", "{% for x in y %}", "<script>alert(1)</script>", "{1}", "&lt;b&gt;", "a\r\nb\x00c"]


def sms(text, **values):
    return compile_sms(SmsText(text=text), made.store(), "de").render(values)


def chat(body="Hello {{ name }}, it is here.", **more):
    return compile_chat(ChatText.model_validate({"body": body, "samples": {"name": "Jo"}, **more}), made.store(), "en")


def test_money_in_an_sms_does_not_make_it_ucs_2():
    rendered = sms("Danke! {{ total }}", total=Money(Decimal("135.50"), "EUR"))
    assert rendered.text == "Danke! 135,50 €"
    assert (rendered.count.encoding, rendered.count.segments, rendered.count.units) == ("GSM-7", 1, 16)


@pytest.mark.parametrize(
    ("text", "tidied"),
    [
        ("a  b", "a b"),
        (" a \n b ", "a\nb"),
        ("a\tb", "a b"),
        ("a\r\nb", "a\nb"),
        ("12\u202f345", "12 345"),
        ("\x00", ""),
    ],
)
def test_an_sms_is_tidied(text, tidied):
    assert tidy(text) == tidied


@pytest.mark.parametrize("nasty", NASTY)
def test_a_payload_can_not_write_templates(nasty):
    assert sms("Hi {{ name }}!", name=nasty).text == f"Hi {tidy(nasty)}!"
    rendered = chat().render({"name": nasty})
    assert rendered.text == f"Hello {' '.join(nasty.replace(chr(0), ' ').split())}, it is here."
    assert len(rendered.values) == 1


def test_a_broken_sms_says_where():
    with pytest.raises(Invalid) as error:
        compile_sms(SmsText(text="Hi {{ name"), made.store(), "de")
    assert error.value.problems[0].where == "text"


def test_placeholders_are_numbered_in_order_and_the_same_one_keeps_its_number():
    compiled = chat(
        "Dear {{ name }}, order {{ number }} of {{ total | upper }} is here, {{ name }}, see you.",
        header={"kind": "text", "text": "For {{ number }} now"},
        buttons=[{"kind": "link", "text": "See it", "url": "https://shop.example/{{ number }}"}],
    )
    assert compiled.numbered.header == {"kind": "text", "text": "For {1} now"}
    assert compiled.numbered.body == "Dear {2}, order {1} of {3} is here, {2}, see you."
    assert compiled.numbered.buttons[0]["url"] == "https://shop.example/{1}"
    assert compiled.numbered.placeholders == ("number", "name", "total | upper")
    rendered = compiled.render({"name": "Jo", "number": "7", "total": "x"})
    assert rendered.values == ("7", "Jo", "X")
    assert rendered.text == "Dear Jo, order 7 of X is here, Jo, see you."
    assert rendered.buttons[0]["url"] == "https://shop.example/7"


def test_a_gap_without_a_value_is_no_message():
    with pytest.raises(CantRender, match="has no value"):
        chat().render({"name": ""})


@given(st.lists(st.text(alphabet="{}12 ab", max_size=6), min_size=3, max_size=3))
def test_filling_looks_at_the_text_only_never_at_what_was_filled_in(texts):
    assert fill("a {1} b {2} c {3} d", tuple(texts)) == f"a {texts[0]} b {texts[1]} c {texts[2]} d"


def test_curly_brackets_of_one_s_own_are_no_placeholder():
    compiled = chat("Use {1} here, {{ name }}, ok")
    assert compiled.numbered.body == "Use (1) here, {1}, ok"


def test_conditions_and_loops_are_refused_in_chat():
    with pytest.raises(Invalid, match="no conditions and no loops"):
        chat("Hi {% if name %}x{% endif %} there")


@pytest.mark.parametrize(
    ("spec", "label"),
    [
        ({"body": "{{ name }}, hello there"}, "start or the end"),
        ({"body": "Hello {{ name }}"}, "start or the end"),
        ({"body": "Hello {{ name }} {{ other }} there"}, "side by side"),
        ({"body": "Hello {{ name }} there", "samples": {}}, "no sample"),
        ({"body": "x" * 1001}, "1000 are allowed"),
        ({"body": "Hi there", "footer": "of {{ name }} x"}, "wants"),
        ({"body": "Hi there", "buttons": [{"kind": "link", "text": "Go", "url": "{{ name }}"}]}, "fixed address"),
        ({"body": "Hi there", "buttons": [{"kind": "call", "text": "Call", "phone": "020 915"}]}, "international form"),
        ({"body": "Hi there", "buttons": [{"kind": "reply", "text": "x" * 25}]}, "24 are allowed"),
        ({"body": "Hi there", "header": {"kind": "image"}}, "no address"),
        ({"body": " "}, "no text"),
    ],
)
def test_what_a_reviewer_would_refuse_is_found_before(spec, label):
    found = " ".join(f"{p.what}" for p in review_problems(chat(**spec)))
    assert label in found or (label == "wants" and "fixed" in found)


def test_a_sound_text_has_nothing_a_reviewer_would_refuse():
    assert review_problems(chat()) == []


def test_an_approval_is_for_the_text_not_for_its_samples():
    one, other = chat(), chat(samples={"name": "Somebody"})
    assert one.numbered.digest("order") == other.numbered.digest("order")
    assert one.numbered.digest("order") != one.numbered.digest("offer")
    assert one.numbered.digest("order") != chat("Hello {{ name }}, it was here.").numbered.digest("order")


def test_the_request_for_review_has_samples_in_the_order_of_the_numbers():
    compiled = chat("A {{ b }} c {{ a }} d", samples={"a": "1", "b": "2"})
    assert review_values(compiled, "order", "m", "en")["samples"] == ["2", "1"]
