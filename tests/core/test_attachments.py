"""Attachments: what a file is by its content, which order gets which, limits, calendar entries, and all of it
as MIME.
"""

import datetime as dt
import email
import email.policy
import struct
import zlib

import icalendar
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.messages.attachments import (
    File,
    LibraryFile,
    calendar_entry,
    check_picture,
    detect_media_type,
    file_name,
    files_for_order,
    limit_violation,
)
from angelon.core.messages.blocks import content_id, pictures_in, with_pictures_at
from angelon.core.messages.email import RenderedEmail, compile_email
from angelon.core.messages.mime import Envelope, build
from angelon.core.problems import Invalid
from angelon.core.specs.gateway import Limits
from angelon.core.specs.message import EmailText
from angelon.core.specs.store import Letterhead
from angelon.core.tables_out import active_again, inert
from angelon.core.values import Day
from tests import made

PNG = b"\x89PNG\r\n\x1a\n" + b"\x00" * 20
PDF = b"%PDF-1.7\n" + b"x" * 50
NOW = dt.datetime(2026, 11, 3, 9, 0, tzinfo=dt.UTC)


@pytest.mark.parametrize(
    ("data", "is_"),
    [
        (PNG, "image/png"),
        (PDF, "application/pdf"),
        (b"\xff\xd8\xff\xe0" + b"0" * 20, "image/jpeg"),
        (b"GIF89a" + b"0" * 20, "image/gif"),
        ("Grüße".encode(), "text/plain"),
        (b"<!doctype html><p>", "text/html"),
        (b"<svg onload=x>", "image/svg+xml"),
        (b"MZ\x90\x00", "application/x-msdownload"),
        (b"\x00\x01\xfe\xff\x80", "application/octet-stream"),
        (b"BEGIN:VCALENDAR\r\n", "text/calendar"),
        (b"PK\x03\x04" + b"\x00" * 30, "application/zip"),
    ],
)
def test_a_file_is_what_its_content_says(data, is_):
    assert detect_media_type(data) == is_


def png(width, height):
    """A picture as large as it says it is: its head, and a row of it."""

    def chunk(kind, data):
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\x00" * 9)) + chunk(b"IEND", b"")
    )


@pytest.mark.parametrize(("size", "told"), [((60_000, 60_000), "too many|pixels"), ((9_000, 9_000), "9,000 × 9,000")])
def test_a_picture_that_fills_memory_is_refused_by_its_head(size, told):
    with pytest.raises(Invalid, match=told):
        check_picture(png(*size))


@pytest.mark.parametrize("data", [png(1200, 800), b"\x89PNG\r\n\x1a\n", PDF, b"", b"GIF89a" + b"\xff" * 9])
def test_other_files_are_looked_at_and_left(data):
    check_picture(data)


@pytest.mark.parametrize(
    ("cell", "out"),
    [
        ("=1+1", "'=1+1"),
        (" =1", "' =1"),
        ("\u200b=1", "'\u200b=1"),
        ("\n@x", "'\n@x"),
        ("＝1", "'＝1"),
        ("\ufeff-1", "'\ufeff-1"),
        ("+353209151234", "+353209151234"),
        ("+a", "'+a"),
        ("Jo = 1", "Jo = 1"),
        ("", ""),
        ("'quoted", "'quoted"),
    ],
)
def test_a_cell_is_no_formula_and_comes_back(cell, out):
    assert inert(cell) == out
    assert active_again(out) == cell


def test_each_order_gets_what_is_kept_for_it():
    files = [
        LibraryFile(1, "care", "all.pdf", "application/pdf", 1),
        LibraryFile(2, "care", "heron.pdf", "application/pdf", 1, "sku", "HER-180"),
        LibraryFile(3, "care", "of-7.pdf", "application/pdf", 1, "reference", "BK-7"),
        LibraryFile(4, "care", "de.pdf", "application/pdf", 1, "locale", "de"),
        LibraryFile(5, "other", "x.pdf", "application/pdf", 1),
    ]
    assert [f.id for f in files_for_order(files, "care", {"HER-180"}, {"BK-7"}, "de-AT")] == [1, 2, 3, 4]
    assert [f.id for f in files_for_order(files, "care", {"LIN-050"}, {"BK-8"}, "en")] == [1]


@pytest.mark.parametrize(
    ("files", "label"),
    [
        ([File("a.pdf", "application/pdf", PDF)], ""),
        ([File("a.pdf", "application/pdf", PDF)] * 3, "3 attachments"),
        ([File("a.pdf", "application/pdf", PDF * 100)], "MB"),
        ([File("a.pdf", "application/x-msdownload", b"MZ")], "application/x-msdownload by its content"),
    ],
)
def test_limits_are_told_in_a_sentence(files, label):
    sent_for_order = limit_violation(files, Limits(attachments=2, total_bytes=1000, types=["application/pdf"]))
    assert label in sent_for_order
    assert bool(sent_for_order) == bool(label)


def test_a_calendar_entry_is_one_whole_day():
    data = calendar_entry("u@x", dt.date(2026, 12, 31), "Kite; comes, maybe\nsoon", "Deichstraße 12", NOW)
    (event,) = icalendar.Calendar.from_ical(data).walk("VEVENT")
    assert event.decoded("dtstart") == dt.date(2026, 12, 31)
    assert event.decoded("dtend") == dt.date(2027, 1, 1)
    assert str(event["summary"]) == "Kite; comes, maybe\nsoon"
    assert str(event["location"]) == "Deichstraße 12"
    assert event.decoded("dtstamp") == NOW
    assert max(len(line) for line in data.split(b"\r\n")) <= 75


