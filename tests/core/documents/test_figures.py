"""Invoices worked out: a table of cases, checked a second way; laws that hold for any order."""

import contextlib
import dataclasses
from collections import defaultdict
from decimal import Decimal
from fractions import Fraction
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.documents import crediting
from angelon.core.documents.document import Document
from angelon.core.documents.figures import Sale, Sold, digits_of, rounded, shared, work_out
from angelon.core.documents.making import Ordered, buyer_of, credit_note, invoice
from angelon.core.documents.rules import Buyer, HeldBack, rate_of, treat
from tests.core.documents.cases import CASES
from tests.core.documents.made import DAY, money, order, shop, store
from tests.core.documents.reckoned import reckon


def made(options, buyer, lines, parts, total):
    documents = shop(**options)
    currency = buyer.get("currency", "EUR")
    known = {name: buyer[name] for name in ("country", "name") if name in buyer}
    placed = order(lines, total, currency, **parts, **known)
    who = dataclasses.replace(
        buyer_of(placed), tax_number=buyer.get("tax_number", ""), confirmed=buyer.get("confirmed")
    )
    return documents, placed, invoice(documents, store(), placed, who, DAY)


def said(amount, figures):
    return f"{Decimal(amount).scaleb(-figures.digits):f}"


@pytest.mark.parametrize("case", CASES, ids=[case[0] for case in CASES])
def test_a_worked_out_case(case):
    _, options, buyer, lines, parts, total, scheme, net, tax = case
    if " " in scheme:
        with pytest.raises(HeldBack, match=scheme) as held:
            made(options, buyer, lines, parts, total)
        assert held.value.hint
        return
    documents, placed, document = made(options, buyer, lines, parts, total)
    figures = document.figures
    assert document.treatment.scheme == scheme
    assert (said(figures.net, figures), said(figures.tax, figures)) == (net, tax)
    sold = [
        (line["quantity"], line["price"].amount, rate_of(documents, document.treatment, line["sku"], DAY)[0])
        for line in placed.parts["lines"]
    ]
    own = rate_of(documents, document.treatment, "", DAY)[0] if documents.postage == "standard" else None
    postage, discount = (Decimal(parts.get(name, 0)) for name in ("postage", "discount"))
    digits = digits_of(figures.currency)
    again = reckon(sold, postage, discount, figures.prices, documents.rounding, digits, own)
    assert again == (Decimal(net), Decimal(tax))
    paid = Decimal(total)
    assert Decimal(net) + Decimal(tax) in (paid, paid + Decimal(parts.get("gift_card", 0)))
    assert Document.of(document.plain()) == document
    assert all(why for _, _, why in document.reasons)


def test_there_are_at_least_eighty():
    assert len(CASES) >= 80
    assert len({case[0] for case in CASES}) == len(CASES)


@given(st.integers(-(10**9), 10**9), st.lists(st.integers(0, 10**6), min_size=1, max_size=12))
def test_what_is_shared_out_is_all_of_it_and_nobody_gets_a_unit_more_than_is_due(amount, weights):
    parts = shared(amount, weights)
    assert sum(parts) == amount
    if sum(weights):
        for part, weight in zip(parts, weights, strict=True):
            assert abs(part - amount * weight / sum(weights)) < 1 + 1e-6
            assert weight or not part


def test_half_is_rounded_away_from_zero():
    from fractions import Fraction

    assert [rounded(Fraction(n, 2)) for n in (-3, -1, 0, 1, 3, 5)] == [-2, -1, 0, 1, 2, 3]


cents = st.integers(0, 500_00).map(lambda n: Decimal(n).scaleb(-2))
LINES = st.lists(st.tuples(st.integers(1, 9), cents, st.sampled_from(["A", "PAT-1"])), min_size=1, max_size=8)


@st.composite
def sales(draw):
    lines = tuple(Sold(f"line {n}", sku, Decimal(q), price) for n, (q, price, sku) in enumerate(draw(LINES)))
    goods = sum(one.quantity * one.price for one in lines)
    postage = draw(cents)
    discount = min(draw(cents), goods + postage)
    return Sale(lines, "EUR", goods + postage - discount, discount, postage)


OPTIONS = st.fixed_dictionaries(
    {"rounding": st.sampled_from(["line", "document"]), "postage": st.sampled_from(["goods", "standard"]),
     "prices": st.just("gross")}
)  # fmt: skip
COUNTRIES = st.sampled_from(["DE", "FR", "FI", "HU", "IE"])


def figures_of(sale, options, country):
    documents = shop(one_stop=True, **options)
    treatment = treat(documents, "DE", Buyer(name="Jo", country=country), DAY)
    return work_out(documents, treatment, sale, DAY)


