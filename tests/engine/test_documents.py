"""Invoices of real orders: made once, numbered without gaps, taken back, attached to mails, held where they must be."""

import dataclasses
import email
import threading
from decimal import Decimal

import pytest

from angelon.core.documents.document import Document
from angelon.core.documents.rules import HeldBack
from angelon.core.problems import Invalid, NotFound
from angelon.core.specs import Message, Route
from angelon.core.specs.documents import Documents
from angelon.db.log import documents, orders
from angelon.db.tables import MessageRow, RouteRow, SourceRow
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.engine.unit import Actor, unit
from tests import made
from tests.core.documents.made import NUMBERS
from tests.engine.test_fallbacks import Shop

SETTINGS = {
    "on": True, "home": "IE", "seller": {"name": "Kites", "lines": ["Slip 4"], "city": "Cobh"}, "one_stop": True,
    "registrations": [{"country": "IE", "number": NUMBERS["IE"], "since": "2020-01-01"}], "check_business": False,
}  # fmt: skip


@pytest.fixture
def shop(bench, mailbox):
    shop = Shop(bench)
    reading = made.source().model_dump(mode="json")["reading"]
    reading |= {"postage": {"default": "6.50"}, "address": {"path": "$.ship", "default": "Slip 4\nP24 Cobh"}}
    bench.change(made.source(reading=reading), SourceRow)
    shop.store(documents=SETTINGS)
    return shop


def order(shop, number=1, **changes):
    buyer = {"name": "Jo", "email": f"jo{number}@example.org", "country": "IE"}
    told = {"id": number, "reference": f"BK-{number}", "buyer": buyer} | changes
    shop.bench.deliver(made.body(**told), store_delivery=f"d{number}")
    shop.bench.plan()
    (row,) = shop.bench.rows('SELECT id FROM "order" WHERE number = ?', f"BK-{number}")
    with shop.bench.database.reading() as session:
        return orders.get(session, shop.bench.store_id, row.id)


def issue(shop, placed, change=False, to="", **request):
    with unit(shop.bench.services.installation, shop.bench.store_id, Actor("Nuala")) as work:
        return operations.issue(work, placed, Request(**request), to, change=change)


def credit(shop, id_, **how):
    with unit(shop.bench.services.installation, shop.bench.store_id, Actor("Nuala")) as work:
        return operations.credit(work, id_, **how)


def mails(shop):
    return [email.message_from_bytes(row.raw) for row in shop.bench.box.mails()]


def rows(shop):
    return shop.bench.rows("SELECT id, kind, name, net, tax, gross, over, corrects_id, email FROM document ORDER BY id")


def test_an_order_gets_one_invoice_however_often_it_is_asked_for(shop):
    placed = order(shop)
    first = issue(shop, placed)
    assert (first.number, first.new) == ("2026-0001", True)
    assert issue(shop, placed) == dataclasses.replace(first, new=False)
    assert issue(shop, order(shop, 2)).number == "2026-0002"
    (row, _) = rows(shop)
    assert (row.net, row.tax, row.gross) == (11016, 2534, 13550)
    with shop.bench.database.reading() as session:
        document = Document.of(documents.get(session.connection(), shop.bench.store_id, first.id).frozen)
    assert (document.number, document.order, document.buyer.name) == ("2026-0001", "BK-1", "Jo")
    assert document.buyer.lines == ("Slip 4", "P24 Cobh")


def test_another_address_takes_it_back_and_makes_another(shop):
    placed = order(shop)
    first = issue(shop, placed)
    other = {"company": "Harbour Ltd", "lines": ["Quay 1"], "city": "Cork"}
    with pytest.raises(Invalid, match="2026-0001 already"):
        issue(shop, placed, **other)
    second = issue(shop, placed, change=True, **other)
    assert second.number == "2026-0002"
    assert [(row.kind, row.name, row.over, row.corrects_id) for row in rows(shop)] == [
        ("invoice", "2026-0001", 1, None), ("credit", "C2026-0001", 0, first.id), ("invoice", "2026-0002", 0, None),
    ]  # fmt: skip
    assert sum(row.gross * (-1 if row.kind == "credit" else 1) for row in rows(shop)) == 13550