@pytest.mark.parametrize(
    ("name", "kept"),
    [
        ("../../etc/passwd", "etcpasswd"),
        ("a\r\nb.pdf", "ab.pdf"),
        ("", "file"),
        ("Größe 名.pdf", "Größe 名.pdf"),
        ("x" * 200 + ".pdf", "x" * 96 + ".pdf"),
        ("..", "file"),
    ],
)
def test_a_file_s_name_trips_nobody_over(name, kept):
    assert file_name(name, "file") == kept


def mail_of(files, **envelope):
    given_ = {
        "from_address": "a@example.com",
        "from_name": "",
        "to_address": "b@example.com",
        "to_name": "",
        "message_id": "sd-1@example.com",
        "date": NOW,
    }
    data = build(RenderedEmail("Grüße", "<p>ä <img src='cid:x'></p>", "ä"), Envelope(**(given_ | envelope)), files)
    return data, email.message_from_bytes(data, policy=email.policy.strict)


def test_pictures_travel_beside_the_page_and_files_after_it():
    data, mail = mail_of(
        [
            File("logo.png", "image/png", PNG, "x@library"),
            File("Größe.pdf", "application/pdf", PDF),
            File("d.ics", "text/calendar", b"BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n"),
        ]
    )
    assert mail.get_content_type() == "multipart/mixed"
    related, pdf, entry = mail.iter_parts()
    assert related.get_content_type() == "multipart/related"
    alternative, picture = related.iter_parts()
    assert [p.get_content_type() for p in alternative.iter_parts()] == ["text/plain", "text/html"]
    assert (picture["Content-ID"], picture.get_content()) == ("<x@library>", PNG)
    assert (pdf.get_filename(), pdf.get_content(), pdf.get_content_disposition()) == ("Größe.pdf", PDF, "attachment")
    assert (
        entry.get_params()[1:] == [("charset", "utf-8"), ("method", "PUBLISH")]
        or entry.get_param("method") == "PUBLISH"
    )
    assert max(len(line) for line in data.split(b"\r\n")) <= 998


@settings(max_examples=60)
@given(st.text(min_size=1, max_size=120), st.binary(max_size=300), st.text(max_size=60))
def test_any_name_and_any_bytes_come_through_the_strict_parser(name, content, subject):
    data = build(
        RenderedEmail(subject, "<p>x</p>", "x"),
        Envelope(
            "a@example.com",
            name,
            "b@example.com",
            name,
            "i@example.com",
            NOW,
            "r@example.com, s@example.com",
            ("c@example.com", "d@example.com"),
        ),
        [File(name, "application/octet-stream", content)],
    )
    mail = email.message_from_bytes(data, policy=email.policy.strict)
    (attached,) = mail.iter_attachments()
    assert attached.get_payload(decode=True) == content
    assert attached.get_filename()
    assert [a.addr_spec for a in mail["Cc"].addresses] == ["c@example.com", "d@example.com"]
    assert [a.addr_spec for a in mail["Reply-To"].addresses] == ["r@example.com", "s@example.com"]
    assert mail.defects == []
    assert data.isascii()


def test_a_letterhead_s_logo_is_a_picture_that_travels_along():
    store = made.store().model_copy(
        update={
            "letterhead": Letterhead(
                logo="library:letterhead/kite.png", logo_width=120, signature="The **workshop**", font="serif"
            )
        }
    )
    made_ = compile_email(
        EmailText(subject="Hi", blocks=[{"kind": "image", "src": "library:pictures/sail.png", "alt": "a sail"}]),
        store,
        "en",
    ).render({})
    assert pictures_in(made_.html) == ["letterhead/kite.png", "pictures/sail.png"]
    assert f"cid:{content_id('letterhead/kite.png')}" in made_.html
    assert "/files/letterhead%2Fkite.png" in with_pictures_at(
        made_.html, lambda mark: "/files/" + mark.replace("/", "%2F")
    )
    assert "<strong>workshop</strong>" in made_.html
    assert "The workshop" in made_.text
    assert "Georgia" in made_.html


def test_envelope_and_attachments_use_values_of_the_order():
    message = made.message(
        envelope={"cc": "{{ boss }}, two@example.com", "reply_to": "{{ boss }}"},
        attachments=[
            {"kind": "url", "url": "https://x.example/{{ number }}.pdf", "name": "Invoice {{ number }}.pdf"},
            {"kind": "calendar", "day": "on", "title": "{{ number }} comes"},
            {"kind": "library", "shelf": "care"},
        ],
    )
    compiled = compile_email(message.email["en"], made.store(), "en", message)
    assert {"boss", "number", "on"} <= compiled.names
    values = dict.fromkeys(compiled.names, "x") | {
        "order": {"lines": [], "total": None},
        "boss": "boss@example.com",
        "number": "7",
        "on": Day(dt.date(2026, 11, 10)),
    }
    rendered = compiled.render(values)
    assert (rendered.cc, rendered.reply_to) == ("boss@example.com, two@example.com", "boss@example.com")
    assert [(w.kind, w.url or w.shelf or w.title, w.on) for w in rendered.wanted] == [
        ("url", "https://x.example/7.pdf", None),
        ("calendar", "7 comes", dt.date(2026, 11, 10)),
        ("library", "care", None),
    ]
    without_day = compiled.render(values | {"on": None})
    assert [w.kind for w in without_day.wanted] == ["url", "library"]


def test_an_attachment_without_an_address_is_told():
    message = made.message(attachments=[{"kind": "url", "url": ""}])
    with pytest.raises(Invalid, match="no address"):
        compile_email(message.email["en"], made.store(), "en", message)
