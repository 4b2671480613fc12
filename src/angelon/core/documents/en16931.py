"""A document as EN 16931-1 has it, in the syntax of UN/CEFACT's Cross Industry Invoice (D16B, EN 16931-3-3). Pure."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from lxml import etree

from angelon.core.documents.document import Document, Party
from angelon.core.documents.figures import Part, Row
from angelon.core.documents.rules import CATEGORIES
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number, prefix_of
from angelon.core.documents.wording import wording

GUIDELINE = "urn:cen.eu:en16931:2017"
TYPES = {"invoice": "380", "credit": "381", "proforma": "325"}
"""UNTDID 1001."""
MOST_DIGITS = 2
"""Decimals that the standard knows (BR-DEC)."""
_RSM = "urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100"
_RAM = "urn:un:unece:uncefact:data:standard:ReusableAggregateBusinessInformationEntity:100"
_UDT = "urn:un:unece:uncefact:data:standard:UnqualifiedDataType:100"
_NAMES = {"rsm": _RSM, "ram": _RAM, "udt": _UDT}


def expressible(document: Document) -> bool:
    """Whether the standard has a form for a document: not for one without figures, nor for a currency whose smallest
    unit is a thousandth.
    """
    return document.kind in TYPES and document.figures.digits <= MOST_DIGITS and document.kind != "proforma"


def to_xml(document: Document) -> bytes:
    root = etree.Element(f"{{{_RSM}}}CrossIndustryInvoice", nsmap=_NAMES)
    context = _in(root, "rsm:ExchangedDocumentContext")
    _in(_in(context, "ram:GuidelineSpecifiedDocumentContextParameter"), "ram:ID", GUIDELINE)
    head = _in(root, "rsm:ExchangedDocument")
    _in(head, "ram:ID", document.number or "0")
    _in(head, "ram:TypeCode", TYPES[document.kind])
    _day(_in(head, "ram:IssueDateTime"), document.day)
    said = wording(document.language)
    for note in (document.above, document.under, _exemption(document, said)):
        if note:
            _in(_in(head, "ram:IncludedNote"), "ram:Content", note)
    trade = _in(root, "rsm:SupplyChainTradeTransaction")
    lines = [row for row in document.figures.rows if row.kind == "line"]
    if not lines:  # a credit of postage alone: the standard wants a line
        lines = [row for row in document.figures.rows if row.kind == "postage"]
    for number, row in enumerate(lines, 1):
        for part in row.parts:
            _line(trade, document, number, row, part)
    agreement = _in(trade, "ram:ApplicableHeaderTradeAgreement")
    _party(_in(agreement, "ram:SellerTradeParty"), document.seller, own=True)
    _party(_in(agreement, "ram:BuyerTradeParty"), document.buyer)
    _in(_in(agreement, "ram:SellerOrderReferencedDocument"), "ram:IssuerAssignedID", document.order)
    delivery = _in(trade, "ram:ApplicableHeaderTradeDelivery")
    ship = _in(delivery, "ram:ShipToTradeParty")
    _in(_in(ship, "ram:PostalTradeAddress"), "ram:CountryID", document.ship_to or document.buyer.country)
    _day(_in(_in(delivery, "ram:ActualDeliverySupplyChainEvent"), "ram:OccurrenceDateTime"), document.supplied)
    _settlement(_in(trade, "ram:ApplicableHeaderTradeSettlement"), document, lines, said)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _settlement(at: Any, document: Document, lines: list[Row], said: Any) -> None:
    figures = document.figures
    if document.second is not None:
        _in(at, "ram:TaxCurrencyCode", document.second.currency)
    _in(at, "ram:InvoiceCurrencyCode", figures.currency)
    for part in figures.sums:
        tax = _in(at, "ram:ApplicableTradeTax")
        _in(tax, "ram:CalculatedAmount", _amount(document, part.tax))
        _in(tax, "ram:TypeCode", "VAT")
        if not document.treatment.taxed:
            _in(tax, "ram:ExemptionReason", _exemption(document, said))
        _in(tax, "ram:BasisAmount", _amount(document, part.net))
        _in(tax, "ram:CategoryCode", part.category)
        if document.treatment.exemption:
            _in(tax, "ram:ExemptionReasonCode", document.treatment.exemption)
        _in(tax, "ram:RateApplicablePercent", f"{part.percent.normalize():f}")
    others = [row for row in figures.rows if row not in lines]
    for row in others:
        for part in row.parts:
            charge = _in(at, "ram:SpecifiedTradeAllowanceCharge")
            is_charge = row.kind == "postage"
            _in(_in(charge, "ram:ChargeIndicator"), "udt:Indicator", "true" if is_charge else "false")
            _in(charge, "ram:ActualAmount", _amount(document, part.net if is_charge else -part.net))
            _in(charge, "ram:Reason", said[row.kind])
            _tax(_in(charge, "ram:CategoryTradeTax"), part)
    terms = document.bank or said["due"]
    if document.due > 0:
        _in(_in(at, "ram:SpecifiedTradePaymentTerms"), "ram:Description", terms)
    sums = _in(at, "ram:SpecifiedTradeSettlementHeaderMonetarySummation")
    net_of = {kind: sum(row.net for row in others if row.kind == kind) for kind in ("postage", "discount")}
    _in(sums, "ram:LineTotalAmount", _amount(document, sum(row.net for row in lines)))
    _in(sums, "ram:ChargeTotalAmount", _amount(document, net_of["postage"]))
    _in(sums, "ram:AllowanceTotalAmount", _amount(document, -net_of["discount"]))
    _in(sums, "ram:TaxBasisTotalAmount", _amount(document, figures.net))
    _in(sums, "ram:TaxTotalAmount", _amount(document, figures.tax), currencyID=figures.currency)
    if document.second is not None:
        second = document.second
        said_tax = f"{Decimal(second.tax).scaleb(-second.digits):f}"
        _in(sums, "ram:TaxTotalAmount", said_tax, currencyID=second.currency)
    _in(sums, "ram:GrandTotalAmount", _amount(document, figures.gross))
    _in(sums, "ram:TotalPrepaidAmount", _amount(document, figures.gross - document.due))
    _in(sums, "ram:DuePayableAmount", _amount(document, document.due))
    if document.corrects is not None:
        before = _in(at, "ram:InvoiceReferencedDocument")
        _in(before, "ram:IssuerAssignedID", document.corrects[0])
        date = _in(before, "ram:FormattedIssueDateTime")
        qdt = "urn:un:unece:uncefact:data:standard:QualifiedDataType:100"
        text = etree.SubElement(date, f"{{{qdt}}}DateTimeString", nsmap={"qdt": qdt}, format="102")
        text.text = f"{document.corrects[1]:%Y%m%d}"


def _line(trade: Any, document: Document, number: int, row: Row, part: Part) -> None:
    item = _in(trade, "ram:IncludedSupplyChainTradeLineItem")
    position = f"{number}" if len(row.parts) == 1 else f"{number}-{part.percent.normalize():f}"
    _in(_in(item, "ram:AssociatedDocumentLineDocument"), "ram:LineID", position)
    product = _in(item, "ram:SpecifiedTradeProduct")
    if row.sku:
        _in(product, "ram:SellerAssignedID", row.sku)
    _in(product, "ram:Name", row.name or wording(document.language)["postage"])
    quantity = row.quantity or Decimal(1)
    price = _in(_in(item, "ram:SpecifiedLineTradeAgreement"), "ram:NetPriceProductTradePrice")
    negative = part.net < 0  # the standard knows no negative price (BR-27), but a negative quantity
    _in(price, "ram:ChargeAmount", _amount(document, abs(part.net)))
    _in(price, "ram:BasisQuantity", f"{abs(quantity):f}", unitCode="C62")
    billed = -quantity if negative else quantity
    _in(_in(item, "ram:SpecifiedLineTradeDelivery"), "ram:BilledQuantity", f"{billed:f}", unitCode="C62")
    settlement = _in(item, "ram:SpecifiedLineTradeSettlement")
    _tax(_in(settlement, "ram:ApplicableTradeTax"), part)
    total = _in(settlement, "ram:SpecifiedTradeSettlementLineMonetarySummation")
    _in(total, "ram:LineTotalAmount", _amount(document, part.net))


def _tax(at: Any, part: Part) -> None:
    _in(at, "ram:TypeCode", "VAT")
    _in(at, "ram:CategoryCode", part.category)
    _in(at, "ram:RateApplicablePercent", f"{part.percent.normalize():f}")


def _party(at: Any, party: Party, own: bool = False) -> None:
    if own and _registered(party)[0] == "FC":  # a seller without a number for value-added tax is known by this one
        _in(at, "ram:ID", party.tax_number)
    _in(at, "ram:Name", party.name)
    address = _in(at, "ram:PostalTradeAddress")
    if party.postcode:
        _in(address, "ram:PostcodeCode", party.postcode)
    for tag, line in zip(("LineOne", "LineTwo", "LineThree"), _three(party.lines), strict=False):
        _in(address, f"ram:{tag}", line)
    if party.city:
        _in(address, "ram:CityName", party.city)
    _in(address, "ram:CountryID", party.country)
    scheme, number = _registered(party)
    if number and (scheme == "VA" or own):
        _in(_in(at, "ram:SpecifiedTaxRegistration"), "ram:ID", number, schemeID=scheme)


def _registered(party: Party) -> tuple[str, str]:
    """Under which scheme (UNTDID 1153) a party is registered, and its number there: one for value-added tax has its
    country in front (BR-CO-09); any other is of the tax office.
    """
    number, prefix = party.tax_number, prefix_of(party.country)
    try:
        checked = checked_number(party.country, number) if number else ""
    except BadTaxNumber:
        return "FC", number
    return "VA", checked if not checked or checked.startswith(prefix) else prefix + checked


def _three(lines: tuple[str, ...]) -> tuple[str, ...]:
    return lines if len(lines) < 4 else (*lines[:2], ", ".join(lines[2:]))


def _exemption(document: Document, said: Any) -> str:
    return str(said[document.treatment.scheme]) if document.treatment.scheme in CATEGORIES else ""


def _amount(document: Document, amount: int) -> str:
    return f"{Decimal(amount).scaleb(-document.figures.digits):f}"


def _in(parent: Any, name: str, text: str = "", **attributes: str) -> Any:
    prefix, _, tag = name.partition(":")
    made = etree.SubElement(parent, f"{{{_NAMES[prefix]}}}{tag}", **attributes)
    if text:
        made.text = _clean(text)
    return made


def _clean(text: str) -> str:
    """A text without what XML 1.0 can't hold (section 2.2)."""
    return "".join(sign for sign in text if sign in "\t\n\r" or (ord(sign) >= 32 and not 0xD800 <= ord(sign) <= 0xDFFF
                                                                 and ord(sign) not in (0xFFFE, 0xFFFF)))  # fmt: skip


def _day(parent: Any, day: dt.date) -> None:
    _in(parent, "udt:DateTimeString", f"{day:%Y%m%d}", format="102")
