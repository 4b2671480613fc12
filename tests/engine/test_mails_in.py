"""Mails that are deliveries: over SMTP and out of a maildir, once each, from whom is allowed, with their files."""

import email.message
import random
import smtplib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.mails_in import read_mail
from angelon.core.payload.body import NotReadable
from angelon.core.specs import Source
from angelon.core.specs.mail_in import MailIn
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.mails_in import MailsIn
from angelon.engine.feedback.returns import Returns, ReturnsListener, from_maildir
from tests.engine.test_fallbacks import Shop
from tests.web.test_route_pages import text

PDF = b"%PDF-1.7\n" + b"an invoice " * 9
SPEC = {"address": "In@kites.example", "senders": ["notices@pay.example", "@market.example"],
        "patterns": [r"order (?P<order>[A-Z]+-\d+)", r"(?P<what>[Rr]efunded)"]}  # fmt: skip
READING = {"reference": "$.found.order", "payment_status": "$.found.what"}


def mail(sender="notices@pay.example", subject="Refund of order BK-7", id_="<m1@pay.example>", file=b"", html=""):
    made = email.message.EmailMessage()
    made["From"], made["To"], made["Subject"] = f"Payments <{sender}>", "in@kites.example", subject
    made["Date"] = "Mon, 30 Nov 2026 10:00:00 +0100"
    if id_:
        made["Message-ID"] = id_
    made.set_content(html or "We have refunded it.", subtype="html" if html else "plain")
    if file:
        made.add_attachment(file, maintype="application", subtype="octet-stream", filename="../../inv oice.pdf")
    return made.as_bytes()


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    spec = {"key": "pay", "name": "Payments", "tells": "orders", "reading": READING, "mail": SPEC,
            "payment_statuses": {"refunded": "payment.refunded"}}  # fmt: skip
    bench.change(Source.model_validate(spec), SourceRow)
    shop.mails = MailsIn(bench.database, bench.services.setups, bench.clock)
    return shop


@pytest.fixture
def listener(shop):
    bench = shop.bench
    server = ReturnsListener(
        Returns(bench.database, bench.services.setups, bench.vault, bench.clock), "127.0.0.1", 0, shop.mails
    )
    server.start()
    yield server
    server.stop()


def send(listener, data, sender="notices@pay.example", to="in@kites.example"):
    with smtplib.SMTP("127.0.0.1", listener.port, timeout=10) as client:
        client.sendmail(sender, [to], data)


def events(shop):
    return shop.bench.rows("SELECT * FROM event WHERE parent_id IS NULL")


def test_a_mail_is_a_delivery_once_however_often_it_comes(shop, listener):
    for _ in range(3):
        send(listener, mail())
    assert len(events(shop)) == 1
    shop.bench.plan()
    assert [row.number for row in shop.bench.rows('SELECT number FROM "order"')] == ["BK-7"]
    send(listener, mail(id_="<m2@pay.example>"))
    assert len(events(shop)) == 2


def test_who_is_not_allowed_is_refused_and_it_is_said(shop, listener, client):
    with pytest.raises(smtplib.SMTPDataError, match="not among the senders"):
        send(listener, mail(), sender="thief@elsewhere.example")
    with pytest.raises(smtplib.SMTPDataError, match="not among the senders"):
        send(listener, mail(sender="thief@elsewhere.example"))
    with pytest.raises(smtplib.SMTPRecipientsRefused):
        send(listener, mail(), to="other@kites.example")
    assert events(shop) == []
    assert "not among the senders" in text(client.get("/sources/pay/capture"))
    send(listener, mail(sender="any.body@market.example"), sender="bounce@market.example")
    assert len(events(shop)) == 1


def test_attachments_are_files_of_the_order(shop, listener):
    send(listener, mail(file=PDF))
    (file,) = shop.bench.rows("SELECT * FROM file")
    assert (file.shelf, file.by, file.match, file.type) == ("mail-pay", "reference", "BK-7", "application/pdf")
    assert "/" not in file.name
    assert file.data == PDF


def test_a_maildir_is_emptied_the_same_way(shop, tmp_path):
    for folder in ("new", "cur", "tmp"):
        (tmp_path / folder).mkdir()
    (tmp_path / "new" / "1").write_bytes(mail())
    (tmp_path / "new" / "2").write_bytes(mail(sender="thief@elsewhere.example"))
    (tmp_path / "new" / "3").write_bytes(b"\x00\xff broken")
    bench = shop.bench
    returns = Returns(bench.database, bench.services.setups, bench.vault, bench.clock)
    assert from_maildir(returns, tmp_path, shop.mails) == 2
    assert len(events(shop)) == 1
    assert len(list((tmp_path / "cur").iterdir())) == 3


