"""Where a customer's parcels are: opened by a link, or by the order's number and what shows that it is theirs."""

from __future__ import annotations

import datetime as dt
from typing import Any
from zoneinfo import ZoneInfo

from babel.dates import format_date, format_skeleton, format_time
from flask import Blueprint, abort, redirect, render_template, request

from angelon.core.messages.channels import CHANNELS, address_key
from angelon.core.messages.fixed_words import words_in
from angelon.core.messages.known_fields import SAMPLE_FOLLOW
from angelon.core.parcels import numbers
from angelon.core.parcels.stages import RANK, Progress, Stage
from angelon.core.questions import said_in
from angelon.core.specs.store import PageTexts, SignUp
from angelon.core.timing.places import zone_of
from angelon.core.values import locale_of, regional, show, unpack
from angelon.db.log import orders, parcels
from angelon.db.log.parcels import OfOrder
from angelon.db.tables import OrderRow
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations import sign_ups
from angelon.engine.orders.parcels import ahead_of, called, left_over
from angelon.web.customers import by_number, frame, proofs
from angelon.web.customers.follow_words import FOLLOW_WORDS, FollowWords, follow_words
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.words import sign_up_words
from angelon.web.services import live, services, session, store_id, work

pages = Blueprint("follow", __name__, template_folder="templates")
STOPS = ((0, "packed"), (1, "on_its_way"), (3, "at_your_door"), (5, "delivered"))
"""The stops of the line: from which stage on each is reached (`stages.RANK`), and the word under it."""


def _opened(token: str) -> OrderRow:
    """The order whose parcels a link opens. The store in view is its shop's."""
    id_ = Links(services().vault).read_follow(token[:LONGEST])
    row = session().get(OrderRow, id_) if id_ is not None else None
    frame.enter(row.store_id if row is not None else None, "the customer")
    assert row is not None
    if not live().setup.store.pages.follow:
        frame.gone()
    return row


def _shop(store_key: str) -> None:
    frame.enter_shop(store_key, "the customer")
    if not live().setup.store.pages.follow:
        frame.gone()


frame.install(pages, _opened, "/f")
frame.install(pages, _shop, "/where")


@pages.get(f"/f/{SAMPLE_FOLLOW.rpartition('/')[2]}")
def sample() -> Any:
    """Where the link of a test leads: to nobody's parcels."""
    locale = request.accept_languages.best_match(list(FOLLOW_WORDS), "en") or "en"
    return render_template("customers/gone.html", gone=follow_words(locale).test, locale=locale)


@pages.get("/f/<token>")
def show_page(token: str) -> Any:
    return page_of(_opened(token))


@pages.post("/f/<token>")
def notify(token: str) -> Any:
    """Keeps the permission for one message about this order, which goes to the order's own number: another one is
    refused.
    """
    order = _opened(token)
    page, own = _sign_up(live().setup.store.pages), _number_of(order)
    if page is None or not own:
        frame.gone()
    locale = frame.choose_locale(order.language or "")
    if proofs.too_often(order.number):
        abort(429, sign_up_words(locale).slow)
    address = _mobile(request.form.get("address", "")[:200])
    if not address or address_key(page.channel, address) != address_key(page.channel, own):
        return page_of(order, follow_words(locale).other_number if address else sign_up_words(locale).wrong, 422)
    words = f"{follow_words(locale).notify} {follow_words(locale).notify_do}"
    with work() as unit:
        sign_ups.give(unit, page, address_key(page.channel, address), words, order)
    return redirect(f"{request.path}?lang={locale}&done=1", 303)


def _sign_up(pages_: PageTexts) -> SignUp | None:
    """The sign-up by which the page offers to tell when a parcel is out for delivery; it is one for SMS."""
    return next((one for one in pages_.sign_ups if (one.key, one.channel) == (pages_.follow_sign_up, "sms")), None)


def _number_of(order: OrderRow) -> str:
    return _mobile(show(unpack((order.read or {}).get("phone"))))


def _mobile(number: str) -> str:
    """A number as texts are sent to it; empty where it is none."""
    try:
        return CHANNELS["sms"].check_address(number, live().setup.store.country or None)
    except ValueError:
        return ""


def page_of(order: OrderRow, wrong: str = "", status: int = 200) -> Any:
    """The page of an order's parcels, as its customer sees it."""
    shop = live().setup.store
    texts = shop.pages if request.blueprint == pages.name else shop.pages.current
    locale = frame.choose_locale(order.language or "")
    said = follow_words(locale)
    found = parcels.of_orders(session().connection(), [order.id or 0]).get(order.id or 0, [])
    lines = (order.read or {}).get("lines") or []
    page = _sign_up(texts)
    shown = [_shown(one, said, locale, texts) for one in found]
    return frame.page(
        "customers/follow.html",
        locale,
        status,
        said=said,
        title=said_in(texts.follow_title, locale, shop.locale) or said.title.format(number=order.number),
        number=order.number,
        parcels=shown,
        nothing=said_in(texts.follow_none, locale, shop.locale) or said.about_none,
        rest=[_name(line, locale) for line in left_over(lines, found)] if found else [],
        languages=frame.languages_of(),
        notify=page if page is not None and _number_of(order) and _still_comes(found) else None,
        done=request.args.get("done") == "1",
        wrong=wrong,
        typed=request.form.get("address", ""),
    )


