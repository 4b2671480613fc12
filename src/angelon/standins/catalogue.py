"""What the made-up workshop sells, and who buys it. Nobody here exists; numbers are from ranges kept for fiction where
there are any.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Product:
    sku: str
    title: str
    price: str
    options: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Customer:
    id: int
    given: str
    family: str
    email: str
    phone: str
    line1: str
    city: str
    postcode: str
    country: str
    language: str

    @property
    def name(self) -> str:
        return f"{self.given} {self.family}".strip()


PRODUCTS = (
    Product("HER-180", "Heron 1.8 m delta", "119.00", (("colour", "rust"), ("tail", "ribbon"))),
    Product("SAN-POC", "Sandpiper pocket sled", "24.50", (("colour", "sand"),)),
    Product("GUI-DUO", "Guillemot dual-line", "164.00", (("colour", "slate"),)),
    Product("LIN-050", "50 m braided line", "5.00"),
    Product("REE-ASH", "Ash reel", "31.00"),
    Product("SPA-006", "Spar set 6 mm", "18.90"),
)

CUSTOMERS = (
    Customer(
        5512,
        "Jörg",
        "Ahlers",
        "joerg.ahlers@example.org",
        "+49 (30) 23125-014",
        "Deichstraße 12",
        "Husum",
        "25813",
        "DE",
        "de",
    ),
    Customer(
        5513,
        "Aoife",
        "Ní Bhriain",
        "aoife@example.com",
        "020 915 1234",
        "4 Slip Lane",
        "Kinsale",
        "P17 X000",
        "IE",
        "en",
    ),
    Customer(
        5514,
        "Claire",
        "Béranger",
        "claire@example.org",
        "01 99 00 12 34",
        "7 quai des Lavandières",
        "Dieppe",
        "76200",
        "FR",
        "fr",
    ),
    Customer(
        5515,
        "Mireia",
        "Puig",
        "mireia.puig@example.net",
        "+34 600 000 112",
        "Carrer del Vent 3",
        "Roses",
        "17480",
        "ES",
        "en",
    ),
    Customer(
        5516, "Ελένη", "Μαρή", "eleni@example.net", "+30 21 3000 1234", "Οδός Ανέμων 5", "Χανιά", "73100", "GR", "en"
    ),
    Customer(
        5517, "空", "森", "sora.mori@example.com", "+81 3-0000-4567", "浜町 2-8", "鎌倉市", "248-0000", "JP", "en"
    ),
    Customer(5518, "Mika", "Brandt", "mika@example.net", "030 23125 088", "Am Siel 9", "Norden", "26506", "DE", "de"),
    Customer(
        5519, "Pádraig", "Ó Sé", "padraig@example.com", "020 915 8800", "Cliff Road", "Dingle", "V92 X000", "IE", "en"
    ),
    Customer(
        5520,
        "Anaïs",
        "Lefèvre",
        "anais.lefevre@example.org",
        "02 61 91 45 67",
        "12 rue du Phare",
        "Roscoff",
        "29680",
        "FR",
        "fr",
    ),
)

CARRIERS = ("Saltway Couriers", "Gannet Post", "Overland Wren")
"""The last tells nothing on the way: its parcels count as delivered when they should be."""


CARRIER_SAYS = (
    *("Label printed", "Picked up", "At the sorting loft", "Out for delivery", "Delivered", "Nobody home"),
    *("Back to sender", "Not delivered", "Sheltering from the gale"),
)
"""What the stand-in of a carrier tells of a parcel; the last is in words that nobody knows."""


def parcel_number(carrier: str, serial: int) -> str:
    """A number as these carriers give them."""
    if carrier == "Gannet Post":
        return s10_number(serial * 7919)
    return f"{'SW' if carrier == 'Saltway Couriers' else 'OW'}{serial:08d}"


LIFE = ("paid", "packed", "label_printed", "shipped", "in_transit", "out_for_delivery", "delivered")
"""The web shop's own names for an order's statuses, in order."""


def s10_number(serial: int, service: str = "RR", country: str = "IE") -> str:
    """A postal item's number in the S10 format of the Universal Postal Union, its check digit worked out."""
    digits = f"{serial % 100_000_000:08d}"
    rest = 11 - sum(int(d) * w for d, w in zip(digits, (8, 6, 4, 2, 3, 5, 9, 7), strict=True)) % 11
    check = {10: 0, 11: 5}.get(rest, rest)
    return f"{service}{digits}{check}{country}"
