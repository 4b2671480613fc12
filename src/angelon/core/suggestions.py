"""Which field of a payload is which part of an order: ranked guesses, each with its reason.

Looks at names (in several languages, misspelt too), at where a field stands, and at what its values look like, over
all samples. An email address is an email address wherever it stands.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from babel import Locale
from babel.numbers import list_currencies
from rapidfuzz import fuzz

from angelon.core.addresses import BadPhone, read_phone
from angelon.core.payload.paths import child
from angelon.core.recipes.coerce import day
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS, READING
from angelon.core.specs.variable import Recipe, Type, Variable
from angelon.core.values import number_of

SURE = 0.68
MARGIN = 0.05
MAX_FIELDS = 400


@dataclass(frozen=True)
class Suggestion:
    """One guess: a recipe, what it gives in the first sample that has it, and how sure, from 0 to 1."""

    recipe: Recipe
    value: Any
    score: float
    reason: str

    @property
    def path(self) -> str:
        return self.recipe.path


@dataclass
class _Place:
    """A place that samples have in common: a leaf, or a list of objects."""

    path: str
    key: str
    parents: tuple[str, ...]
    values: list[Any] = field(default_factory=list)
    steps: tuple[dict[str, Any] | str, ...] = ()
    items: bool = False

    @property
    def value(self) -> Any:
        return next((v for v in self.values if v not in (None, "")), None)


def words(name: str) -> tuple[str, ...]:
    """A key's words in lower case: `grandTotal`, `grand_total` and `Grand-Total` alike."""
    parted = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name)
    return tuple(w for w in re.split(r"[^0-9a-zà-öø-ÿα-ωά-ώа-я一-龠ぁ-んァ-ン]+", parted.lower()) if w)


# ---- what is what -------------------------------------------------------------------------------------------------

_CUSTOMER = (
    "customer",
    "buyer",
    "client",
    "kunde",
    "kaeufer",
    "käufer",
    "acheteur",
    "cliente",
    "comprador",
    "klant",
    "contact",
    "contacts",
    "recipient",
    "besteller",
    "acquirente",
    "user",
    "person",
    "consumer",
    "purchaser",
    "guest",
)
_SHIP = (
    "ship",
    "shipping",
    "delivery",
    "versand",
    "lieferung",
    "lieferadresse",
    "livraison",
    "envio",
    "address",
    "adresse",
    "destination",
    "to",
    "spedizione",
    "bezorg",
)
_ITEMS = (
    "line",
    "lines",
    "item",
    "items",
    "product",
    "products",
    "position",
    "positionen",
    "posten",
    "artikel",
    "article",
    "articles",
    "lignes",
    "ligne",
    "pieces",
    "piece",
    "lineas",
    "productos",
    "articoli",
    "regels",
    "basket",
    "cart",
    "warenkorb",
    "entries",
    "goods",
    "ware",
)
_PARCELS = (
    "parcel",
    "parcels",
    "shipment",
    "shipments",
    "package",
    "packages",
    "sendung",
    "sendungen",
    "paket",
    "pakete",
    "colis",
    "fulfillments",
    "fulfilments",
    "tracking",
    "consignments",
    "bultos",
    "envios",
    "deliveries",
    "pacchi",
    "zendingen",
)
_PAYMENT = ("payment", "payments", "zahlung", "paiement", "pago", "billing", "transaction", "pagamento", "betaling")
_SELLER = (
    "shop",
    "store",
    "seller",
    "merchant",
    "vendor",
    "haendler",
    "händler",
    "boutique",
    "tienda",
    "support",
    "staff",
    "sender",
    "negozio",
)


@dataclass(frozen=True)
class _Part:
    """What tells one part: names (best first), looks, and parents that speak for or against it."""

    names: tuple[str, ...]
    looks: Callable[[Any], float]
    label: str
    good: tuple[str, ...] = ()
    bad: tuple[str, ...] = ()
    alone: bool = False
    """Whether the look of the value is enough."""
    vague: tuple[str, ...] = ()
    """Names that say it only below a parent that speaks for it."""


def _text(value: Any) -> str:
    return (
        value.strip()
        if isinstance(value, str)
        else str(value)
        if isinstance(value, int) and not isinstance(value, bool)
        else ""
    )


def _email(value: Any) -> float:
    return 1.0 if isinstance(value, str) and re.fullmatch(r"[^@\s<>]+@[^@\s<>]+\.[^@\s<>.]{2,}", value.strip()) else 0.0


