"""An email: blocks to HTML and text, escaping, letterhead, bad blocks, and the bytes that go out."""

import datetime as dt
import email
import email.policy
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.messages.attachments import File
from angelon.core.messages.email import RenderedEmail, compile_email
from angelon.core.messages.mime import Envelope, build, mailbox
from angelon.core.problems import Invalid
from angelon.core.specs.message import EmailText
from angelon.core.specs.store import Letterhead
from angelon.core.templates import CantRender, one_line
from angelon.core.values import Money
from tests import made

ORDER = {
    "lines": [
        {"name": "Heron <1>", "quantity": 1, "price": Money(Decimal(119), "EUR")},
        {"name": "line", "quantity": 2, "price": None},
    ],
    "total": Money(Decimal("129"), "EUR"),
}


def mail(blocks=(), subject="Hi", locale="en", **spec):
    return compile_email(
        EmailText.model_validate({"subject": subject, "blocks": list(blocks), **spec}), made.store(), locale
    )


def test_a_mail_has_values_in_html_and_text():
    rendered = mail(
        [
            {"kind": "text", "text": "Hello {{ name }},\n\n**bold** _it_ [here](https://example.com/{{ no }})"},
            {"kind": "lines"},
        ],
        locale="de",
    ).render({"name": "Jörg & Söhne", "no": "BK 7", "order": ORDER})
    assert "Jörg &amp; Söhne" in rendered.html
    assert "<strong>bold</strong> <em>it</em>" in rendered.html
    assert 'href="https://example.com/BK%207"' in rendered.html
    assert "Heron &lt;1&gt;" in rendered.html
    assert "Gesamt" in rendered.html
    assert "Hello Jörg & Söhne,\n\nbold" in rendered.text
    assert "- 1 × Heron <1> (119,00\u00a0€)\n- 2 × line\nGesamt: 129,00\u00a0€" in rendered.text


def test_a_loop_over_lines_stays_inside_its_table():
    html = mail([{"kind": "lines"}]).render({"order": ORDER}).html
    assert html.index("<table") < html.index("Heron &lt;1&gt;") < html.index(">line<") < html.index(">Total<")
    assert html.count("<tr") == html.count("</tr>")


def test_a_block_appears_only_if_its_variable_has_a_value():
    compiled = mail(
        [{"kind": "text", "text": "card: {{ note }}", "only_if": "note"}, {"kind": "text", "text": "always"}]
    )
    without = compiled.render({"note": None})
    assert "card" not in without.html + without.text
    assert "always" in without.html
    assert "card: x" in compiled.render({"note": "x"}).html


def test_letterhead_and_prefix_are_on_every_mail():
    store = made.store().model_copy(
        update={
            "letterhead": Letterhead(accent="#123456", header="KITES", footer="Ropewalk 3", subject_prefix="[Kites]")
        }
    )
    rendered = compile_email(EmailText(subject="Hi", blocks=[]), store, "en").render({})
    assert rendered.subject == "[Kites] Hi"
    assert "#123456" in rendered.html
    assert "Ropewalk 3" in rendered.html
    assert "Ropewalk 3" in rendered.text


@pytest.mark.parametrize(
    ("block", "label"),
    [
        ({"kind": "text", "text": "{{ a"}, "never closed"),
        ({"kind": "button", "text": "go", "url": "javascript:alert(1)"}, "no web address"),
        ({"kind": "mjml", "mjml": "<mj-text>open"}, "MJML can't be read"),
        ({"kind": "mjml", "mjml": "{% for a in b %}<mj-text>x</mj-text>"}, "never closed"),
    ],
)
def test_a_bad_block_is_named(block, label):
    with pytest.raises(Invalid) as caught:
        mail([{"kind": "text", "text": "fine"}, block])
    assert label in caught.value.problems[0].what
    assert caught.value.problems[0].where.startswith("blocks")


def test_a_link_made_of_a_value_has_to_be_a_web_address():
    compiled = mail([{"kind": "button", "text": "go", "url": "{{ link }}"}])
    assert 'href="https://example.com/?a=1&amp;b=2"' in compiled.render({"link": "https://example.com/?a=1&b=2"}).html
    with pytest.raises(CantRender, match="a link has to be a web address"):
        compiled.render({"link": "javascript:alert(1)"})


def test_a_loop_may_go_around_mjml():
    compiled = mail(
        [{"kind": "mjml", "mjml": "{% for a in b %}<mj-text>item {{ a }}</mj-text>{% endfor %}<mj-text>end</mj-text>"}]
    )
    rendered = compiled.render({"b": ["x", "y"]})
    assert rendered.html.index("item x") < rendered.html.index("item y") < rendered.html.index(">end<")
    assert "item" not in compiled.render({"b": []}).html


def test_mjml_of_one_s_own_fetches_nothing():
    rendered = mail([{"kind": "mjml", "mjml": '<mj-text font-family="Ubuntu, sans-serif">hi</mj-text>'}]).render({})
    assert "hi" in rendered.html