def test_what_is_left_when_its_order_went_with_its_time_is_taken_back_and_nobody_is_told(shop):
    first = issue(shop, order(shop))
    told = "SELECT count(*) FROM event WHERE type LIKE 'document.%' OR parent_id IS NOT NULL"
    before = shop.bench.rows(told)
    with shop.bench.database.connection() as connection:
        documents.forget_orders(connection, [id_ for (id_,) in shop.bench.rows('SELECT id FROM "order"')])
    assert credit(shop, first.id).number == "C2026-0001"
    assert shop.bench.rows("SELECT count(*) FROM document WHERE order_id IS NULL") == [(2,)]
    assert shop.bench.rows(told) == before


def test_it_is_taken_back_in_parts_until_nothing_is_left(shop):
    first = issue(shop, order(shop))
    credit(shop, first.id, amount=Decimal("35.50"))
    credit(shop, first.id, pieces={1: Decimal(1)})
    last = credit(shop, first.id)
    notes = [row for row in rows(shop) if row.kind == "credit"]
    assert [row.name for row in notes] == ["C2026-0001", "C2026-0002", "C2026-0003"]
    assert sum(row.gross for row in notes) == 13550
    assert sum(row.net for row in notes) == 11016
    assert rows(shop)[0].over
    with pytest.raises(HeldBack, match="credited already"):
        credit(shop, first.id)
    with pytest.raises(NotFound):
        credit(shop, last.id)
    with pytest.raises(NotFound):
        credit(shop, 999)
    assert issue(shop, order(shop, 1)).number == "2026-0002"  # another one may be made


