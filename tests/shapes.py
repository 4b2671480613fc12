"""Invented payload shapes with what a person would map: different depths, key languages, arrays of contacts, numbers as
text.

`expected` holds, for each part of the reading that the payload has, the paths that are right; several where more than
one is as good.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from angelon.cli.files import read_request
from angelon.core.payload.body import parse_body

PAYLOADS = Path(__file__).with_name("payloads")


@dataclass(frozen=True)
class ShapeCase:
    name: str
    payload: Any
    expected: dict[str, tuple[str, ...]]


def _file(name: str) -> Any:
    request = read_request(PAYLOADS / f"{name}.http")
    return parse_body(request.body, request.headers["content-type"])


CASES = [
    ShapeCase(
        "web shop",
        _file("webshop-order-created"),
        {
            "reference": ("$.id",),
            "number": ("$.reference",),
            "status": ("$.state",),
            "total": ("$.amounts.total",),
            "currency": ("$.currency",),
            "placed_at": ("$.placed_at",),
            "customer_id": ("$.buyer.id",),
            "name": ('$.buyer["given_name", "family_name"]', "$.ship_to.name"),
            "email": ("$.buyer.email",),
            "phone": ("$.buyer.phone",),
            "country": ("$.ship_to.country",),
            "language": ("$.language",),
            "lines": ("$.lines",),
        },
    ),
    ShapeCase(
        "web shop, later",
        _file("webshop-order-updated"),
        {
            "changed_at": ("$.changed_at",),
            "placed_at": ("$.placed_at",),
            "parcels": ("$.parcels",),
            "lines": ("$.lines",),
            "status": ("$.state",),
        },
    ),
    ShapeCase(
        "marketplace form",
        _file("fairground-order"),
        {
            "reference": ("$.sale_no",),
            "number": ("$.sale_no",),
            "status": ("$.stage",),
            "total": ("$.grand_total",),
            "currency": ("$.currency",),
            "placed_at": ("$.sold_at",),
            "name": ("$.buyer_name",),
            "email": ("$.buyer_mail",),
            "phone": ("$.buyer_tel",),
            "country": ("$.ship_country",),
            "lines": ("$",),
        },
    ),
    ShapeCase(
        "cloud event",
        _file("workbench-cloudevent"),
        {
            "reference": ("$.data.order.no", "$.subject"),
            "number": ("$.data.order.no", "$.subject"),
            "status": ("$.data.order.status.now",),
            "changed_at": ("$.time",),
            "name": ("$.data.customer.display",),
            "email": ('$.data.customer.contacts[?@.kind == "email"].value',),
            "phone": ('$.data.customer.contacts[?@.kind == "mobile"].value',),
            "lines": ("$.data.pieces",),
        },
    ),
    ShapeCase(
        "German keys",
        {
            "bestellung": {
                "id": 88123,
                "bestellnummer": "W-2026-00417",
                "bestellstatus": "bezahlt",
                "bestellt_am": "03.11.2026 09:41",
                "waehrung": "EUR",
                "gesamtbetrag": "89,50",
                "versandkosten": "4,90",
            },
            "kunde": {
                "kundennummer": 5512,
                "vorname": "Jörg",
                "nachname": "Ahlers",
                "mail": "joerg@example.org",
                "telefon": "+49 30 23125014",
                "sprache": "de",
            },
            "lieferadresse": {"strasse": "Deichstraße 12", "plz": "25813", "ort": "Husum", "land": "DE"},
            "positionen": [{"artikelnummer": "HER-180", "bezeichnung": "Heron", "menge": 1, "einzelpreis": "84,60"}],
        },
        {
            "reference": ("$.bestellung.id",),
            "number": ("$.bestellung.bestellnummer",),
            "status": ("$.bestellung.bestellstatus",),
            "total": ("$.bestellung.gesamtbetrag",),
            "currency": ("$.bestellung.waehrung",),
            "placed_at": ("$.bestellung.bestellt_am",),
            "customer_id": ("$.kunde.kundennummer",),
            "name": ('$.kunde["vorname", "nachname"]',),
            "email": ("$.kunde.mail",),
            "phone": ("$.kunde.telefon",),
            "country": ("$.lieferadresse.land",),
            "language": ("$.kunde.sprache",),
            "lines": ("$.positionen",),
        },
    ),
    ShapeCase(
        "French keys, flat",
        {
            "id_commande": "f3b1c2d4-0001",
            "numero": "CMD-1044",
            "statut": "payée",
            "cree_le": "2026-11-03T08:00:00Z",
            "montant_total": "58.20",
            "devise": "EUR",
            "client_nom": "Claire Béranger",
            "client_courriel": "claire@example.org",
            "client_telephone": "+33 1 99 00 12 34",
            "pays": "FR",
            "langue": "fr",
            "boutique_courriel": "bonjour@example.com",
            "lignes": [{"libelle": "Sandpiper", "quantite": 2, "prix": "24.50", "ref": "SAN-POC"}],
        },
        {
            "reference": ("$.id_commande",),
            "number": ("$.numero",),
            "status": ("$.statut",),
            "total": ("$.montant_total",),
            "currency": ("$.devise",),
            "placed_at": ("$.cree_le",),
            "name": ("$.client_nom",),
            "email": ("$.client_courriel",),
            "phone": ("$.client_telephone",),
            "country": ("$.pays",),
            "language": ("$.langue",),
            "lines": ("$.lignes",),
        },
    ),
    ShapeCase(
        "deep, camel case, epoch",
        {
            "event": {"kind": "orderPlaced", "occurredAt": 1793698867},
            "data": {
                "order": {
                    "orderId": 771023,
                    "orderNumber": "A1044",
                    "orderStatus": "OPEN",
                    "createdAt": 1793698867,
                    "totals": {"subTotal": 4100, "grandTotal": 4590, "currencyCode": "USD"},
                },
                "customer": {
                    "customerId": "c-881",
                    "fullName": "Mika Brandt",
                    "emailAddress": "mika@example.net",
                    "phoneNumber": "+1 202 555 0147",
                    "locale": "en-US",
                },
                "shipping": {"address": {"countryCode": "US", "city": "Dover"}, "method": "standard"},
                "lineItems": [{"productName": "Ash reel", "sku": "REE-ASH", "qty": 1, "unitPrice": 3100}],
            },
        },
        {
            "reference": ("$.data.order.orderId",),
            "number": ("$.data.order.orderNumber",),
            "status": ("$.data.order.orderStatus",),
            "total": ("$.data.order.totals.grandTotal",),
            "currency": ("$.data.order.totals.currencyCode",),
            "placed_at": ("$.data.order.createdAt",),
            "customer_id": ("$.data.customer.customerId",),
            "name": ("$.data.customer.fullName",),
            "email": ("$.data.customer.emailAddress",),
            "phone": ("$.data.customer.phoneNumber",),
            "country": ("$.data.shipping.address.countryCode",),
            "language": ("$.data.customer.locale",),
            "lines": ("$.data.lineItems",),
        },
    ),
    ShapeCase(
        "Spanish keys, amounts with dots",
        {
            "pedido": {
                "id": 4410,
                "numero_pedido": "P-4410",
                "estado": "pagado",
                "fecha": "2026-11-03",
                "importe_total": "1.234,50",
                "moneda": "EUR",
            },
            "cliente": {
                "nombre": "Mireia",
                "apellidos": "Puig Serra",
                "correo": "mireia@example.net",
                "movil": "+34600000112",
                "idioma": "es",
            },
            "envio": {"pais": "ES", "ciudad": "Roses"},
            "productos": [{"titulo": "Guillemot", "cantidad": 1, "precio": "164,00", "codigo": "GUI-DUO"}],
        },
        {
            "reference": ("$.pedido.id",),
            "number": ("$.pedido.numero_pedido",),
            "status": ("$.pedido.estado",),
            "total": ("$.pedido.importe_total",),
            "currency": ("$.pedido.moneda",),
            "placed_at": ("$.pedido.fecha",),
            "name": ('$.cliente["nombre", "apellidos"]',),
            "email": ("$.cliente.correo",),
            "phone": ("$.cliente.movil",),
            "country": ("$.envio.pais",),
            "language": ("$.cliente.idioma",),
            "lines": ("$.productos",),
        },
    ),
    ShapeCase(
        "contacts in a list, staff's address beside",
        {
            "shop": {"name": "Pier kites", "support_mail": "help@example.com", "phone": "+353 20 915 0000"},
            "ref": "7f1e",
            "display_id": "#2044",
            "phase": "paid",
            "ordered_at": "2026-11-03T09:41:07+01:00",
            "to_pay": {"amount": "64.00", "ccy": "EUR"},
            "contacts": [{"type": "email", "value": "aoife@example.com"}, {"type": "phone", "value": "+353209151234"}],
            "purchaser": {"name": "Aoife Ní Bhriain", "lang": "en", "uid": "u-31"},
            "deliver_to": {"country": "IE", "town": "Kinsale"},
            "basket": [{"what": "Spar set", "code": "SPA-006", "count": "2", "price": "18.90"}],
            "parcels": [{"company": "Saltway Couriers", "tracking_code": "SW00002044", "eta": "2026-11-07"}],
        },
        {
            "reference": ("$.ref",),
            "number": ("$.display_id",),
            "status": ("$.phase",),
            "total": ("$.to_pay.amount",),
            "currency": ("$.to_pay.ccy",),
            "placed_at": ("$.ordered_at",),
            "customer_id": ("$.purchaser.uid",),
            "name": ("$.purchaser.name",),
            "email": ('$.contacts[?@.type == "email"].value',),
            "phone": ('$.contacts[?@.type == "phone"].value',),
            "country": ("$.deliver_to.country",),
            "language": ("$.purchaser.lang",),
            "lines": ("$.basket",),
            "parcels": ("$.parcels",),
        },
    ),
    ShapeCase(
        "numbers as text, odd keys",
        {
            "OrderNo": "100200300",
            "Total": "19.99",
            "Ccy": "GBP",
            "Cust": {"Nm": "Pádraig Ó Sé", "EMail": "padraig@example.com", "Mob": "020 915 8800"},
            "Dt": "2026/11/03 10:11",
            "St": "shipped",
            "Ctry": "GB",
            "Items": [{"Name": "Ash reel", "Qty": "1", "Price": "19.99"}],
        },
        {
            "reference": ("$.OrderNo",),
            "number": ("$.OrderNo",),
            "total": ("$.Total",),
            "currency": ("$.Ccy",),
            "email": ("$.Cust.EMail",),
            "phone": ("$.Cust.Mob",),
            "placed_at": ("$.Dt",),
            "name": ("$.Cust.Nm",),
            "country": ("$.Ctry",),
            "lines": ("$.Items",),
        },
    ),
]


def first_right() -> tuple[int, int, list[str]]:
    """How many of the parts rank first right, of how many; and those that don't."""
    from angelon.core.suggestions import suggest

    right, total, wrong = 0, 0, []
    for case in CASES:
        found = suggest([case.payload])
        for part, paths in case.expected.items():
            total += 1
            first = found[part][0].path if found[part] else None
            if first in paths:
                right += 1
            else:
                wrong.append(
                    f"{case.name}: {part} is {paths[0]}, first was {first}"
                    + (f" ({found[part][0].score})" if found[part] else "")
                )
    return right, total, wrong