@settings(max_examples=200, deadline=None)
@given(sales(), OPTIONS, COUNTRIES)
def test_what_is_printed_adds_up_to_what_was_paid(sale, options, country):
    figures = figures_of(sale, options, country)
    assert figures.gross == round(sale.total * 100)
    by_rate = defaultdict(lambda: [0, 0])
    for row in figures.rows:
        assert row.net + row.tax == row.gross
        for part in row.parts:
            by_rate[part.group][0] += part.net
            by_rate[part.group][1] += part.tax
    assert {part.group: [part.net, part.tax] for part in figures.sums} == by_rate
    assert sum(part.gross for part in figures.sums) == figures.gross
    pieces = sum(len(row.parts) for row in figures.rows)
    for part in figures.sums:  # nothing strays farther than rounding can take it
        exact = part.gross * part.percent / (100 + part.percent)
        assert abs(part.tax - exact) <= Decimal("0.5") * (pieces if options["rounding"] == "line" else 1) + 1


@settings(max_examples=200, deadline=None)
@given(sales(), OPTIONS, COUNTRIES, st.lists(st.integers(1, 300_00), max_size=6))
def test_an_invoice_and_its_credit_notes_are_what_was_kept(sale, options, country, amounts):
    figures = figures_of(sale, options, country)
    items = crediting.items_of(figures)
    assert sum(item.part.gross for item in items) == figures.gross
    assert sum(item.part.net for item in items) == figures.net
    notes, kept = [], figures.gross
    for amount in amounts:
        before = crediting.credited(figures, notes)
        if amount > kept:
            with pytest.raises(HeldBack):
                crediting.credit_amount(figures, before, amount)
            continue
        notes.append(crediting.credit_amount(figures, before, amount))
        assert sum(part.gross for part in notes[-1]) == amount
        kept -= amount
    if kept:
        notes.append(crediting.credit_rest(figures, crediting.credited(figures, notes)))
    assert sum(part.gross for note in notes for part in note) == figures.gross
    assert sum(part.net for note in notes for part in note) == (figures.net if notes else 0)
    for at, item in enumerate(items):
        back = sum(note[at].net for note in notes)
        assert back == item.part.net or not notes


@settings(max_examples=150, deadline=None)
@given(sales(), OPTIONS, st.integers(0, 2**32))
def test_lines_that_are_taken_back_piece_by_piece_are_all_of_them(sale, options, seed):
    random = Random(seed)
    figures = figures_of(sale, options, "DE")
    left = {at: row.quantity for at, row in enumerate(figures.rows) if row.kind == "line"}
    notes = []
    while any(left.values()):
        taken = {at: Decimal(random.randint(0, int(number))) for at, number in left.items()}
        try:
            notes.append(crediting.credit_lines(figures, crediting.credited(figures, notes), taken))
        except HeldBack as error:
            assert "nothing to credit" in error.what  # pieces that cost less than the smallest unit: none are taken
            if taken == left:
                break
            taken = left if random.random() < 0.2 else {at: Decimal(0) for at in left}
            with contextlib.suppress(HeldBack):
                notes.append(crediting.credit_lines(figures, crediting.credited(figures, notes), taken))
        left = {at: number - taken[at] for at, number in left.items()}
    goods = {at for at, row in enumerate(figures.rows) if row.kind == "line"}
    items = crediting.items_of(figures)
    back = sum(note[at].gross for note in notes for at, item in enumerate(items) if item.row in goods)
    assert back == sum(item.part.gross for item in items if item.row in goods)


@pytest.mark.parametrize("gross", [1, 2, 3, 4, 8, 9, 10, 31, -1, -4, 900])
@pytest.mark.parametrize("quantity", [1, 2, 3, 7, 9])
def test_pieces_that_cost_less_than_a_cent_are_all_taken_back(gross, quantity):
    """Every way to take them in up to three parts: the last has taken everything, and no part was refused."""
    for first in range(quantity + 1):
        for second in range(quantity - first + 1):
            back = 0
            for number in (first, second, quantity - first - second):
                done = crediting._pieces_before(gross, back, Fraction(quantity))
                assert abs(gross) < quantity or done + number <= quantity
                back = rounded(gross * min(done + number, Fraction(quantity)) / quantity) if number else back
            assert back == gross, (first, second)


