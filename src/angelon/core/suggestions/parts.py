"""What tells each part of an order: what its key means, where it stands, what its value looks like."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from angelon.core.suggestions import looks
from angelon.core.suggestions.meaning import meaning
from angelon.core.suggestions.places import Place

Named = Callable[[Place, float], float]
"""How far a place's name says that it is a part, from 0 to 1, for a value that looks like it so much."""


@dataclass(frozen=True, slots=True)
class Part:
    named: Named
    look: Callable[[Any], float]
    label: str
    against: tuple[tuple[str, float], ...] = ()
    """What its own key must not mean, and how much that takes away."""
    around: tuple[tuple[str, float], ...] = ()
    """The same for the objects that it stands in."""
    alone: float = 0.0
    """What the look of a value is worth where the name says nothing."""
    favoured: frozenset[str] = frozenset()
    """What speaks for it where it stands around."""
    says: tuple[str, ...] = ()
    """What its name may mean, best first: for the reason that a person reads."""


def _best(*cases: tuple[bool, float]) -> float:
    return max((worth for holds, worth in cases if holds), default=0.0)


def _about_order(place: Place) -> bool:
    """Whether nothing around says that it is about something within the order."""
    inner = {"customer", "seller", "recipient", "billing", "item", "parcel", "payment", "event", "carrier", "address"}
    inner |= {"return"}
    return not place.of_order & inner


def _email(place: Place, look: float) -> float:
    return 0.95 if "email" in place.own or "email" in place.around else 0.0


def _phone(place: Place, look: float) -> float:
    return 0.95 if "phone" in place.own or ("phone" in place.around and "number" in place.own) else 0.0


def _name(place: Place, look: float) -> float:
    own, person = place.own, bool(place.around & {"customer"})
    where = bool(place.around & {"recipient", "billing"}) or bool(place.own & {"billing", "recipient"})
    half = own & {"first", "last"}
    return _best(
        ("full" in own and not half, 0.97 if person or "customer" in own else 0.9),
        ("first" in own and own & {"last", "name"} == {"last", "name"}, 0.9),
        ("first" in own and "name" in own and "last" not in own and look == 1, 0.85),
        ("name" in own and not half and ("customer" in own or person), 0.97),
        ("name" in own and not half and where, 0.8),
        ("shown" in own and person and not half, 0.85),
        ("title" in own and person, 0.8),
        ("customer" in own and not own & {"id", "number", "reference", "email", "phone"}, 0.85 if look == 1 else 0.6),
        ("recipient" in own and own <= {"recipient", "number"} and look == 1, 0.6),
        ("name" in own and not half and _about_order(place), 0.6 if look == 1 else 0.35),
        ("first" in own and (person or "customer" in own or where), 0.55),
        ("last" in own and (person or "customer" in own or where), 0.4),
        (place.key.lower() == "n" and person and look == 1, 0.75),
    )


_OF_THE_EVENT = re.compile(r"(evt|event|whk|hook|dlv|delivery|msg|req)[_-]", re.I)
"""How ids begin that name a delivery and not its order."""


def _reference(place: Place, look: float) -> float:
    own, order = place.own, _about_order(place)
    if _OF_THE_EVENT.match(str(place.value)) and "order" not in own:
        return 0.3
    if "id" in own and "order" not in own and _in_envelope(place):
        return 0.3
    return _best(
        ("id" in own and "order" in own, 0.95),
        ("id" in own and order, 0.5 if "shown" in own else 0.92),
        ("reference" in own and order, 0.66),
        ("number" in own and order, 0.62),
        ("order" in own and order, 0.5),
        ("shown" in own and order, 0.45),
        (place.key.lower() == "i" and order, 0.6),
    )


_ENVELOPES = frozenset(
    {
        *("meta", "metadata", "event", "header", "headers", "envelope", "hook", "webhook", "notification"),
        *("context", "delivery", "message", "request"),
    }
)


def _in_envelope(place: Place) -> bool:
    """Whether it stands in what tells about the delivery rather than about the order."""
    return any(parent.lower() in _ENVELOPES for parent in place.parents)


