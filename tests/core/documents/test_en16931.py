"""Invoices as EN 16931 has them: against its schema and its business rules."""

import dataclasses

import pytest

from angelon.core.documents import crediting
from angelon.core.documents.en16931 import expressible, to_xml
from angelon.core.documents.making import buyer_of, credit_note, invoice
from tests.core.documents.cases import CASES
from tests.core.documents.made import DAY, order, shop, store
from tests.core.documents.rules import broken
from tests.core.documents.test_figures import made

WORKED = [case for case in CASES if " " not in case[6]]


def numbered(case):
    _, options, buyer, lines, parts, total, *_ = case
    _, _, document = made(options, buyer, lines, parts, total)
    return dataclasses.replace(document, number="2026-0001", under="Thank you.", questions="help@kites.example")


@pytest.mark.parametrize("case", WORKED, ids=[case[0] for case in WORKED])
def test_every_worked_out_case_keeps_the_rules(case):
    document = numbered(case)
    if not expressible(document):
        assert document.figures.digits == 3
        return
    assert broken(to_xml(document)) == []
    if document.figures.gross:
        assert broken(to_xml(dataclasses.replace(document, paid=False))) == []


@pytest.mark.parametrize("case", WORKED[::4], ids=[case[0] for case in WORKED[::4]])
def test_every_credit_note_keeps_them(case):
    document = numbered(case)
    figures = document.figures
    if not expressible(document) or figures.gross < 3:
        return
    before = [[0, 0]] * len(crediting.items_of(figures))
    part = crediting.credit_amount(figures, before, figures.gross // 3)
    rest = crediting.credit_rest(figures, crediting.credited(figures, [part]))
    for parts in (part, rest, crediting.credit_rest(figures, before)):
        assert broken(to_xml(credit_note(document, parts, DAY, "C2026-0001"))) == []


def test_postage_alone_can_be_taken_back():
    placed = order("1 x 10 A", "15.00", postage="5")
    document = invoice(shop(), store(), placed, buyer_of(placed), DAY, number="1")
    parts = crediting.credit_lines(document.figures, [[0, 0]] * 2, {}, postage=True)
    assert broken(to_xml(credit_note(document, parts, DAY, "C1"))) == []


def test_the_tax_stands_in_a_second_currency():
    exchange = [{"currency": "GBP", "to": "EUR", "rate": "1.1655", "day": "2026-11-28"}]
    placed = order("1 x 119 A", "119.00", currency="GBP")
    document = invoice(shop(exchange=exchange), store(), placed, buyer_of(placed), DAY, number="1")
    xml = to_xml(document)
    assert broken(xml) == []
    assert b'<ram:TaxTotalAmount currencyID="EUR">22.14<' in xml


def test_no_text_of_an_order_breaks_it():
    placed = order("1 x 10 A", "10.00", name="Jo \x00\ud800 <b>&\ufffe", address="A & B\x07\n]]>")
    document = invoice(shop(), store(), placed, buyer_of(placed), DAY, number="1")
    assert broken(to_xml(document)) == []


def test_the_rules_are_asked_at_all():
    xml = to_xml(numbered(WORKED[0]))
    for was, now in ((b"<ram:GrandTotalAmount>119.00", b"<ram:GrandTotalAmount>120.00"),
                     (b"<ram:CategoryCode>S<", b"<ram:CategoryCode>E<")):  # fmt: skip
        assert was in xml
        assert broken(xml.replace(was, now))