@dataclass(frozen=True)
class ValueCase:
    """A payload with the value of each part, as it stands in it: a list where several are as good. `lacks` are parts
    that no field of it holds.
    """

    name: str
    payload: Any
    expected: dict[str, Any]
    lacks: tuple[str, ...] = ()


def value_cases(which: str) -> list[ValueCase]:
    """Shapes of `payloads/heldout` by their file's name: `before` and `after` the guesses were worked out, `looked_at`
    since.
    """
    data = yaml.safe_load((PAYLOADS / "heldout" / f"{which}.yaml").read_text())
    return [ValueCase(one["name"], one["payload"], one["expected"], tuple(one.get("lacks", ()))) for one in data]


def values_right(cases: list[ValueCase]) -> tuple[int, int, list[str], list[str]]:
    """How many parts have the right value first, of how many; those that have not; those that are sure and wrong."""
    from angelon.core.suggestions import suggest, sure

    right, total, wrong, surely_wrong = 0, 0, [], []
    for case in cases:
        found = suggest([case.payload])
        for part, value in case.expected.items():
            total += 1
            first = found[part][0] if found[part] else None
            good = {str(one) for one in (value if isinstance(value, list) else [value])}
            if first is not None and str(first.value) in good:
                right += 1
                continue
            wrong.append(f"{case.name}: {part} is {value}, first was {first and first.value}")
            if sure(found[part]):
                surely_wrong.append(wrong[-1])
        surely_wrong += [
            f"{case.name}: {part} is nowhere, and {first.value} is sure"
            for part in case.lacks
            if (first := sure(found[part])) is not None
        ]
    return right, total, wrong, surely_wrong