def _number(place: Place, look: float) -> float:
    own, order = place.own, _about_order(place)
    if "customer" in own and "order" not in own and own & {"number", "id"}:
        return 0.0
    if "id" in own and _in_envelope(place) and "order" not in own:
        return 0.3
    return _best(
        (own >= {"order", "number"}, 0.5 if "id" in own else 0.96),
        ("shown" in own and order and look > 0.3, 0.94 if look == 1 else 0.7),
        ("number" in own and order, 0.92),
        (own >= {"order", "reference"} and look == 1, 0.88),
        ("reference" in own and "customer" in own and look == 1, 0.72),
        ("reference" in own and order, 0.82 if look == 1 else 0.55),
        ("name" in own and order and look == 1, 0.8),
        ("order" in own and own <= {"order", "shown"} and look == 1, 0.72),
        ("id" in own and (order or "order" in own), 0.5),
        (place.key.lower() == "n" and order and look == 1, 0.7),
    )


def _status(place: Place, look: float) -> float:
    own = place.own
    if "status" in own and own & {"payment", "fulfilment", "recipient", "return", "parcel"}:
        return 0.5
    return _best(
        ("status" in own, 0.93),
        ("now" in own and bool(place.around & {"status"}), 0.9),
        ("now" in own and not own - {"now"}, 0.6),
        (place.key.lower() == "s" and _about_order(place) and look == 1, 0.6),
    )


def _payment_status(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("status" in own and "payment" in own | place.around, 0.9),
        ("payment" in own and own <= {"payment", "order"} and look == 1, 0.76),
    )


def _fulfilment_status(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("status" in own and "fulfilment" in own | place.around, 0.9),
        ("status" in own and "recipient" in own, 0.86),
        ("status" in own and "parcel" in own, 0.76),
        ("fulfilment" in own and own <= {"fulfilment", "order"} and look == 1, 0.76),
    )


def _return_status(place: Place, look: float) -> float:
    return _best(("status" in place.own and "return" in place.own | place.around, 0.9))


def _total(place: Place, look: float) -> float:
    own, order = place.own, _about_order(place)
    return _best(
        (own >= {"total", "amount"}, 0.96),
        ("total" in own, 0.94),
        ("amount" in own and "total" in place.around, 0.6),
        ("amount" in own and order, 0.68 if "order" in own or place.currency else 0.62),
        ("minor" in own and order, 0.66),
        (place.key.lower() == "t" and order and look == 1, 0.6),
    )


def _discount(place: Place, look: float) -> float:
    return 0.95 if "discount" in place.own or ("discount" in place.around and "amount" in place.own) else 0.0


def _postage(place: Place, look: float) -> float:
    own = place.own
    above = place.parents[-1] if place.parents else ""
    bound = "recipient" in own and not own & _NO_COST
    return _best(
        ("postage" in own or ("postage" in place.around and "amount" in own), 0.93),
        (bound and bool(own & {"amount", "total", "minor", "each"}), 0.9),
        (bound and own <= {"recipient"} and (look == 1 or bool(place.around & {"amount", "total"})), 0.86),
        ("recipient" in meaning(above) and bool(own & {"amount", "total"}) and "each" not in own, 0.8),
    )


_NO_COST = frozenset(
    {
        *("id", "number", "reference", "date", "name", "status", "address", "country", "email", "phone", "medium"),
        *("expected", "full", "first", "last", "carrier"),
    }
)


def _tax(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("tax" in own and "total" in own, 0.94),
        ("tax" in own and not own & {"id", "number", "reference", "unit"}, 0.9),
        ("tax" in place.around and "amount" in own and _about_order(place), 0.7),
    )


def _currency(place: Place, look: float) -> float:
    return _best(("currency" in place.own, 0.97), ("unit" in place.own, 0.8))


def _placed(place: Place, look: float) -> float:
    own, order = place.own, _about_order(place)
    return _best(
        ("created" in own, 0.96 if "date" in own else 0.93),
        (own >= {"order", "date"}, 0.95),
        ("date" in own and order and not own - {"date", "order"}, 0.74),
        ("date" in own and order, 0.6),
        (place.key.lower() == "d" and order, 0.6),
    )


def _changed(place: Place, look: float) -> float:
    own = place.own
    return _best(("changed" in own, 0.95), (own == {"date"} and len(place.parents) < 2, 0.55))


def _customer_id(place: Place, look: float) -> float:
    own = place.own
    names = own & {"id", "number", "reference"}
    return _best(
        (bool(names) and "customer" in own, 0.95 if "id" in own or "number" in own else 0.6),
        ("id" in own and "customer" in place.around, 0.93),
        ("number" in own and "customer" in place.around and "phone" not in own, 0.8),
    )


def _country(place: Place, look: float) -> float:
    return 0.95 if "country" in place.own else 0.0


def _language(place: Place, look: float) -> float:
    return 0.95 if "language" in place.own else 0.0


