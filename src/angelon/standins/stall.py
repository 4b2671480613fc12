"""A market stall's order book: a store that calls nobody, and is asked over its API. It has pages by cursor, by Link
header or by number, limits, faults on demand, and a clock that may be wrong.
"""

from __future__ import annotations

import base64
import datetime as dt
import email.utils
import smtplib
from email.message import EmailMessage
from typing import Any

from flask import Blueprint, jsonify, request, url_for
from sqlalchemy import Column, func, or_
from sqlmodel import Field, col, select

from angelon.db.tables import Instant, Json
from angelon.standins import account
from angelon.standins.account import Refused, box
from angelon.standins.box import Base, Box
from angelon.standins.catalogue import CUSTOMERS, PRODUCTS

api = Blueprint("stall", __name__, url_prefix="/stall")
STATES = ("new", "wrapped", "handed over")
MOST = 50


class StallOrderRow(Base, table=True):
    """An order in the stall's book."""

    __tablename__ = "stall_order"
    id: int | None = Field(default=None, primary_key=True)
    state: str
    spec: dict[str, Any] = Field(sa_column=Column(Json))
    placed_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    changed_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False, index=True))


def clock(kept: Box) -> dt.datetime:
    """The stall's clock, which may be minutes wrong."""
    return account.now() + dt.timedelta(minutes=int(kept.setting("stall_skew", 0)))


def sell(kept: Box, number: int = 1, at: dt.datetime | None = None) -> list[int]:
    """Writes so many orders into the book; gives their numbers."""
    made = []
    with kept.session() as session:
        sold = session.exec(select(func.count()).select_from(StallOrderRow)).one()
        for turn in range(sold, sold + number):
            buyer, product = CUSTOMERS[turn % len(CUSTOMERS)], PRODUCTS[turn % len(PRODUCTS)]
            spec = {"buyer": buyer.id, "sku": product.sku, "quantity": turn % 3 + 1}
            moment = at or clock(kept)
            row = StallOrderRow(state=STATES[0], spec=spec, placed_at=moment, changed_at=moment)
            session.add(row)
            session.flush()
            made.append(row.id or 0)
        session.commit()
    return made


def move(kept: Box, order_id: int) -> str:
    """Moves an order to its next state; empty where there is none."""
    with kept.session() as session:
        row = session.get(StallOrderRow, order_id)
        if row is None or row.state == STATES[-1]:
            return ""
        row.state, row.changed_at = STATES[STATES.index(row.state) + 1], clock(kept)
        session.add(row)
        session.commit()
        return row.state


def newest(kept: Box, limit: int = 30) -> list[dict[str, Any]]:
    with kept.session() as session:
        found = session.exec(select(StallOrderRow).order_by(col(StallOrderRow.id).desc()).limit(limit))
        return [order_json(row) | {"id": row.id, "at": row.changed_at} for row in found]


def order_json(row: StallOrderRow) -> dict[str, Any]:
    """An order as the API gives it."""
    buyer = next(one for one in CUSTOMERS if one.id == row.spec["buyer"])
    product = next(one for one in PRODUCTS if one.sku == row.spec["sku"])
    return {
        "no": f"ST-{row.id:05}",
        "state": row.state,
        "written": row.placed_at.isoformat(timespec="seconds"),
        "changed": row.changed_at.isoformat(timespec="milliseconds"),
        "who": {"name": buyer.name, "mail": buyer.email, "tel": buyer.phone, "country": buyer.country},
        "goods": [{"what": product.title, "code": product.sku, "count": row.spec["quantity"], "each": product.price}],
        "sum": f"{float(product.price) * row.spec['quantity']:.2f}",
        "money": "EUR",
    }


def tell_by_mail(at: tuple[str, int], number: str) -> str:
    """Has the payment office write that an order is refunded, to where mail comes in; says how it was answered. Raises
    OSError.
    """
    mail = EmailMessage()
    mail["From"], mail["To"] = "Payment office <notices@pay.example>", "payments@in.brackwater.example"
    mail["Subject"] = f"Refund of order {number}"
    mail["Message-ID"] = email.utils.make_msgid(domain="pay.example")
    mail["Date"] = email.utils.format_datetime(account.now())
    mail.set_content(f"Hello,\n\nwe have refunded EUR 12.00 for order {number}.\n\nYour payment office\n")
    with smtplib.SMTP(*at, timeout=10) as server:
        server.send_message(mail)
    return "It was taken."


@api.get("/orders")
def orders() -> Any:
    """The orders that changed since `changed_after`, the longest ago first. `limit` (50 at most), and either `after`, a
    cursor as `next` has it, or `page`, a number from 1.
    """
    kept = box()
    account.entered(kept, "stall")
    page = request.args.get("page", "")
    limit = min(max(int(request.args.get("limit") or MOST), 1), MOST)
    statement = select(StallOrderRow).order_by(col(StallOrderRow.changed_at), col(StallOrderRow.id))
    since = request.args.get("changed_after", "")
    if since:
        statement = statement.where(col(StallOrderRow.changed_at) >= _moment(since))
    after = request.args.get("after", "")
    if after:
        at, id_ = _opened(after)
        later = col(StallOrderRow.changed_at) > at
        statement = statement.where(or_(later, (col(StallOrderRow.changed_at) == at) & (col(StallOrderRow.id) > id_)))
    if page:
        statement = statement.offset((int(page) - 1) * limit)
    with kept.session() as session:
        rows = list(session.exec(statement.limit(limit + 1)))
    found, more = rows[:limit], len(rows) > limit
    cursor = _cursor(found[-1]) if more else None
    answer = jsonify({"orders": [order_json(row) for row in found], "next": cursor})
    answer.headers["Date"] = email.utils.format_datetime(clock(kept), usegmt=True)
    if more:
        query = {**request.args, "after": cursor}
        answer.headers["Link"] = f'<{url_for(".orders", _external=True, **query)}>; rel="next"'
    account.left(kept, "stall")
    return answer


@api.get("/prices.csv")
def prices() -> Any:
    """What the stall asks for its goods, as a file that anybody may have."""
    lines = ["Code,Goods,Each", *(f'{one.sku},"{one.title}",{one.price}' for one in PRODUCTS)]
    account.left(box(), "stall")
    return "\n".join(lines) + "\n", {"content-type": "text/csv; charset=utf-8"}


def _moment(text: str) -> dt.datetime:
    try:
        at = dt.datetime.fromisoformat(text.replace(" ", "+"))
    except ValueError:
        raise Refused(400, "changed_after is no time.") from None
    return at if at.tzinfo else at.replace(tzinfo=dt.UTC)


def _cursor(row: StallOrderRow) -> str:
    return base64.urlsafe_b64encode(f"{row.changed_at.isoformat()}|{row.id}".encode()).decode()


def _opened(cursor: str) -> tuple[dt.datetime, int]:
    try:
        at, _, id_ = base64.urlsafe_b64decode(cursor).decode().partition("|")
        return dt.datetime.fromisoformat(at), int(id_)
    except ValueError:
        raise Refused(400, "after is no cursor of ours.") from None