def _phone(value: Any) -> float:
    text = _text(value)
    if (
        not re.fullmatch(r"[+0(][\d\s()./-]{6,24}", text)
        or not 7 <= sum(c.isdigit() for c in text) <= 16
        or re.fullmatch(r"0?\d\.\d+", text)
    ):
        return 0.0
    try:
        read_phone(text, None if text.startswith(("+", "00")) else "DE")
    except BadPhone:
        return 0.3
    return 1.0 if text.startswith(("+", "00")) else 0.75


@lru_cache(maxsize=1)
def _countries() -> frozenset[str]:
    return frozenset(code for code in map(str, Locale.parse("en").territories) if len(code) == 2 and code.isalpha())


@lru_cache(maxsize=1)
def _languages() -> frozenset[str]:
    return frozenset(code for code in map(str, Locale.parse("en").languages) if len(code) == 2)


@lru_cache(maxsize=1)
def _currencies() -> frozenset[str]:
    return frozenset(list_currencies())


def _currency(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip().upper() in _currencies() else 0.0


def _country(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip() in _countries() else 0.0


def _language(value: Any) -> float:
    return (
        1.0
        if isinstance(value, str)
        and re.fullmatch(r"[a-z]{2}([-_][A-Za-z]{2})?", value.strip())
        and value.strip()[:2] in _languages()
        else 0.0
    )


def _money(value: Any) -> float:
    number = number_of(value, ".")
    if number is None or number < 0:
        return 0.0
    return 1.0 if re.search(r"[.,]\d{2}$", str(value)) else 0.7


def _date(value: Any) -> float:
    text = _text(value)
    if re.fullmatch(r"\d{1,2}[./]\d{1,2}[./]\d{4}([ T]\d{1,2}:\d{2}(:\d{2})?)?", text) or re.fullmatch(
        r"\d{4}/\d{2}/\d{2}([ T]\d{1,2}:\d{2}(:\d{2})?)?", text
    ):
        return 0.95
    try:
        day(value, Context())
    except StepFailed:
        return 0.0
    return 0.7 if isinstance(value, int | float) or text.isdigit() else 1.0


def _person(value: Any) -> float:
    text = _text(value)
    if (
        not text
        or len(text) > 60
        or any(c.isdigit() for c in text)
        or "@" in text
        or not any(c.isalpha() for c in text)
        or re.search(r"[_/:;{}<>=]", text)
    ):
        return 0.0
    if len(text) <= 3 and text.isupper():
        return 0.1
    return 1.0 if len(text.split()) in (2, 3, 4) and text[0].isupper() else 0.6


def _status(value: Any) -> float:
    text = _text(value)
    return (
        1.0
        if isinstance(value, str) and re.fullmatch(r"[A-Za-zÀ-ÿ][\wÀ-ÿ \-.]{2,39}", text) and not _email(text)
        else 0.0
    )


def _number(value: Any) -> float:
    text = _text(value)
    if not text or len(text) > 40 or " " in text or "@" in text:
        return 0.0
    if re.fullmatch(r"[A-Za-z#]{1,6}[-_/#]?[\w\-/]*\d[\w\-/]*", text) and not re.fullmatch(r"[0-9a-f-]{32,}", text):
        return 1.0
    return 0.7 if text.isdigit() and len(text) <= 10 else 0.2


def _identifier(value: Any) -> float:
    text = _text(value)
    if not text or len(text) > 64 or " " in text or "@" in text or not any(c.isdigit() for c in text):
        return 0.0
    return 1.0 if text.isdigit() or re.fullmatch(r"[0-9a-fA-F-]{16,}", text) else 0.8


def _words_of_text(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip() and any(c.isalpha() for c in value) else 0.0


def _quantity(value: Any) -> float:
    number = number_of(value, ".")
    return 1.0 if number is not None and 0 < number < 10000 and number == number.to_integral_value() else 0.0


_PARTS: dict[str, _Part] = {
    "reference": _Part(
        (
            "id",
            "order id",
            "orderid",
            "reference",
            "uuid",
            "order",
            "bestell id",
            "order no",
            "number",
            "sale no",
            "no",
            "ref",
            "commande id",
            "pedido id",
            "nummer",
            "numero",
        ),
        _identifier,
        "looks like an identifier",
        bad=(*_CUSTOMER, *_ITEMS, *_PARCELS, *_PAYMENT, *_SHIP, *_SELLER),
    ),
    "number": _Part(
        (
            "order number",
            "ordernumber",
            "number",
            "reference",
            "order no",
            "no",
            "sale no",
            "bestellnummer",
            "auftragsnummer",
            "numero",
            "numéro",
            "numero commande",
            "numero pedido",
            "bestelnummer",
            "name",
            "code",
            "order reference",
            "ref",
            "display id",
            "id",
        ),
        _number,
        "looks like a number that people read",
        bad=(*_CUSTOMER, *_ITEMS, *_PARCELS, *_PAYMENT, *_SHIP, *_SELLER),
    ),
    "status": _Part(
        (
            "status",
            "state",
            "order status",
            "stage",
            "zustand",
            "statut",
            "estado",
            "stato",
            "now",
            "phase",
            "bestellstatus",
        ),
        _status,
        "is one short word",
        good=("order", "status"),
        bad=(*_PAYMENT, *_ITEMS, *_PARCELS, *_CUSTOMER),
    ),
    "discount": _Part(
        (
            "discount",
            "discount total",
            "total discount",
            "discount amount",
            "rabatt",
            "nachlass",
            "remise",
            "descuento",
            "sconto",
            "korting",
            "reduction",
        ),
        _money,
        "looks like an amount",
        bad=(*_ITEMS, *_PARCELS),
    ),
    "total": _Part(
        (
            "grand total",
            "total",
            "total price",
            "order total",
            "gesamt",
            "gesamtbetrag",
            "summe",
            "gesamtsumme",
            "montant total",
            "montant",
            "total ttc",
            "importe",
            "importe total",
            "totale",
            "totaal",
            "amount",
            "sum",
            "total amount",
            "to pay",
        ),
        _money,
        "looks like an amount",
        bad=(*_ITEMS, *_PARCELS, "tax", "steuer", "discount", "shipping", "postage", "versand", "subtotal"),
    ),
    "currency": _Part(
        ("currency", "currency code", "waehrung", "währung", "devise", "moneda", "valuta", "unit", "ccy", "monnaie"),
        _currency,
        "is a currency's code",
        alone=True,
    ),
    "placed_at": _Part(
        (
            "placed at",
            "created at",
            "ordered at",
            "order date",
            "sold at",
            "created",
            "date",
            "bestellt am",
            "bestelldatum",
            "erstellt am",
            "date commande",
            "fecha",
            "fecha pedido",
            "ordered on",
            "placed",
            "timestamp",
            "datum",
            "data ordine",
            "purchased at",
            "cree le",
            "creado",
        ),
        _date,
        "looks like a date",
        bad=(*_ITEMS, *_PARCELS, *_PAYMENT, *_CUSTOMER),
    ),
    "changed_at": _Part(
        (
            "changed at",
            "updated at",
            "modified at",
            "last modified",
            "geaendert am",
            "geändert am",
            "modifie le",
            "actualizado",
            "updated",
            "time",
            "modified",
            "occurred at",
            "aktualisiert am",
        ),
        _date,
        "looks like a date",
        bad=(*_ITEMS, *_PARCELS, *_CUSTOMER),
    ),
    "customer_id": _Part(
        (
            "customer id",
            "buyer id",
            "client id",
            "user id",
            "kundennummer",
            "kunden id",
            "id client",
            "customer number",
            "id",
            "cliente id",
            "number",
            "nummer",
            "uid",
        ),
        _identifier,
        "looks like an identifier",
        good=_CUSTOMER,
        bad=(*_ITEMS, *_PARCELS, *_PAYMENT, *_SHIP),
        vague=("id", "number", "nummer", "uid"),
    ),
    "name": _Part(
        (
            "customer name",
            "buyer name",
            "full name",
            "name",
            "display name",
            "display",
            "kundenname",
            "nom",
            "nom complet",
            "nombre",
            "nombre completo",
            "recipient",
            "naam",
            "nome",
        ),
        _person,
        "looks like a person's name",
        good=_CUSTOMER,
        bad=(*_ITEMS, *_PARCELS, *_PAYMENT, *_SELLER, "carrier"),
    ),
    "email": _Part(
        ("email", "e mail", "mail", "email address", "buyer mail", "courriel", "correo", "emailadresse", "posta"),
        _email,
        "is an email address",
        good=_CUSTOMER,
        bad=_SELLER,
        alone=True,
    ),
    "phone": _Part(
        (
            "phone",
            "phone number",
            "tel",
            "telephone",
            "mobile",
            "telefon",
            "telefonnummer",
            "telephone portable",
            "téléphone",
            "telefono",
            "teléfono",
            "handy",
            "buyer tel",
            "msisdn",
            "cell",
            "portable",
            "gsm",
            "movil",
        ),
        _phone,
        "is a phone number",
        good=_CUSTOMER,
        bad=(*_SELLER, *_PARCELS),
        alone=True,
    ),
    "country": _Part(
        (
            "country",
            "country code",
            "ship country",
            "land",
            "laendercode",
            "pays",
            "code pays",
            "pais",
            "país",
            "paese",
            "countrycode",
        ),
        _country,
        "is a country's code",
        good=(*_SHIP, *_CUSTOMER),
        bad=(*_SELLER, *_PARCELS, *_ITEMS),
    ),
    "language": _Part(
        (
            "language",
            "lang",
            "locale",
            "sprache",
            "langue",
            "idioma",
            "lingua",
            "customer locale",
            "taal",
            "language code",
        ),
        _language,
        "is a language's code",
        good=_CUSTOMER,
    ),
}

_LINE: dict[str, _Part] = {
    "name": _Part(
        (
            "title",
            "name",
            "product name",
            "description",
            "what",
            "bezeichnung",
            "artikel",
            "titel",
            "libelle",
            "libellé",
            "designation",
            "nombre",
            "titulo",
            "product",
            "nom",
            "label",
            "descripcion",
            "omschrijving",
        ),
        _words_of_text,
        "is text",
    ),
    "sku": _Part(
        (
            "sku",
            "code",
            "article number",
            "artikelnummer",
            "product code",
            "ean",
            "item code",
            "reference",
            "ref",
            "product id",
            "referencia",
            "art nr",
            "id",
        ),
        _number,
        "looks like a code",
    ),
    "quantity": _Part(
        (
            "quantity",
            "qty",
            "count",
            "amount",
            "menge",
            "anzahl",
            "quantite",
            "quantité",
            "cantidad",
            "aantal",
            "pieces",
            "stueck",
            "units",
            "quantita",
        ),
        _quantity,
        "is a whole number",
    ),
    "price": _Part(
        (
            "unit price",
            "price",
            "item price",
            "preis",
            "einzelpreis",
            "prix",
            "prix unitaire",
            "precio",
            "precio unitario",
            "prijs",
            "amount",
            "prezzo",
            "cost",
        ),
        _money,
        "looks like an amount",
    ),
}
_PARCEL: dict[str, _Part] = {
    "carrier": _Part(
        (
            "carrier",
            "carrier name",
            "company",
            "shipper",
            "versender",
            "dienstleister",
            "transporteur",
            "transportista",
            "courier",
            "spediteur",
            "service",
        ),
        _words_of_text,
        "is text",
    ),
    "number": _Part(
        (
            "tracking number",
            "number",
            "tracking code",
            "tracking",
            "sendungsnummer",
            "numero de suivi",
            "numero seguimiento",
            "parcel number",
            "code",
            "barcode",
            "track id",
        ),
        _number,
        "looks like a code",
    ),
    "expected_on": _Part(
        (
            "expected on",
            "expected",
            "estimated delivery",
            "eta",
            "delivery date",
            "voraussichtlich",
            "liefertermin",
            "livraison prevue",
            "entrega prevista",
            "due",
            "promised on",
        ),
        _date,
        "looks like a date",
    ),
}


# ---- places -------------------------------------------------------------------------------------------------------


def _places(samples: Sequence[Any]) -> list[_Place]:
    """The places that the samples hold: leaves, lists of objects, values in key–value lists, numbered groups
    of fields.
    """
    found: dict[str, _Place] = {}

    def note(
        path: str,
        key: str,
        parents: tuple[str, ...],
        value: Any,
        steps: tuple[dict[str, Any] | str, ...] = (),
        items: bool = False,
    ) -> None:
        mark = f"{path}|{steps}"
        if mark not in found and len(found) >= MAX_FIELDS:
            return
        found.setdefault(mark, _Place(path, key, parents, [], steps, items)).values.append(value)

    def walk(value: Any, path: str, parents: tuple[str, ...], depth: int) -> None:
        if depth > 12:
            return
        for key, inner in value.items():
            here = child(path, key)
            if isinstance(inner, dict):
                walk(inner, here, (*parents, key), depth + 1)
            elif isinstance(inner, list):
                listed(inner, here, key, parents, depth)
            else:
                note(here, key, parents, inner)

    def listed(items: list[Any], path: str, key: str, parents: tuple[str, ...], depth: int) -> None:
        objects = [item for item in items[:20] if isinstance(item, dict)]
        if not objects:
            return
        pair = _pair(objects)
        if pair:
            naming, holding = pair
            for item in objects:
                name = item[naming]
                quoted = name.replace("\\", "\\\\").replace('"', '\\"')
                note(f'{path}[?@.{naming} == "{quoted}"].{holding}', name, (*parents, key), item.get(holding))
            return
        note(path, key, parents, items, (), True)
        walk(objects[0], f"{path}[0]", (*parents, key), depth + 1)

    for sample in samples:
        if isinstance(sample, list) and sample and isinstance(sample[0], dict):
            sample = {"": sample}
        if not isinstance(sample, dict):
            continue
        if "specversion" in sample:  # a CloudEvent: of its envelope only these may say something of the order
            sample = {key: value for key, value in sample.items() if key in ("data", "time", "subject")}
        walk(sample, "$", (), 0)
        for pattern, group in _numbered(sample).items():
            note("$", pattern, (), group, ({"collect": {"pattern": pattern}},), True)
    return list(found.values())


def _pair(objects: list[dict[str, Any]]) -> tuple[str, str] | None:
    """The keys under which a key–value list keeps names and values; None for any other list."""
    for naming in ("key", "kind", "name", "type", "label"):
        for holding in ("value", "content", "text", "val"):
            if all(
                isinstance(o.get(naming), str)
                and holding in o
                and not isinstance(o[holding], dict | list)
                and len(o) <= 4
                for o in objects
            ):
                return naming, holding
    return None


def _numbered(sample: dict[str, Any]) -> dict[str, list[dict[str, Any]]]:
    """Groups like item_1_name, item_1_qty, item_2_name as lists, by their pattern."""
    groups: dict[str, dict[int, dict[str, Any]]] = {}
    for key, value in sample.items():
        match = re.fullmatch(r"([A-Za-z]+)([_.-]?)(\d{1,3})([_.-])(\w+)", key)
        if match:
            pattern = f"{match[1]}{match[2]}{{n}}{match[4]}{{field}}"
            groups.setdefault(pattern, {}).setdefault(int(match[3]), {})[match[5]] = value
    return {
        pattern: [items[n] for n in sorted(items)]
        for pattern, items in groups.items()
        if all(len(i) >= 2 for i in items.values())
    }


# ---- ranking ------------------------------------------------------------------------------------------------------


@lru_cache(maxsize=20_000)
def _named(key: str, parent: str, names: tuple[str, ...]) -> tuple[float, str]:
    """How well a key (with its parent) fits the names of a part, from 0 to 1, and the name that it fits."""
    own = " ".join(words(key))
    both = f"{' '.join(words(parent))} {own}".strip()
    best, which = 0.0, ""
    for rank, name in enumerate(names):
        weight = 1.0 - 0.018 * rank
        for text, worth in ((own, 1.0), (both, 0.97)):
            if text == name or text.replace(" ", "") == name.replace(" ", ""):
                score = worth
            elif len(name) > 3 and (f" {name} " in f" {text} "):
                score = 0.86 * worth
            else:
                ratio = fuzz.ratio(text, name) / 100
                score = 0.8 * ratio * worth if ratio >= 0.8 and len(name) > 4 else 0.0
            if score * weight > best:
                best, which = score * weight, name
    return best, which


def _context(parents: Iterable[str], part: _Part) -> float:
    """What the parents say: for it, against it, or nothing."""
    above = {w for p in parents for w in (*words(p), p.lower())}
    score = 0.0
    if part.good and above & set(part.good):
        score += 0.12
    if part.bad and above & set(part.bad):
        score -= 0.35
    return score - 0.012 * len(tuple(parents))


def _rank(part: _Part, places: Iterable[_Place], total: int) -> list[Suggestion]:
    ranked = []
    for place in places:
        if place.items or place.value is None:
            continue
        present = [v for v in place.values if v not in (None, "")]
        look = sum(part.looks(v) for v in present[:8]) / len(present[:8])
        if look == 0:
            continue
        name, which = _named(place.key, place.parents[-1] if place.parents else "", part.names)
        if name < 0.3 and not (part.alone and look >= 0.7):
            continue
        if which in part.vague and _context(place.parents, part) < 0.05:
            continue
        rarely = 0.08 * (1 - len(present) / max(total, 1))
        told_by_look = 0.25 if part.alone and look >= 0.95 and name < 0.6 else 0.0
        score = 0.56 * name + 0.27 * look + told_by_look + _context(place.parents, part) + 0.05 - rarely
        reason = (
            f"its name says {which}"
            if name >= 0.6
            else f"its name is close to {which}"
            if name >= 0.3
            else "its name does not say so"
        )
        reason += f", and it {part.label}" if name >= 0.3 else f", but it {part.label}"
        ranked.append(
            Suggestion(
                _recipe(place.path, place.steps, place.value, part),
                place.value,
                round(max(0.0, min(score, 1.0)), 3),
                reason,
            )
        )
    return sorted(ranked, key=lambda s: -s.score)[:6]


def _recipe(path: str, steps: tuple[dict[str, Any] | str, ...], value: Any, part: _Part | None) -> Recipe:
    made: list[Any] = list(steps)
    if part is not None and part.looks is _date and isinstance(value, str):
        pattern = _date_format(value.strip())
        if pattern:
            made.append({"parse_date": {"format": pattern}})
    return Recipe.model_validate({"path": path, "steps": made})


def _date_format(text: str) -> str:
    """How a date that is not ISO 8601 is written, day before month."""
    match = re.fullmatch(r"\d{1,2}([./])\d{1,2}[./]\d{4}(?:([ T])\d{1,2}:\d{2}(:\d{2})?)?", text)
    if match:
        return f"%d{match[1]}%m{match[1]}%Y" + (f"{match[2]}%H:%M" if match[2] else "") + (":%S" if match[3] else "")
    match = re.fullmatch(r"\d{4}/\d{2}/\d{2}(?:([ T])\d{1,2}:\d{2}(:\d{2})?)?", text)
    if match:
        return "%Y/%m/%d" + (f"{match[1]}%H:%M" if match[1] else "") + (":%S" if match[2] else "")
    return ""


_GIVEN = (
    "given name",
    "first name",
    "firstname",
    "given",
    "vorname",
    "prenom",
    "prénom",
    "nombre",
    "voornaam",
    "forename",
)
_FAMILY = (
    "family name",
    "last name",
    "lastname",
    "surname",
    "family",
    "nachname",
    "nom",
    "nom de famille",
    "apellido",
    "apellidos",
    "achternaam",
)


def _whole_names(places: list[_Place], total: int) -> list[Suggestion]:
    """Names kept in two fields side by side, as one."""
    found = []
    by_parent: dict[str, dict[str, _Place]] = {}
    for place in places:
        if not place.items and isinstance(place.value, str) and not place.steps:
            own = " ".join(words(place.key))
            if own in _GIVEN or own in _FAMILY:
                parent = place.path[: -len(child("", place.key))] or "$"
                side = (
                    "given"
                    if own in _GIVEN and not (own == "nombre" and "given" in by_parent.get(parent, {}))
                    else "family"
                )
                by_parent.setdefault(parent, {}).setdefault(side, place)
    for parent, pair in by_parent.items():
        if len(pair) == 2:
            given, family = pair["given"], pair["family"]
            recipe = Recipe.model_validate(
                {"path": f'{parent}["{given.key}", "{family.key}"]', "steps": [{"join": {"separator": " "}}]}
            )
            context = _context(given.parents, _PARTS["name"])
            found.append(
                Suggestion(
                    recipe,
                    f"{given.value} {family.value}",
                    round(min(1.0, 0.9 + context), 3),
                    f"{given.key} and {family.key} stand side by side",
                )
            )
    return found


def _lists(names: tuple[str, ...], parts: dict[str, _Part], places: list[_Place]) -> list[Suggestion]:
    """Lists of objects that look like lines or parcels."""
    ranked = []
    for place in places:
        if not place.items:
            continue
        items = [i for v in place.values if isinstance(v, list) for i in v[:3] if isinstance(i, dict)]
        if not items:
            continue
        inner = _item_places(items)
        fits = {name: _rank(part, inner, len(items)) for name, part in parts.items()}
        known = [name for name, ranks in fits.items() if ranks and ranks[0].score >= 0.6]
        name, which = _named(place.key.split("{")[0].strip("_.-"), place.parents[-1] if place.parents else "", names)
        score = 0.55 * name + 0.4 * (len(known) / len(parts)) + (0.1 if "name" in known or "number" in known else 0.0)
        if score < 0.35:
            continue
        reason = f"a list of objects with {', '.join(known) or 'other fields'}" + (
            f", called {which}" if name >= 0.6 else ""
        )
        ranked.append(
            Suggestion(_recipe(place.path, place.steps, None, None), place.values[0], round(min(score, 1.0), 3), reason)
        )

    return sorted(ranked, key=lambda s: -s.score)[:6]


def _item_places(items: list[dict[str, Any]]) -> list[_Place]:
    return [p for p in _places(items) if not p.items]


def suggest(samples: Sequence[Any]) -> dict[str, list[Suggestion]]:
    """Ranked guesses for every part of the reading."""
    places = _places(samples)
    found: dict[str, list[Suggestion]] = {}
    for name, part in _PARTS.items():
        found[name] = _rank(part, places, len(samples))
    found["name"] = sorted([*_whole_names(places, len(samples)), *found["name"]], key=lambda s: -s.score)[:6]
    found["lines"] = _lists(_ITEMS, _LINE, places)
    found["parcels"] = _lists(_PARCELS, _PARCEL, places)
    found["address"] = _addresses(samples)
    _settle_numbers(found)
    return {name: found[name] for name in READING}


_ADDRESS = (
    ("line", re.compile(r"(street|line_?1?|address_?1?|addr|road)$")),
    ("line 2", re.compile(r"(line_?2|address_?2|addr_?2|extra)$")),
    ("postcode", re.compile(r"(zip|zip_?code|post_?code|postal(_?code)?)$")),
    ("city", re.compile(r"(city|town|place|locality)$")),
    ("country", re.compile(r"country(_?code)?$")),
)
_BOUND_FOR = re.compile(r"ship|deliver|recipient")


def _addresses(samples: Sequence[Any]) -> list[Suggestion]:
    """Objects that hold a street, a postcode and a town: their texts, a line each. What something is shipped to goes
    first.
    """
    ranked: list[Suggestion] = []

    def look(value: Any, path: str, depth: int) -> None:
        if not isinstance(value, dict) or depth > 6:
            return
        texts = [key for key, inner in value.items() if isinstance(inner, str) and inner]
        for prefix in sorted(
            {p for p in (key.lower().partition("_")[0] + "_" for key in texts) if _BOUND_FOR.search(p)}
        ) or [""]:
            parts = {
                part: next(
                    (
                        k
                        for k in texts
                        if k.lower().startswith(prefix) and pattern.match(k.lower().removeprefix(prefix))
                    ),
                    "",
                )
                for part, pattern in _ADDRESS
            }
            keys = [key for key in parts.values() if key]
            if parts["city"] and (parts["line"] or parts["postcode"]) and len(keys) >= 3:
                bound = bool(prefix or _BOUND_FOR.search(path.lower()))
                names = ", ".join(json.dumps(key) for key in keys)
                recipe = Recipe.model_validate({"path": f"{path}[{names}]", "steps": [{"join": {"separator": "\n"}}]})
                label = "where it is shipped to: " if bound else ""
                ranked.append(
                    Suggestion(
                        recipe,
                        ", ".join(value[key] for key in keys),
                        0.9 if bound else 0.6,
                        f"{label}fields called {', '.join(keys)}",
                    )
                )
        for key, inner in value.items():
            look(inner, child(path, key), depth + 1)

    if samples:
        look(samples[0], "$", 0)
    return sorted(ranked, key=lambda s: -s.score)[:6]


def _settle_numbers(found: dict[str, list[Suggestion]]) -> None:
    """The internal reference and the customer-facing number: where there is one field only, it is both."""
    references, numbers = found["reference"], found["number"]
    if not references and numbers:
        found["reference"] = [
            Suggestion(n.recipe, n.value, round(n.score * 0.95, 3), "nothing else names the order") for n in numbers
        ]
    elif not numbers and references:
        found["number"] = [
            Suggestion(r.recipe, r.value, round(r.score * 0.95, 3), "nothing else names the order") for r in references
        ]


def suggest_item(kind: str, items: Sequence[Any]) -> dict[str, list[Suggestion]]:
    """Ranked guesses for the parts of a line or parcel, from items as a source lists them. Paths start at the item."""
    parts = _LINE if kind == "line" else _PARCEL
    objects = [item for item in items if isinstance(item, dict)]
    places = _item_places(objects)
    return {name: _rank(parts[name], places, len(objects)) for name in (LINE_PARTS if kind == "line" else PARCEL_PARTS)}


_LOOKS: dict[Type, Callable[[Any], float]] = {
    Type.EMAIL: _email,
    Type.PHONE: _phone,
    Type.MONEY: _money,
    Type.DATE: _date,
    Type.NUMBER: lambda v: 1.0 if number_of(v, ".") is not None else 0.0,
    Type.URL: lambda v: 1.0 if isinstance(v, str) and v.strip().startswith(("http://", "https://")) else 0.0,
    Type.FLAG: lambda v: 1.0 if isinstance(v, bool) else 0.0,
    Type.TEXT: lambda v: 1.0 if isinstance(v, str | int) and not isinstance(v, bool) else 0.0,
}

_AS_PART = {
    "customer_name": "name",
    "order_number": "number",
    "total": "total",
    "items": "lines",
    "placed_on": "placed_at",
    "email": "email",
    "phone": "phone",
    "country": "country",
    "language": "language",
}


def suggest_variable(
    variable: Variable, samples: Sequence[Any], reading: dict[str, list[Suggestion]]
) -> list[Suggestion]:
    """Ranked guesses for one variable: from its name and type, and from the part of the order that it is named
    after.
    """
    part = _AS_PART.get(variable.name) or (variable.name if variable.name in READING else "")
    found = list(reading.get(part, [])) if part else []
    if part == "lines":
        found = [_as_texts(s) for s in found]
    wanted = " ".join(words(variable.name))
    looks = _LOOKS.get(variable.type, lambda v: 0.0)
    for place in _places(samples):
        value = place.value
        if place.items:
            score = fuzz.ratio(wanted, " ".join(words(place.key))) / 100 if variable.type is Type.LIST else 0.0
        else:
            own, parent = " ".join(words(place.key)), " ".join(words(place.parents[-1])) if place.parents else ""
            score = (
                max(fuzz.ratio(wanted, own), fuzz.ratio(wanted, f"{parent} {own}".strip()))
                / 100
                * (0.4 + 0.6 * looks(value))
            )
        if score >= 0.6 and value is not None:
            steps: tuple[dict[str, Any] | str, ...] = place.steps
            found.append(
                Suggestion(
                    _recipe(place.path, steps, value, _PARTS["placed_at"] if variable.type is Type.DATE else None),
                    value,
                    round(min(score, 1.0) * 0.98, 3),
                    f"its name is close to {variable.name}",
                )
            )
    best: dict[str, Suggestion] = {}
    for suggestion in found:
        mark = str(suggestion.recipe.model_dump())
        if mark not in best or best[mark].score < suggestion.score:
            best[mark] = suggestion
    return sorted(best.values(), key=lambda s: -s.score)[:6]


def _as_texts(lines: Suggestion) -> Suggestion:
    """A list of lines as texts that people read, where it is known which field is the name: `2 × braided line`."""
    inner = suggest_item("line", lines.value if isinstance(lines.value, list) else [])
    name, quantity = (
        inner[part][0].path.removeprefix("$.") if inner[part] and inner[part][0].score >= 0.5 else ""
        for part in ("name", "quantity")
    )
    if not name.isidentifier():
        return lines
    text = f"{{{{ {quantity} }}}} × {{{{ {name} }}}}" if quantity.isidentifier() else f"{{{{ {name} }}}}"
    recipe = Recipe.model_validate(
        {"path": lines.recipe.path, "steps": [*(s.model_dump() for s in lines.recipe.steps), {"each": {"text": text}}]}
    )
    return Suggestion(recipe, lines.value, lines.score, lines.reason)


def sure(suggestions: Sequence[Suggestion]) -> Suggestion | None:
    """The first guess where it is good, and clearly better than the next that gives another value."""
    if not suggestions or suggestions[0].score < SURE:
        return None
    others = [s for s in suggestions[1:] if s.value != suggestions[0].value]
    return suggestions[0] if not others or suggestions[0].score - others[0].score >= MARGIN else None
