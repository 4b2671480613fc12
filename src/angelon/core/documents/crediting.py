"""Credit notes: an invoice taken back, whole or in parts, so that the parts add up to it. Pure."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from math import floor

from angelon.core.documents.figures import Figures, Part, Row, rounded, shared
from angelon.core.documents.rules import HeldBack


@dataclass(frozen=True, slots=True)
class Item:
    """What can be taken back: a line after its share of the discount, or what postage there is at a rate."""

    row: int
    """Which row of the invoice it is of."""
    part: Part


def items_of(invoice: Figures) -> list[Item]:
    """What can be taken back of an invoice; together they are all of it."""
    items = [Item(at, part) for at, row in enumerate(invoice.rows) if row.kind != "discount" for part in row.parts]
    for row in invoice.rows:
        if row.kind != "discount":
            continue
        for part in row.parts:
            items = _without(items, part, invoice)
    return items


def _without(items: list[Item], discount: Part, invoice: Figures) -> list[Item]:
    """Items after a discount at one rate: off its lines first, then off its postage."""
    made, gross, net = list(items), discount.gross, discount.net
    for kind in ("line", "postage"):
        where = [
            at for at, item in enumerate(made)
            if item.part.group == discount.group and invoice.rows[item.row].kind == kind and item.part.gross > 0
        ]  # fmt: skip
        there = sum(made[at].part.gross for at in where)
        if not gross or not there:
            continue
        off = max(gross, -there)
        off_net = net if off == gross else -sum(made[at].part.net for at in where)
        grosses = shared(off, [made[at].part.gross for at in where])
        nets = shared(off_net, [made[at].part.gross for at in where])
        for at, less, less_net in zip(where, grosses, nets, strict=True):
            part = made[at].part
            left, left_net = part.gross + less, part.net + less_net
            made[at] = replace(made[at], part=replace(part, net=left_net, tax=left - left_net))
        gross, net = gross - off, net - off_net
    return made


def credit_rest(invoice: Figures, before: Sequence[Sequence[int]]) -> list[Part]:
    """All that is left of an invoice, by item. `before` has the gross and net that were taken back of each item."""
    return [
        replace(item.part, net=item.part.net - net, tax=item.part.tax - (gross - net))
        for item, (gross, net) in zip(items_of(invoice), before, strict=True)
    ]


def credit_amount(invoice: Figures, before: Sequence[Sequence[int]], amount: int) -> list[Part]:
    """A sum off what is left, shared out over the items. Raises HeldBack where less is left."""
    items = items_of(invoice)
    rest = sum(item.part.gross - gross for item, (gross, _) in zip(items, before, strict=True))
    left = [max(item.part.gross - gross, 0) for item, (gross, _) in zip(items, before, strict=True)]
    if amount <= 0:
        raise HeldBack("There is nothing to credit.", "Type an amount above 0.")
    if amount > rest:
        said = f"{Decimal(rest).scaleb(-invoice.digits):f} {invoice.currency}"
        raise HeldBack(f"Only {said} of the invoice is left.", "Type at most that.")
    if amount == rest:  # what was taken off by lines below zero goes with it
        return credit_rest(invoice, before)
    return _parts(items, before, shared(amount, left))


def credit_lines(
    invoice: Figures, before: Sequence[Sequence[int]], pieces: Mapping[int, Decimal], postage: bool = False
) -> list[Part]:
    """So many pieces of some rows, with the postage or without. Raises
    HeldBack where fewer are left.
    """
    items, taken = items_of(invoice), []
    for item, (gross, _) in zip(items, before, strict=True):
        row, whole = invoice.rows[item.row], item.part.gross
        if row.kind == "postage":
            taken.append(whole - gross if postage else 0)
            continue
        number = Fraction(pieces.get(item.row, Decimal(0)))
        done = _pieces_before(whole, gross, quantity := Fraction(row.quantity))
        exact = abs(whole) >= quantity  # else one amount stands for several numbers of pieces
        if number < 0 or (number if not exact else done + number) > quantity:
            left = float(quantity - done)
            raise HeldBack(f"{row.name}: {left:g} of {row.quantity:f} are left to take back.", "Type at most that.")
        taken.append(rounded(whole * min(done + number, quantity) / quantity) - gross if number else 0)
    if not any(taken):
        raise HeldBack("There is nothing to credit.", "Choose at least one line.")
    return _parts(items, before, taken)


def _pieces_before(whole: int, gross: int, quantity: Fraction) -> Fraction:
    """How many pieces an amount that was taken back stands for: whole ones, where it can. Of pieces that cost less than
    the smallest unit of money, an amount stands for several numbers of them: it is the most, so that whoever takes
    the last has taken everything.
    """
    if not whole:
        return Fraction(0)
    if gross == whole:
        return quantity
    ends = sorted((gross + side) * quantity / whole for side in (Fraction(-1, 2), Fraction(1, 2)))
    most = min(floor(ends[1]), floor(quantity))
    fit = (Fraction(n) for n in (most, most - 1) if n >= 0 and rounded(whole * Fraction(n) / quantity) == gross)
    return next(fit, Fraction(gross) * quantity / whole)


def _parts(items: Sequence[Item], before: Sequence[Sequence[int]], taken: Sequence[int]) -> list[Part]:
    """The net of what is taken, so that the parts of an item add up to its own net in the end."""
    made = []
    for item, (gross, net), more in zip(items, before, taken, strict=True):
        whole = item.part
        done = gross + more
        upto = whole.net if done == whole.gross else rounded(Fraction(whole.net) * done / whole.gross)
        made.append(replace(whole, net=upto - net, tax=more - (upto - net)))
    return made


def credited(invoice: Figures, notes: Sequence[Sequence[Part]]) -> list[list[int]]:
    """How much gross and net of each item some credit notes have taken back."""
    items = items_of(invoice)
    return [[sum(note[at].gross for note in notes), sum(note[at].net for note in notes)] for at in range(len(items))]


def figures_of(invoice: Figures, parts: Sequence[Part]) -> Figures:
    """A credit note's figures, positive as an invoice's are: what of each row is taken back."""
    items = items_of(invoice)
    by_row: dict[int, list[Part]] = defaultdict(list)
    wholes: dict[int, int] = defaultdict(int)
    for item, part in zip(items, parts, strict=True):
        wholes[item.row] += item.part.gross
        if part.gross or part.net:
            by_row[item.row].append(part)
    rows: list[Row] = []
    for at, of in sorted(by_row.items()):
        row, whole = invoice.rows[at], wholes[at]
        number = Fraction(row.quantity) * sum(part.gross for part in of) / whole if whole else Fraction(0)
        even = number.denominator == 1 and row.kind == "line"
        rows.append(replace(row, parts=tuple(of), quantity=Decimal(number.numerator) if even else Decimal(1)))
    return Figures(tuple(rows), invoice.currency, invoice.digits, invoice.prices)