_WITHIN = (("item", 0.6), ("parcel", 0.55), ("carrier", 0.5))
_NOT_STATUS = (("before", 0.6), ("event", 0.5), ("address", 0.5), ("item", 0.5), ("id", 0.5), ("number", 0.5))
PARTS: dict[str, Part] = {
    "reference": Part(
        _reference,
        looks.identifier,
        "looks like an identifier",
        against=(
            *(("customer", 0.6), ("item", 0.6), ("parcel", 0.6), ("payment", 0.6), ("event", 0.5), ("phone", 0.7)),
            *(("address", 0.6), ("billing", 0.5), ("recipient", 0.5), ("seller", 0.5), ("tax", 0.6), ("date", 0.6)),
            *(("amount", 0.6), ("total", 0.6), ("user", 0.6), ("sku", 0.6), ("currency", 0.6)),
        ),
        around=(*_WITHIN, ("payment", 0.55), ("seller", 0.55), ("event", 0.4), ("customer", 0.55), ("recipient", 0.55)),
        says=("id", "reference", "number", "order"),
    ),
    "number": Part(
        _number,
        looks.number,
        "looks like a number that people read",
        against=(
            *(("item", 0.6), ("parcel", 0.6), ("payment", 0.6), ("phone", 0.7), ("address", 0.6), ("billing", 0.35)),
            *(("recipient", 0.5), ("seller", 0.5), ("tax", 0.6), ("date", 0.6), ("amount", 0.6), ("total", 0.6)),
            *(("event", 0.5), ("user", 0.6), ("sku", 0.6), ("currency", 0.6), ("quantity", 0.6)),
        ),
        around=(*_WITHIN, ("payment", 0.55), ("seller", 0.55), ("event", 0.4), ("customer", 0.55), ("recipient", 0.55)),
        says=("number", "shown", "reference", "order", "name", "id"),
    ),
    "status": Part(
        _status,
        looks.status,
        "is one short word",
        against=(("before", 0.6), ("payment", 0.25), ("event", 0.5), ("address", 0.5), ("item", 0.3)),
        around=(
            *((n, 0.25) for n in ("item", "parcel", "payment")),
            ("before", 0.5),
            ("address", 0.5),
            ("customer", 0.4),
        ),
        favoured=frozenset({"now"}),
        says=("status", "now"),
    ),
    "payment_status": Part(
        _payment_status, looks.status, "is one short word", against=_NOT_STATUS, around=_WITHIN, says=("payment",)
    ),
    "fulfilment_status": Part(
        _fulfilment_status,
        looks.status,
        "is one short word",
        against=(*_NOT_STATUS, ("payment", 0.5)),
        around=_WITHIN,
        says=("fulfilment", "parcel"),
    ),
    "return_status": Part(
        _return_status,
        looks.status,
        "is one short word",
        against=(*_NOT_STATUS, ("payment", 0.5)),
        around=_WITHIN,
        says=("return",),
    ),
    "discount": Part(_discount, looks.reduction, "looks like an amount", around=_WITHIN, says=("discount",)),
    "postage": Part(
        _postage,
        looks.money,
        "looks like an amount",
        against=(("tax", 0.5), ("discount", 0.5), ("number", 0.5), ("id", 0.6), ("total", 0.05)),
        around=(*_WITHIN, ("tax", 0.5), ("discount", 0.5)),
        says=("postage",),
    ),
    "tax": Part(
        _tax,
        looks.money,
        "looks like an amount",
        against=(("net", 0.4), ("number", 0.6), ("id", 0.6), ("postage", 0.5), ("each", 0.5), ("discount", 0.5)),
        around=(*_WITHIN, ("postage", 0.5), ("discount", 0.5)),
        says=("tax",),
    ),
    "total": Part(
        _total,
        looks.money,
        "looks like an amount",
        against=(
            *(("net", 0.4), ("tax", 0.6), ("discount", 0.6), ("postage", 0.6), ("each", 0.6), ("item", 0.6)),
            *(("recipient", 0.6), ("quantity", 0.6), ("number", 0.5), ("id", 0.6)),
        ),
        around=(
            *_WITHIN,
            *((n, 0.6) for n in ("tax", "discount", "postage", "recipient")),
            ("net", 0.4),
            ("payment", 0.1),
        ),
        says=("total", "amount", "minor"),
    ),
    "currency": Part(
        _currency,
        looks.currency,
        "is a currency's code",
        around=(("item", 0.2), ("tax", 0.1)),
        alone=0.45,
        says=("currency", "unit"),
    ),
    "placed_at": Part(
        _placed,
        looks.date,
        "looks like a date",
        against=(
            *(("changed", 0.6), ("expected", 0.6), ("birth", 0.7), ("payment", 0.45), ("parcel", 0.5)),
            *(("recipient", 0.55), ("customer", 0.3), ("item", 0.5)),
        ),
        around=(*_WITHIN, ("payment", 0.4), ("customer", 0.35), ("recipient", 0.45), ("event", 0.4)),
        says=("created", "date"),
    ),
    "changed_at": Part(
        _changed,
        looks.date,
        "looks like a date",
        against=(("created", 0.6), ("expected", 0.6), ("birth", 0.7), ("recipient", 0.5)),
        around=(*_WITHIN, ("customer", 0.4)),
        says=("changed", "date"),
    ),
    "customer_id": Part(
        _customer_id,
        looks.identifier,
        "looks like an identifier",
        against=(("order", 0.4), ("item", 0.6), ("address", 0.5), ("phone", 0.7), ("reference", 0.2)),
        around=(*_WITHIN, ("payment", 0.5), ("seller", 0.6), ("address", 0.5)),
        says=("id", "number", "reference"),
    ),
    "name": Part(
        _name,
        looks.person,
        "looks like a person's name",
        against=(
            *(("seller", 0.6), ("item", 0.6), ("parcel", 0.5), ("carrier", 0.6), ("country", 0.7), ("language", 0.7)),
            *(("address", 0.5), ("event", 0.5), ("status", 0.6), ("payment", 0.6), ("email", 0.5), ("id", 0.5)),
        ),
        around=(*_WITHIN, ("seller", 0.6), ("payment", 0.4), ("event", 0.3)),
        favoured=frozenset({"customer"}),
        says=("name", "full", "first", "customer", "shown", "title"),
    ),
    "email": Part(
        _email,
        looks.email,
        "is an email address",
        against=(("seller", 0.5),),
        around=(("seller", 0.5), ("carrier", 0.3)),
        alone=0.5,
        favoured=frozenset({"customer"}),
        says=("email",),
    ),
    "phone": Part(
        _phone,
        looks.phone,
        "is a phone number",
        against=(
            ("fax", 0.6),
            ("seller", 0.5),
            ("id", 0.5),
            ("order", 0.5),
            ("date", 0.6),
            ("item", 0.5),
            ("parcel", 0.5),
        ),
        around=(("seller", 0.5), ("parcel", 0.3), ("item", 0.5), ("carrier", 0.4)),
        alone=0.4,
        favoured=frozenset({"customer"}),
        says=("phone",),
    ),
    "country": Part(
        _country,
        looks.country,
        "is a country's code",
        against=(("language", 0.7), ("seller", 0.5), ("currency", 0.5), ("status", 0.4)),
        around=(("seller", 0.5), ("item", 0.4), ("parcel", 0.3)),
        alone=0.3,
        favoured=frozenset({"recipient", "customer", "address"}),
        says=("country",),
    ),
    "language": Part(
        _language,
        looks.language,
        "is a language's code",
        against=(("country", 0.7), ("currency", 0.5)),
        around=(("seller", 0.3), ("item", 0.3)),
        alone=0.3,
        favoured=frozenset({"customer"}),
        says=("language",),
    ),
}


