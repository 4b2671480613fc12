"""The stand-in store's counter: places orders, moves them along, and posts signed webhooks over HTTP."""

from __future__ import annotations

import datetime as dt
import hashlib
import hmac
import json
import time
import uuid
from urllib.parse import urlsplit

import httpx
from sqlmodel import col, select

from angelon.standins.box import Box, PostedRow, ShopOrderRow
from angelon.standins.catalogue import CARRIERS, CUSTOMERS, LIFE, PRODUCTS, parcel_number
from angelon.standins.shapes import PAYMENTS, Delivery, ShopOrder, webshop

SIGNATURE_HEADER = "Store-Signature"


class CantPost(ValueError):
    """The counter can't deliver: what is missing, and what to do."""


class Counter:
    def __init__(self, box: Box) -> None:
        self._box = box

    # ---- where it delivers

    @property
    def address(self) -> str:
        return str(self._box.setting("shop_address", ""))

    @property
    def secret(self) -> str:
        return str(self._box.setting("shop_secret", ""))

    def connect(self, address: str, secret: str) -> None:
        """Sets where to deliver. Raises CantPost for an address on another machine, since this is a stand-in."""
        parts = urlsplit(address.strip())
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise CantPost(
                "That is no web address. Copy it from the source's page: it starts with http:// and ends in /in/ "
                "and the source's key."
            )
        if parts.hostname not in ("127.0.0.1", "localhost", "::1"):
            raise CantPost(
                "The stand-in store delivers to this machine only. Use the address that starts with http://127.0.0.1."
            )
        self._box.set("shop_address", address.strip())
        self._box.set("shop_secret", secret.strip())

    # ---- orders

    def orders(self, limit: int = 12) -> list[ShopOrderRow]:
        with self._box.session() as session:
            return list(session.exec(select(ShopOrderRow).order_by(col(ShopOrderRow.id).desc()).limit(limit)))

    def order(self, order_id: int) -> ShopOrder | None:
        with self._box.session() as session:
            row = session.get(ShopOrderRow, order_id)
            return shop_order(row) if row is not None else None

    def place(
        self,
        customer_id: int,
        lines: list[tuple[str, int]],
        gift_note: str = "",
        now: dt.datetime | None = None,
        pays: str = "card",
    ) -> PostedRow:
        """Places an order and tells the store's webhook. Raises CantPost where there is nothing in it or nowhere to
        tell.
        """
        customer = next((c for c in CUSTOMERS if c.id == customer_id), None)
        known = {p.sku for p in PRODUCTS}
        kept = tuple((sku, quantity) for sku, quantity in lines if sku in known and 0 < quantity < 1000)
        if customer is None or not kept:
            raise CantPost("Choose a customer, and at least one product.")
        self._ready()
        now = now or dt.datetime.now(dt.UTC)
        with self._box.session() as session:
            serial = int(self._box.setting("shop_serial", 3000)) + 1
            self._box.set("shop_serial", serial)
            pays = pays if pays in PAYMENTS else "card"
            state = "paid" if pays == "card" else "placed"
            spec = {"serial": serial, "customer": customer.id, "lines": kept, "gift_note": gift_note[:300]}
            row = ShopOrderRow(reference=f"BK-{serial}", state=state, spec=spec | {"pays": pays}, placed_at=now)
            session.add(row)
            session.commit()
        return self._post(row, state, now, True)

    def move(self, order_id: int, state: str = "") -> PostedRow:
        """Moves an order to a state, or to the next of its life, and tells the webhook."""
        self._ready()
        with self._box.session() as session:
            row = session.get(ShopOrderRow, order_id)
            if row is None:
                raise CantPost("There is no such order in the test shop.")
            state = state or next_state(row.state) or row.state
            row.state = state
            if state == "shipped" and "parcel" not in row.spec:
                carrier = CARRIERS[row.spec["serial"] % 3]
                expected = (dt.datetime.now(dt.UTC) + dt.timedelta(days=4)).date().isoformat()
                row.spec = {
                    **row.spec,
                    "parcel": [
                        carrier,
                        parcel_number(carrier, row.spec["serial"]),
                        expected,
                    ],
                }
            session.add(row)
            session.commit()
        return self._post(row, state, dt.datetime.now(dt.UTC), False)

    def test_delivery(self) -> PostedRow:
        """Posts an order that nobody placed, as stores do from their settings."""
        return self.place(CUSTOMERS[0].id, [(PRODUCTS[0].sku, 1), (PRODUCTS[3].sku, 2)], "Alles Gute, Mika & Ole!")

    def numbers(self) -> list[str]:
        """The parcels of the orders that were placed here."""
        return [row.spec["parcel"][1] for row in self.orders(30) if row.spec.get("parcel")]

    def watch(self, number: str, words: str, place: str) -> PostedRow:
        """Tells of a parcel as a carrier does, at the source of parcels beside the shop's. Raises CantPost."""
        self._ready()
        number, now = number.strip()[:60], dt.datetime.now(dt.UTC)
        if not number:
            raise CantPost("Write a parcel's number, such as that of an order that was shipped here.")
        told = {"number": number, "state": words[:100], "at": now.isoformat(timespec="seconds"), "place": place[:100]}
        body = json.dumps({"id": str(uuid.uuid4()), "parcels": [told]}, ensure_ascii=False).encode()
        address = f"{self.address.rpartition('/')[0]}/parcel-watch"
        headers = {"Content-Type": "application/json"}
        secret = str(self._box.setting("watch_secret", ""))
        status, answer, took = post(address, Delivery("parcel", headers, body), secret, "Watch-Signature")
        return self._noted("parcel", number, status, answer, took, now)

    def posted(self, limit: int = 8) -> list[PostedRow]:
        with self._box.session() as session:
            return list(session.exec(select(PostedRow).order_by(col(PostedRow.id).desc()).limit(limit)))

    # ---- over the wire

    def _ready(self) -> None:
        if not self.address:
            raise CantPost(
                "The test shop does not know where to deliver. Copy a source's address into “Where it delivers”."
            )

    def _post(self, row: ShopOrderRow, state: str, at: dt.datetime, first: bool) -> PostedRow:
        delivery = webshop(shop_order(row), state, at, first, str(uuid.uuid4()))
        status, answer, took = post(self.address, delivery, self.secret)
        return self._noted(delivery.event, row.reference, status, answer, took, at)

    def _noted(self, event: str, reference: str, status: int, answer: str, took: float, at: dt.datetime) -> PostedRow:
        posted = PostedRow(at=at, event=event, reference=reference, status=status, answer=answer, took_ms=took)
        with self._box.session() as session:
            session.add(posted)
            session.commit()
        return posted