def test_more_pieces_than_there_were_are_refused():
    _, _, document = made({}, {}, "3 x 10 A", {}, "30.00")
    figures = document.figures
    one = crediting.credit_lines(figures, [[0, 0]], {0: Decimal(2)})
    with pytest.raises(HeldBack, match="1 of 3 are left"):
        crediting.credit_lines(figures, crediting.credited(figures, [one]), {0: Decimal(2)})
    with pytest.raises(HeldBack, match="nothing to credit"):
        crediting.credit_lines(figures, [[0, 0]], {})


def test_a_credit_note_says_what_it_corrects_and_how_many_pieces():
    _, _, document = made({}, {}, "3 x 10 A; 1 x 20 PAT-1", {"postage": "5"}, "55.00")
    document = dataclasses.replace(document, number="2026-0007")
    items = crediting.items_of(document.figures)
    parts = crediting.credit_lines(document.figures, [[0, 0]] * len(items), {0: Decimal(2)})
    note = credit_note(document, parts, DAY, "C2026-0001")
    assert note.corrects == ("2026-0007", DAY)
    (row,) = note.figures.rows
    assert (row.quantity, row.gross, row.net) == (2, 2000, 1681)
    assert Document.of(note.plain()) == note


def test_a_second_currency_is_named_at_the_newest_rate_by_the_day():
    exchange = [{"currency": "GBP", "to": "EUR", "rate": rate, "day": day}
                for rate, day in (("1.10", "2026-01-01"), ("1.1655", "2026-11-28"), ("1.3", "2026-12-01"))]  # fmt: skip
    _, _, document = made({"exchange": exchange}, {"currency": "GBP"}, "1 x 119 A", {}, "119.00")
    assert (document.second.tax, document.second.currency, str(document.second.rate)) == (2214, "EUR", "1.1655")
    _, _, without = made({}, {"currency": "GBP"}, "1 x 119 A", {}, "119.00")
    assert without.second is None


def test_what_the_order_itself_says_of_the_tax_is_compared():
    _, _, document = made({}, {}, "1 x 9.99 A; 1 x 9.99 B; 1 x 9.99 C", {"tax": "4.79"}, "29.97")
    assert "says 4.79 EUR of tax" in document.figures.notes[0]


@pytest.mark.parametrize(
    ("parts", "told"),
    [
        ({"total": None}, "What was to be paid"),
        ({"lines": [{"name": "A", "quantity": 1}]}, "“A” has no price"),
        ({"lines": [{"name": "A", "price": money("1", "GBP")}]},
         "is in GBP, and the total in EUR"),
    ],
)  # fmt: skip
def test_an_order_that_does_not_say_enough_is_held(parts, told):
    placed = order("1 x 10 A", "10.00")
    placed = Ordered(placed.number, placed.day, {**placed.parts, **parts})
    with pytest.raises(HeldBack, match=told) as held:
        invoice(shop(), store(), placed, buyer_of(placed), DAY)
    assert held.value.hint


def test_a_line_s_own_kind_of_goods_goes_before_its_sku():
    placed = order("1 x 107 A; 1 x 119 PAT-1", "226.00")
    placed.parts["lines"][0]["tax_group"] = "books"
    placed.parts["lines"][1]["tax_group"] = "unknown"
    document = invoice(shop(), store(), placed, buyer_of(placed), DAY)
    assert [row.parts[0].percent for row in document.figures.rows] == [7, 7]
    assert "Books, as the order says" in document.figures.rows[0].why
    assert "Books, by the sku" in document.figures.rows[1].why


def test_a_line_below_zero_is_a_discount_and_never_more_is_taken_back_than_was_paid():
    _, _, document = made({}, {}, "2 x 20 A; 1 x -5 OFF; 1 x 10 PAT-1", {}, "45.00")
    figures = document.figures
    assert figures.gross == 4500
    nothing = [[0, 0]] * len(crediting.items_of(figures))
    with pytest.raises(HeldBack, match=r"Only 45\.00 EUR"):
        crediting.credit_amount(figures, nothing, 4501)
    part = crediting.credit_amount(figures, nothing, 3000)
    rest = crediting.credit_amount(figures, crediting.credited(figures, [part]), 1500)
    for name in ("gross", "net", "tax"):
        assert sum(getattr(one, name) for note in (part, rest) for one in note) == getattr(figures, name)


@pytest.mark.parametrize(
    ("lines", "total", "told"),
    [
        ("; ".join(["1 x 1 A"] * 251), "251.00", "251 lines, and a document at most 250"),
        ("1 x 99999999999999999999 A", "99999999999999999999", "too large"),
        ("1 x 1 A", "1E+25", "too large"),
    ],
)
def test_what_is_too_much_is_held(lines, total, told):
    with pytest.raises(HeldBack, match=told):
        made({}, {}, lines, {}, total)