def _line_name(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("title" in own, 0.95),
        ("name" in own, 0.93),
        ("shown" in own, 0.85),
        ("item" in own and not own & {"number", "id", "sku", "reference"}, 0.75),
        (place.key.lower() == "d", 0.5),
    )


def _sku(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("sku" in own, 0.97),
        (own >= {"item", "number"} or own >= {"item", "reference"}, 0.92),
        ("reference" in own, 0.85),
        (own >= {"item", "id"}, 0.7),
        ("item" in own and look == 1, 0.7),
        ("id" in own, 0.5),
        ("number" in own, 0.6 if look == 1 else 0.4),
        (place.key.lower() == "k", 0.5),
    )


def _quantity(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("quantity" in own, 0.97),
        (own >= {"item", "number"} or "unit" in own, 0.7),
        ("item" in own and not own - {"item"}, 0.7),
        (place.key.lower() in ("q", "n", "x"), 0.7),
        ("number" in own, 0.6),
        ("amount" in own, 0.5),
    )


def _price(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("each" in own and "amount" in own, 0.97),
        ("each" in own, 0.9),
        ("amount" in own, 0.88),
        ("total" in own, 0.6),
        ("minor" in own, 0.6),
        (place.key.lower() == "p", 0.5),
    )


def _carrier(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("carrier" in own, 0.95),
        ("carrier" in place.around and bool(own & {"name", "shown"}), 0.95),
        ("seller" in own, 0.8),
        ("carrier" in place.around and "reference" in own, 0.6),
    )