def shop_order(row: ShopOrderRow) -> ShopOrder:
    customer = next(c for c in CUSTOMERS if c.id == row.spec["customer"])
    parcel = row.spec.get("parcel")
    return ShopOrder(
        row.spec["serial"],
        row.reference,
        customer,
        tuple((s, q) for s, q in row.spec["lines"]),
        row.placed_at,
        row.spec.get("gift_note", ""),
        tuple(parcel) if parcel else None,
        row.spec.get("pays", "card"),
    )


def next_state(state: str) -> str:
    """The state after this one in an order's life; empty at its end."""
    if state == "placed":  # what is paid on delivery is packed unpaid
        return "packed"
    return LIFE[LIFE.index(state) + 1] if state in LIFE[:-1] else ""


def sign(body: bytes, secret: str) -> str:
    """How this store signs: HMAC-SHA256 of the body, in hex."""
    return hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()


def post(address: str, delivery: Delivery, secret: str, header: str = SIGNATURE_HEADER) -> tuple[int, str, float]:
    """Delivers over HTTP; status 0 where nobody answers. Took is in milliseconds."""
    headers = {**delivery.headers, **({header: sign(delivery.body, secret)} if secret else {})}
    began = time.perf_counter()
    try:
        answer = httpx.post(address, content=delivery.body, headers=headers, timeout=15)
        return answer.status_code, answer.text[:600], (time.perf_counter() - began) * 1000
    except httpx.HTTPError as error:
        return 0, f"Nobody answers there: {error}", (time.perf_counter() - began) * 1000