def test_own_html_is_inlined_and_gets_a_text_part():
    rendered = mail(
        html=(
            "<style>p{color:red}</style><p>Hello {{ name }}</p><table>{% for l in order.lines %}<tr><td>{{ l.name "
            "}}</td></tr>{% endfor %}</table>"
        )
    ).render({"name": "<b>", "order": ORDER})
    assert '<p style="color: red;">Hello &lt;b&gt;</p>' in rendered.html
    assert (
        rendered.html.index("<table>")
        < rendered.html.index("<tr><td>Heron &lt;1&gt;</td></tr>")
        < rendered.html.index("<tr><td>line</td></tr>")
        < rendered.html.index("</table>")
    )
    assert "Hello <b>" in rendered.text
    assert rendered.text.index("Heron <1>") < rendered.text.index("line")


def test_a_subject_is_one_line_whatever_is_in_it():
    assert (
        mail(subject="Hi {{ name }}").render({"name": "a\r\nBcc: x@example.com\x00\u2028b"}).subject
        == "Hi a Bcc: x@example.com b"
    )


def envelope(**changes):
    spec = {
        "from_address": "orders@kites.example",
        "from_name": "Kites",
        "to_address": "jo@example.org",
        "to_name": "Jo",
        "message_id": "sd-1@kites.example",
        "date": dt.datetime(2026, 11, 3, tzinfo=dt.UTC),
    }
    return Envelope(**(spec | changes))


def parsed(data):
    return email.message_from_bytes(data, policy=email.policy.strict.clone(max_line_length=998))


@settings(max_examples=150, deadline=None)
@given(subject=st.text(max_size=200), name=st.text(max_size=60), text=st.text(max_size=400))
def test_any_mail_parses_strictly_and_says_what_it_said(subject, name, text):
    text = text.encode("utf-8", "ignore").decode().replace("\r", "").replace("\x00", "")
    subject, name = (s.encode("utf-8", "ignore").decode() for s in (subject, name))
    data = build(RenderedEmail(subject, f"<p>{text}</p>", text + "\n"), envelope(to_name=name))
    assert data.isascii()
    assert all(len(line) <= 998 for line in data.split(b"\r\n"))
    assert b"\n" not in data.replace(b"\r\n", b"")
    message = parsed(data)
    assert not message.defects
    assert " ".join(str(message["Subject"]).split()) == " ".join(one_line(subject).split())
    assert message["To"].addresses[0].addr_spec == "jo@example.org"
    assert len(message["To"].addresses) == 1
    assert message.get_body(("plain",)).get_content().replace("\r\n", "\n").rstrip("\n") == text.rstrip("\n")


@settings(max_examples=150, deadline=None)
@given(pieces=st.lists(st.sampled_from(["<td>", "</td>", "<", ">", "ü", " ", "\n", ".", "=", "a" * 90, "x" * 1200])))
def test_a_page_comes_back_as_it_was_in_lines_as_short_as_they_have_to_be(pieces):
    """Quoted-printable (RFC 2045, section 6.7), whose pieces between tags are put together by soft line breaks."""
    page = "".join(pieces) + "<p>Grüße" + "y" * 80
    data = build(RenderedEmail("Hi", page, "Hi\n"), envelope())
    assert all(len(line) <= 78 for line in data.partition(b"text/html")[2].split(b"\r\n"))  # 76, but =20 at an end
    assert parsed(data).get_body(("html",)).get_payload(decode=True).decode().replace("\r\n", "\n") == page


def test_a_line_break_in_an_address_can_t_become_a_header():
    with pytest.raises(ValueError, match="line break"):
        mailbox("a@example.org\r\nBcc: b@example.org", "")
    data = build(RenderedEmail("s", "<p>x</p>", "x"), envelope(to_name="Jo\r\nBcc: evil@example.org"))
    assert parsed(data)["Bcc"] is None


@pytest.mark.parametrize("leave", ["https://x.example/p/a\r\nBcc: evil@example.org", "https://x.example/ b", "a>b"])
def test_an_address_to_leave_by_can_t_end_its_header(leave):
    with pytest.raises(ValueError, match="line break"):
        build(RenderedEmail("s", "<p>x</p>", "x", leave=leave), envelope())


@pytest.mark.parametrize("word", ["=?utf-8?b?SGk=?=", "a =?utf-8?q?=41?= b", "=?", "x=?us-ascii?q?y?="])
def test_what_somebody_has_typed_is_decoded_by_no_mail_program(word):
    files = [File(word, "application/pdf", b"%PDF-1.7")]
    data = build(RenderedEmail(word, "<p>x</p>", "x"), envelope(to_name=word, from_name=word), files)
    message = parsed(data)
    assert str(message["Subject"]) == word
    assert message["To"].addresses[0].display_name == word
    assert message["From"].addresses[0].display_name == word
    assert [part.get_filename() for part in message.iter_attachments()] == [word]


def test_many_addresses_are_folded():
    many = [f"{'a' * 60}{n}@{'b' * 60}.example" for n in range(40)]
    data = build(RenderedEmail("s", "<p>x</p>", "x"), envelope(cc=tuple(many), reply_to=", ".join(many)))
    assert max(map(len, data.split(b"\r\n"))) < 200
    assert [one.addr_spec for one in parsed(data)["Reply-To"].addresses] == many


@pytest.mark.parametrize("name", ["Jo", 'J"o', "Ahlers, Jörg", "空 森", "Doe, J. (x)", "a" * 200])
def test_names_come_back_as_they_were(name):
    address = parsed(build(RenderedEmail("s", "<p>x</p>", "x"), envelope(to_name=name)))["To"].addresses[0]
    assert address.display_name == name[:120]