def test_numbers_have_no_gap_where_something_fails_or_many_ask_at_once(shop):
    placed = [order(shop, number) for number in range(1, 13)]
    failed = []

    def ask(one, breaks):
        try:
            with unit(shop.bench.services.installation, shop.bench.store_id, Actor("x")) as work:
                operations.issue(work, one, Request())
                if breaks:
                    raise RuntimeError  # the disk is full, the process is killed
        except RuntimeError:
            failed.append(one)

    threads = [
        threading.Thread(target=ask, args=(one, number % 3 == 0)) for number, one in enumerate([*placed, *placed])
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for one in placed:
        issue(shop, one)
    numbers = [row.number for row in shop.bench.rows("SELECT number FROM document ORDER BY number")]
    assert numbers == list(range(1, 13))
    assert failed


def test_what_was_made_tells_routes_and_its_mail_goes_to_the_address_that_was_typed(shop, mailbox):
    spec = {"key": "invoice", "name": "Invoice", "locale": "en", "attachments": [{"kind": "document"}],
            "email": {"en": {"subject": "Invoice {{ order.document.number }}",
                             "blocks": [{"kind": "text", "text": "Here it is."}]}}}  # fmt: skip
    shop.publish(MessageRow, Message.model_validate(spec))
    shop.publish(RouteRow, Route.model_validate({
        "key": "invoice", "name": "Invoice", "when": ["document.made"], "sources": ["shop"], "send": "invoice",
        "channel": "email", "gateway": "mailroom"}))  # fmt: skip
    placed = order(shop)
    issue(shop, placed, to="books@harbour.example")
    shop.bench.plan()
    shop.bench.dispatcher().run_batch(10)
    (mail,) = [mail for mail in mails(shop) if "books@" in mail["To"]]
    assert mail["To"] == "Jo <books@harbour.example>"
    assert mail["Subject"] == "Invoice 2026-0001"
    (pdf,) = [part for part in mail.walk() if part.get_content_type() == "application/pdf"]
    assert pdf.get_filename() == "2026-0001.pdf"
    assert pdf.get_payload(decode=True).startswith(b"%PDF-1.7")
    events = [row.type for row in shop.bench.rows("SELECT type FROM event ORDER BY received_at, id")]
    assert events.count("document.made") == 1


def with_invoice(shop, required=True):
    spec = made.message().model_dump(mode="json")
    shop.publish(MessageRow, Message.model_validate(
        spec | {"attachments": [{"kind": "document", "required": required}, {"kind": "document", "of": "delivery"}]}
    ))  # fmt: skip
    shop.publish(RouteRow, made.route())


def test_a_message_takes_its_invoice_along_and_makes_it_once(shop, mailbox):
    with_invoice(shop)
    order(shop)
    shop.bench.dispatcher().run_batch(10)
    (mail,) = mails(shop)
    names = [part.get_filename() for part in mail.walk() if part.get_content_type() == "application/pdf"]
    assert names == ["2026-0001.pdf", "Lieferschein BK-1.pdf"]
    assert [row.name for row in rows(shop)] == ["2026-0001"]
    assert not shop.bench.rows("SELECT * FROM event WHERE type LIKE 'document%'")  # the mail itself tells it


def test_what_cannot_be_worked_out_holds_the_mail_and_stands_in_the_list_until_it_can(shop, mailbox):
    with_invoice(shop)
    shop.store(documents=SETTINGS | {"registrations": [], "on": True})
    order(shop)
    shop.bench.dispatcher().run_batch(10)
    (send,) = shop.bench.rows("SELECT state, reason FROM send")
    assert send.state == "held"
    assert "no registration on 3 November 2026" in send.reason
    with shop.bench.database.reading() as session:
        (held,) = documents.held(session.connection(), shop.bench.store_id, 10)
    assert held.order_number == "BK-1"
    assert rows(shop) == []
    shop.store(documents=SETTINGS)
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'scheduled', reason = ''")
    shop.bench.dispatcher().run_batch(10)
    assert len(mails(shop)) == 1
    with shop.bench.database.reading() as session:
        assert documents.held(session.connection(), shop.bench.store_id, 10) == []


def test_where_it_is_not_needed_the_mail_goes_without(shop, mailbox):
    with_invoice(shop, required=False)
    shop.store(documents=SETTINGS | {"registrations": []})
    order(shop)
    shop.bench.dispatcher().run_batch(10)
    (mail,) = mails(shop)
    assert not [part for part in mail.walk() if part.get_filename() == "2026-0001.pdf"]


def test_an_order_that_goes_leaves_its_invoice(shop):
    placed = order(shop)
    issue(shop, placed)
    with shop.bench.database.connection() as connection:
        documents.forget_orders(connection, [placed.id])
        connection.exec_driver_sql('DELETE FROM "order" WHERE 1 = 0')
    (row,) = shop.bench.rows("SELECT order_id, frozen FROM document")
    assert row.order_id is None


def test_it_is_not_paid_until_the_shop_s_source_says_so(shop):
    source = made.source().model_dump(mode="json")
    reading = source["reading"] | {"postage": {"default": "6.50"}}
    statuses = source["statuses"] | {"settled": "order.paid"}
    shop.bench.change(made.source(reading=reading, statuses=statuses), SourceRow)
    placed = order(shop)
    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.reading() as session:
        assert operations.preview(session, live, placed, Request(), shop.bench.clock.now()).due == 13550
    shop.bench.deliver(made.body(id=1, reference="BK-1", state="settled"), store_delivery="p1", store_event="changed")
    shop.bench.plan()
    with shop.bench.database.reading() as session:
        assert operations.preview(session, live, placed, Request(), shop.bench.clock.now()).due == 0


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"registrations": []}, "no tax registration"),
        ({"seller": {"name": ""}}, "names the shop and where it is"),
        ({"check_business": True}, "it is not said who is asked"),
    ],
)
def test_invoices_are_not_switched_on_before_enough_is_said(shop, change, told):
    with (
        pytest.raises(Invalid, match=told),
        unit(shop.bench.services.installation, shop.bench.store_id) as work,
    ):
        operations.save_settings(work, Documents.model_validate(SETTINGS | change))


def test_switched_off_nothing_is_made(shop):
    placed = order(shop)
    shop.store(documents=SETTINGS | {"on": False})
    with pytest.raises(Invalid, match="switched off"):
        issue(shop, placed)


def test_a_test_of_a_message_shows_its_invoice_without_a_number(shop, mailbox):
    with_invoice(shop)
    placed = order(shop)
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET test = (1 = 1)")
    shop.bench.dispatcher().run_batch(10)
    (mail,) = mails(shop)
    names = [part.get_filename() for part in mail.walk() if part.get_content_type() == "application/pdf"]
    assert names[0] == f"Rechnung {placed.number}.pdf"
    assert rows(shop) == []