def _still_comes(found: list[OfOrder]) -> bool:
    return any(Progress.from_stored(one.row.told).rank < RANK[Stage.OUT_FOR_DELIVERY] for one in found) or not found


def _name(line: Any, locale: str) -> str:
    read = {name: show(unpack(value), locale) for name, value in line.items()} if isinstance(line, dict) else {}
    return " × ".join(part for part in (read.get("quantity", ""), read.get("name", "")) if part)


def _shown(one: OfOrder, said: FollowWords, locale: str, texts: PageTexts) -> dict[str, Any]:
    """A parcel as its customer sees it; times are by the clock of where it goes."""
    row, shop = one.row, live().setup.store
    progress = Progress.from_stored(row.told)
    country = row.country or shop.country
    zone = zone_of(country, "", shop.timezone)[0] if country else ZoneInfo(shop.timezone)
    carrier = shop.carrier(row.carrier)
    expected, delivered, now = ahead_of(live(), row, progress).expected, progress.delivered, progress.now
    word = words_in(locale, shop.letterhead.fixed_words)
    stops: list[dict[str, Any]] = []
    for (rank, name), (following, _) in zip(STOPS, (*STOPS[1:], (9, "")), strict=True):
        of_it = [one for one in progress.told if rank <= RANK.get(one.stage, -1) < following and not one.estimated]
        reached = progress.rank >= rank
        collects = name == "at_your_door" and progress.stage is Stage.READY_TO_COLLECT
        stops.append(
            {
                "word": said.collect if collects else word(name),
                "reached": reached,
                "at": _short(of_it[0].at, zone, locale) if of_it and reached else "",
                "place": next((one.place for one in reversed(of_it) if one.place), "") if reached else "",
            }
        )
    told_now = ""
    if delivered is not None and delivered.estimated:
        told_now = said.estimated
    elif now is Stage.FAILED:
        told_now = said.failed
    elif now is Stage.RETURNED:
        told_now = said.returned
    elif now is Stage.READY_TO_COLLECT:
        told_now = said.collect
    elif delivered is None and row.trouble in ("late", "lost"):
        told_now = said.late
    elif delivered is None and expected is not None:
        day = format_date(expected, "full", locale=locale_of(regional(locale, shop.country)))
        told_now = said.expected.format(day=day)
    elif progress.rank < 1:
        told_now = said_in(texts.follow_quiet, locale, shop.locale) or said.quiet
    link = numbers.page_of(carrier, row.number, country, "", locale) if carrier is not None else ""
    notices = [said_in(n.text, locale, shop.locale) for n in texts.follow_notices if n.meets(row.carrier, country)]
    return {
        "carrier": called(live(), row.carrier, locale),
        "number": row.number,
        "link": link,
        "stops": stops,
        "at": sum(bool(stop["reached"]) for stop in stops) - 1,
        "estimated": delivered is not None and delivered.estimated,
        "told": told_now,
        "inside": [item.said for item in one.items if item.item],
        "notices": [text for text in notices if text],
    }


def _short(at: dt.datetime, zone: ZoneInfo, locale: str) -> str:
    """`Mon, 23 Nov, 11:13`, as the reader's language has it (CLDR, skeleton MMMEd)."""
    tag = locale_of(regional(locale, live().setup.store.country))
    here = at.astimezone(zone)
    return f"{format_skeleton('MMMEd', here, locale=tag)}, {format_time(here, 'short', locale=tag)}"


# ---- by number


def _words(locale: str) -> tuple[str, str]:
    return follow_words(locale).ask, follow_words(locale).show


@pages.get("/where/<store_key>")
def ask(store_key: str) -> Any:
    _shop(store_key)
    return by_number.ask(f"/where/{store_key}", _words)


@pages.post("/where/<store_key>")
def find(store_key: str) -> Any:
    _shop(store_key)
    links = Links(services().vault)
    return by_number.find(f"/where/{store_key}", _words, lambda order: f"/f/{links.follow_token(order.id or 0)}")


def newest() -> OrderRow | None:
    """The order of the newest parcel that is on its way, else of any, to show the page with."""
    rows = parcels.listed(session(), store_id(), parcels.Wanted(), 30)
    rows.sort(key=lambda row: row.stage == Stage.DELIVERED)
    for row in rows:
        for order_id in parcels.orders_of(session().connection(), [row.id]).get(row.id, []):
            return orders.get(session(), store_id(), order_id)
    return None