def _tracking(place: Place, look: float) -> float:
    own = place.own
    return _best(
        (own >= {"parcel", "number"} or own >= {"parcel", "reference"}, 0.97),
        ("parcel" in own, 0.9),
        ("number" in own, 0.85),
        ("reference" in own, 0.8),
        ("id" in own, 0.5),
    )


def _expected(place: Place, look: float) -> float:
    own = place.own
    return _best(
        ("expected" in own, 0.95), (own >= {"recipient", "date"}, 0.85), ("date" in own and not own - {"date"}, 0.4)
    )


LINE: dict[str, Part] = {
    "name": Part(
        _line_name,
        looks.words_of_text,
        "is text",
        against=(("id", 0.4), ("quantity", 0.5), ("amount", 0.4)),
        says=("title", "name", "item"),
    ),
    "sku": Part(
        _sku,
        looks.number,
        "looks like a code",
        against=(("amount", 0.6), ("total", 0.6), ("quantity", 0.6)),
        says=("sku", "reference", "number", "id"),
    ),
    "quantity": Part(
        _quantity,
        looks.quantity,
        "is a whole number",
        against=(("each", 0.6), ("total", 0.5), ("id", 0.6), ("sku", 0.6)),
        says=("quantity", "unit", "number"),
    ),
    "price": Part(
        _price,
        looks.money,
        "looks like an amount",
        against=(("tax", 0.6), ("discount", 0.5), ("quantity", 0.5), ("number", 0.5)),
        says=("each", "amount", "total"),
    ),
}
PARCEL: dict[str, Part] = {
    "carrier": Part(
        _carrier,
        looks.words_of_text,
        "is text",
        against=(("number", 0.5), ("date", 0.6), ("status", 0.6)),
        says=("carrier", "seller", "name"),
    ),
    "number": Part(
        _tracking,
        looks.tracking,
        "looks like a code",
        against=(("date", 0.6), ("carrier", 0.3), ("order", 0.6)),
        says=("parcel", "number", "reference"),
    ),
    "expected_on": Part(
        _expected,
        looks.date,
        "looks like a date",
        against=(("created", 0.4), ("changed", 0.5)),
        says=("expected", "date"),
    ),
}


def _parcel_status(place: Place, look: float) -> float:
    own = place.own
    return _best(("status" in own, 0.93), ("event" in own, 0.7), ("now" in own and not own - {"now"}, 0.6))


def _parcel_at(place: Place, look: float) -> float:
    own = place.own
    return 0.0 if "expected" in own else _best(("changed" in own, 0.95), ("date" in own, 0.85), ("created" in own, 0.6))


_PLACE_WORDS = """
    place location town city depot hub ort standort stadt lieu ville endroit lugar ciudad luogo citta plaats stad
    miejsce miasto local cidade plats sted paikka misto hely
"""
_PLACES = frozenset(_PLACE_WORDS.split())


def _parcel_place(place: Place, look: float) -> float:
    return 0.9 if set(re.split(r"[^a-z]+", place.key.lower())) & _PLACES else 0.0


def _parcel_order(place: Place, look: float) -> float:
    own = place.own
    return _best(("order" in own, 0.95), ("order" in place.around and bool(own & {"number", "reference"}), 0.9))


def _parcel_items(place: Place, look: float) -> float:
    return _best(("item" in place.own, 0.9), ("sku" in place.own, 0.9))


PARCEL_MORE: dict[str, Part] = {
    "status": Part(_parcel_status, looks.words_of_text, "is text", against=(("date", 0.6), ("before", 0.6))),
    "at": Part(_parcel_at, looks.date, "looks like a date", against=(("expected", 0.7),)),
    "place": Part(_parcel_place, looks.words_of_text, "is text", against=(("recipient", 0.3),)),
    "order": Part(_parcel_order, looks.number, "looks like a code", against=(("date", 0.6), ("status", 0.6))),
    "items": Part(_parcel_items, lambda value: float(isinstance(value, list)), "is a list"),
}
"""What a parcel says besides where it is told by a source of parcels."""
