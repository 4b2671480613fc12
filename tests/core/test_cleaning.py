"""HTML from elsewhere: what no mail may hold is found, named, taken out; a payload's markup is text in every
channel.
"""

import pytest

from angelon.core.markup.cleaning import cleaned, unsafe
from angelon.core.messages.channels import compiled_part
from angelon.core.messages.email import compile_email
from angelon.core.problems import Invalid
from angelon.core.specs.message import EmailText
from tests import made

BAD = [
    ("<p>a</p><script>x</script>", "a script"),
    ("<p onclick='x()'>a</p>", "“onclick”"),
    ("<a href='javascript:x()'>a</a>", "runs a script"),
    ("<a href=' java\nscript:x()'>a</a>", "runs a script"),
    ("<iframe src='https://x.example'></iframe>", "a frame"),
    ("<form action='https://x.example'><input></form>", "a form"),
    ("<meta http-equiv='refresh' content='0;url=x'>", "a redirection"),
    ("<link rel='stylesheet' href='https://x.example/a.css'>", "a stylesheet from elsewhere"),
    ("<object data='x'></object>", "an embedded object"),
    ("<svg onload='x()'></svg>", "an SVG drawing"),
    ("<p style='width: expression(alert(1))'>a</p>", "a style that runs a script"),
    ("<base href='https://x.example'>", "a base address"),
    ("<img src='data:image/svg+xml,<svg onload=x()>'>", "runs a script"),
    ("<img srcset='https://x.example/a.png 1x, javascript:x() 2x'>", "runs a script"),
    ("<a href='\x01java\tscript:x()'>a</a>", "runs a script"),
    ("<a href='blob:https://x.example/1'>a</a>", "runs a script"),
    ("<style>@import url(https://x.example/a.css);</style>", "a stylesheet from elsewhere"),
    ("<style>p { width: exp/**/ression(alert(1)) }</style>", "a style that runs a script"),
    ("<p style='width: \\65 xpression(alert(1))'>a</p>", "a style that runs a script"),
    ("<dialog open>a</dialog>", "the element “dialog”"),
    ("<blink>a</blink>", "the element “blink”"),
]


@pytest.mark.parametrize(("page", "label"), BAD)
def test_what_no_mail_may_hold_is_named_and_refused(page, label):
    assert label in " ".join(p.what for p in unsafe(page))
    with pytest.raises(Invalid):
        compile_email(EmailText(subject="x", html=page), made.store(), "en")


@pytest.mark.parametrize(("page", "label"), BAD)
def test_it_is_taken_out_on_import_and_then_accepted(page, label):
    clean, taken = cleaned(f"<!doctype html><html><body><p>kept</p>{page}</body></html>")
    assert label in " ".join(taken)
    assert unsafe(clean) == []
    assert "kept" in clean
    assert cleaned(clean) == (clean, [])


def test_a_harmless_page_is_left_byte_for_byte():
    page = (
        "<!doctype html>\n<html><head><style>p{color:red}</style></head><body><!-- note --><p "
        "style='color:blue'>Hi</p><a href='https://x.example'>a</a></body></html>"
    )
    assert cleaned(page) == (page, [])


def test_an_unknown_element_loses_its_tag_and_keeps_its_words():
    clean, taken = cleaned("<html><body><p>Hello <o:p>dear</o:p> <blink>customer</blink></p></body></html>")
    assert taken == ["the element “o:p”", "the element “blink”"]
    assert "<p>Hello dear customer</p>" in clean


NASTY = [
    "<script>alert(1)</script>",
    "<img src=x onerror=alert(1)>",
    "{{ 7*7 }}",
    "{% if 1 %}x{% endif %}",
    "\"><a href='javascript:x'>",
    "{1}",
    "**bold** [a](javascript:x)",
]


@pytest.mark.parametrize("nasty", NASTY)
def test_a_payload_s_markup_is_text_in_every_channel(nasty):
    from angelon.core.specs import Message

    message = Message.model_validate(
        {
            "key": "m",
            "name": "M",
            "email": {
                "en": {
                    "subject": "For {{ customer_name }}",
                    "preheader": "{{ customer_name }}",
                    "blocks": [
                        {"kind": "heading", "text": "{{ customer_name }}"},
                        {"kind": "text", "text": "**Hi** {{ customer_name }}"},
                        {"kind": "lines"},
                        {"kind": "address"},
                        {"kind": "parcel"},
                    ],
                }
            },
            "sms": {"en": {"text": "Hi {{ customer_name }}!"}},
            "chat": {"en": {"body": "Hi {{ customer_name }} there"}},
        }
    )
    order = {
        "lines": [{"name": nasty, "quantity": 1, "price": None}],
        "total": nasty,
        "address": f"{nasty}\n{nasty}",
        "stage": 4,
        "parcels": [{"carrier": nasty, "number": nasty, "expected_on": None}],
    }
    values = {"customer_name": nasty, "order": order}
    mail = compiled_part(message, "email", "en", made.store()).render(values)
    assert unsafe(mail.html) == []
    for markup in ("<script>alert", "<img src=x", "<a href='javascript", "<strong>bold"):
        assert markup not in mail.html
    assert "49" not in mail.text
    assert nasty in mail.text
    assert nasty in mail.subject
    assert compiled_part(message, "sms", "en", made.store()).render(values).text == f"Hi {nasty}!"
    assert compiled_part(message, "chat", "en", made.store()).render(values).text == f"Hi {nasty} there"


def test_a_mail_for_the_dark_has_its_own_colours_and_progress_shows_how_far_it_is():
    page = compile_email(
        EmailText.model_validate({"subject": "x", "blocks": [{"kind": "parcel"}, {"kind": "address", "title": "To"}]}),
        made.store(),
        "de",
    )
    order = {
        "lines": [],
        "total": None,
        "address": "Jörg\nHusum",
        "stage": 4,
        "parcels": [{"carrier": "Saltway", "number": "S1", "expected_on": None}],
    }
    html = page.render({"order": order}).html
    assert "prefers-color-scheme: dark" in html
    assert "Jörg<br />Husum" in html
    assert html.count("5px solid #0E5A55") == 2, "packed and on its way are behind it"
    assert html.count("5px solid #dcd5c5") == 2
    assert "unterwegs" in html
    assert "5px solid" not in page.render({"order": order | {"stage": None}}).html


def test_columns_stand_side_by_side_and_disappear_with_their_condition():
    blocks = [
        {
            "kind": "columns",
            "only_if": "note",
            "left": [{"kind": "text", "text": "LEFT"}],
            "right": [{"kind": "heading", "text": "RIGHT {{ note }}"}],
        },
        {"kind": "text", "text": "after"},
    ]
    compiled = compile_email(EmailText.model_validate({"subject": "x", "blocks": blocks}), made.store(), "en")
    both, none = compiled.render({"note": "n"}), compiled.render({"note": None})
    assert "LEFT" in both.html
    assert "RIGHT n" in both.text
    assert "LEFT" not in none.html + none.text
    assert "after" in none.html
    with pytest.raises(Invalid) as error:
        compile_email(
            EmailText.model_validate(
                {
                    "subject": "x",
                    "blocks": [{"kind": "columns", "left": [], "right": [{"kind": "text", "text": "{{ a"}]}],
                }
            ),
            made.store(),
            "en",
        )
    assert error.value.problems[0].where == "blocks.0.right.0"
