"""The stand-ins speak as the real ones would: postal check digits, signatures, shapes that their sources read."""

import datetime as dt
import smtplib
from pathlib import Path

import pytest

import angelon.demo
from angelon.core.deliveries import read_delivery
from angelon.core.planning.inputs import Setup
from angelon.core.planning.plan import work_out
from angelon.core.signatures import verify
from angelon.core.specs.bundle import read_bundle
from angelon.core.values import show
from angelon.standins.catalogue import CUSTOMERS, LIFE, PRODUCTS, s10_number
from angelon.standins.counter import next_state, sign
from angelon.standins.shapes import ShopOrder, fairground, webshop, workbench
from tests.made import NOON

BUNDLE = read_bundle(Path(angelon.demo.__file__).with_name("bundle.yaml").read_text())
SOURCES = {s.key: s for s in BUNDLE.sources}
SETUP = Setup(BUNDLE.store, SOURCES, {v.name: v for v in BUNDLE.variables}, {}, {})
ORDER = ShopOrder(
    3001,
    "BK-3001",
    CUSTOMERS[2],
    (("SAN-POC", 2), ("REE-ASH", 1)),
    NOON,
    "Bon vent !",
    ("Gannet Post", "RR123456785IE", "2026-11-09"),
)


@pytest.mark.parametrize(("serial", "number"), [(47312482, "RR473124829IE"), (12345678, "RR123456785IE")])
def test_postal_numbers_have_their_check_digit(serial, number):
    """The first is the example of the S10 standard's own description, with our service and country."""
    assert s10_number(serial) == number


def test_every_customer_is_made_up():
    for customer in CUSTOMERS:
        assert customer.email.partition("@")[2] in ("example.com", "example.org", "example.net")
    assert len({c.id for c in CUSTOMERS}) == len(CUSTOMERS)
    assert {c.country for c in CUSTOMERS} == {"DE", "IE", "FR", "ES", "GR", "JP"}
    assert len({p.sku for p in PRODUCTS}) == len(PRODUCTS)


def test_a_life_goes_on_to_its_end():
    assert next_state("paid") == "packed"
    assert next_state(LIFE[-1]) == ""
    assert next_state("cancelled") == ""


def test_the_counter_signs_as_its_source_checks():
    delivery = webshop(ORDER, "paid", NOON, True, "d1")
    headers = {"store-signature": sign(delivery.body, "shared-secret")}
    assert verify(SOURCES["webshop"].signing, ["shared-secret"], headers, delivery.body, NOON) is None


def reading(source, delivery):
    (event,) = read_delivery(SOURCES[source], {k.lower(): v for k, v in delivery.headers.items()}, delivery.body)
    read, variables = work_out(SOURCES[source], SETUP, event.payload)
    return event, read, variables


def test_the_web_shop_s_shape_is_read_whole():
    event, read, variables = reading("webshop", webshop(ORDER, "shipped", NOON, False, "d1"))
    assert event.type == "order.updated"
    assert [read.text(p) for p in ("reference", "number", "status", "email", "name", "language")] == [
        "90071993001",
        "BK-3001",
        "shipped",
        "claire@example.org",
        "Claire Béranger",
        "fr",
    ]
    assert show(read.value("total"), "fr") == "86,50\u00a0€"  # 2 × 24.50 + 31.00 + 6.50 postage
    assert variables["items"].value == ["2 × Sandpiper pocket sled", "1 × Ash reel"]
    assert variables["gift_note"].value == "Bon vent !"
    assert show(variables["arrives_on"].value, "fr") == "lundi 9 novembre"
    assert read.value("parcels")[0]["number"] == "RR123456785IE"


def test_the_marketplace_s_shape_is_read_whole():
    event, read, variables = reading("fairground", fairground(ORDER, "SENT", "SALE_CHANGED"))
    assert (event.type, read.text("status"), read.text("phone")) == ("order.updated", "SENT", "+33199001234")
    assert show(read.value("total"), "de") == "86,50\u00a0€"
    assert [line["name"] for line in read.value("lines")] == ["Sandpiper pocket sled", "Ash reel"]
    assert show(variables["expected_on"].value, "en-IE") == "Thursday 12 November"
    assert reading("fairground", fairground(ORDER, "SENT", "SALE_CHANGED", with_phone=False))[1].parts["phone"].problem


def test_the_workbench_s_shape_is_read_whole():
    event, read, variables = reading("workbench", workbench(ORDER, "sewing", "ready_for_collection", NOON, "wb-1"))
    assert (event.type, event.delivery_id, read.text("status")) == (
        "order.status_changed",
        "wb-1",
        "ready_for_collection",
    )
    assert read.text("email") == "claire@example.org"
    assert variables["items"].value == ["Sandpiper pocket sled", "Ash reel"]


@pytest.mark.parametrize(("fault", "code"), [("later", 451), ("never", 550)])
def test_the_mailbox_refuses_as_it_is_told(bench, mailbox, fault, code):
    bench.box.set("mail_fault", fault)
    with smtplib.SMTP("127.0.0.1", mailbox.port) as server, pytest.raises(smtplib.SMTPRecipientsRefused) as caught:
        server.sendmail("a@example.org", ["b@example.org"], "Subject: x\r\n\r\nx")
    assert caught.value.recipients["b@example.org"][0] == code
    assert bench.box.count_mails() == 0


def test_the_mailbox_drops_the_connection_and_keeps_nothing(bench, mailbox):
    bench.box.set("mail_fault", "drop")
    with pytest.raises(smtplib.SMTPServerDisconnected), smtplib.SMTP("127.0.0.1", mailbox.port) as server:
        server.sendmail("a@example.org", ["b@example.org"], "Subject: x\r\n\r\nx")
    assert bench.box.count_mails() == 0


def test_mails_are_kept_newest_first_and_cleared(bench):
    for number in range(3):
        bench.box.keep_mail(
            "a@example.org", f"p{number}@example.org", b"Subject: x\r\n\r\nx", NOON + dt.timedelta(seconds=number)
        )
    assert [m.rcpt_to for m in bench.box.mails()] == ["p2@example.org", "p1@example.org", "p0@example.org"]
    assert [m.rcpt_to for m in bench.box.mails(words="p1")] == ["p1@example.org"]
    bench.box.clear()
    assert bench.box.count_mails() == 0