def test_a_mail_of_html_is_read_as_people_see_it():
    spec = MailIn.model_validate(SPEC)
    read = read_mail(spec, mail(subject="Hello", html="<p>Your <b>order BK-9</b> was<br>Refunded</p>"))
    assert read.payload["found"] == {"order": "BK-9", "what": "Refunded"}
    assert read.payload["date"] == "2026-11-30T10:00:00+01:00"


def test_a_pattern_without_end_harms_only_itself():
    spec = MailIn.model_validate(SPEC | {"patterns": [r"(?P<x>(a+)+)$b", r"order (?P<order>\S+)"]})
    read = read_mail(spec, mail(subject=f"order BK-7 {'a' * 4000}!"))
    assert read.payload["found"]["order"] == "BK-7"


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ({"address": "nobody"}, "no email address"),
        ({"senders": []}, "names nobody"),
        ({"senders": ["pay"]}, "no address and no domain"),
        ({"patterns": ["order (\\d+)"]}, "no named group"),
        ({"patterns": ["("]}, "no regular expression"),
    ],
)
def test_what_cannot_be_set_up_is_refused(wrong, told):
    with pytest.raises(ValueError, match=told):
        MailIn.model_validate(SPEC | wrong)


@given(seed=st.integers(0, 10**9))
@settings(max_examples=200)
def test_a_mutated_mail_is_read_or_refused_in_a_sentence(seed):
    dice, data = random.Random(seed), bytearray(mail(file=PDF))
    for _ in range(dice.randint(1, 12)):
        place = dice.randrange(len(data))
        match dice.randrange(3):
            case 0:
                data[place] = dice.randrange(256)
            case 1:
                del data[place : place + dice.randint(1, 60)]
            case 2:
                data[place:place] = bytes(dice.randrange(256) for _ in range(dice.randint(1, 40)))
        data = data or bytearray(b"x")
    try:
        read = read_mail(MailIn.model_validate(SPEC), bytes(data))
        assert isinstance(read.payload["text"], str)
    except NotReadable as error:
        assert error.problem.what.endswith(".")


def test_it_is_set_up_on_its_page_and_tried_with_a_mail(shop, client):
    spec = {"key": "other", "name": "Other"}
    shop.bench.change(Source.model_validate(spec), SourceRow)
    edits = shop.bench.rows("SELECT edits FROM source WHERE key = 'other'")[0].edits
    form = {"address": "two@kites.example", "senders": "notices@pay.example", "patterns": SPEC["patterns"][0],
            "on": "yes", "edits": edits, "mail": mail().decode()}  # fmt: skip
    page = text(client.post("/sources/other/mail", data=form | {"act": "try"}))
    assert '"order": "BK-7"' in page
    assert "refused" in text(client.post("/sources/other/mail", data=form | {"act": "try", "senders": "@x.example"}))
    taken = client.post("/sources/other/mail", data=form | {"act": "save", "address": "in@kites.example"})
    assert taken.status_code == 422
    assert "are those of Payments" in text(taken)
    assert "Saved." in text(client.post("/sources/other/mail", data=form | {"act": "save"}, follow_redirects=True))
    kept = client.post("/sources/other/mail/sample", data={"mail": mail().decode()})
    assert "/sources/other/read?sample=" in kept.location
    wrong = client.post("/sources/other/mail", data=form | {"act": "save", "patterns": "("})
    assert wrong.status_code == 422
    assert ">(<" in wrong.get_data(as_text=True)


@pytest.mark.parametrize("id_", ["<", "<>", "<@>", "<a@[", "<\x00>", "\u2028", "<a@b", "[]"])
def test_a_header_that_the_parser_breaks_off_at_is_left_out_and_the_mail_is_read(id_):
    heads = f"Message-ID: {id_}\nDate: {id_}\nTo: {id_}\nSubject: Paid {id_}"
    data = f"From: {SPEC['senders'][0]}\n{heads}\n\norder BK-7".encode()
    read = read_mail(MailIn.model_validate(SPEC), data)
    assert read.payload["text"] == "order BK-7"
