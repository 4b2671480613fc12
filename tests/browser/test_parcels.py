"""Parcels as the shop and as its customers: a number typed, a file, an event; the page by link and by number."""

import json
import re

import httpx
import pytest
from playwright.sync_api import expect

from tests.browser.test_every_page import ALL_RULES, AXE_RUN, BY_THEME

ORDERS = iter(range(3, 12))


@pytest.fixture
def placed(place_order):
    """Places an order; gives its number and the address of its page."""

    def place():
        number, id_, _ = place_order(next(ORDERS))
        return number, f"/orders/{id_}"

    return place


def typed(page, order, number, **choose):
    page.goto(order)
    page.get_by_label("Number of a").fill(number)
    for label, option in choose.items():
        page.locator(f"[name={label}]").select_option(option)
    page.get_by_role("button", name="Add the parcel").click()


def test_a_number_is_typed_recognised_moved_and_told_to_the_payment(page, running, placed):
    number, order = placed()
    page.goto(order)
    page.get_by_label("Number of a").press_sequentially("SW00 0412 34")
    expect(page.locator("#parcels")).to_contain_text("Looks like Saltway Couriers (its form fits")
    typed(page, order, "RR473124828GB")
    expect(page.locator("#parcels")).to_contain_text("its check digit does not")
    expect(page.get_by_label("Number of a")).to_have_value("RR473124828GB")
    typed(page, order, "RR473124829GB", carrier="gannet-post")
    expect(page.get_by_role("status").first).to_contain_text("RR473124829GB is added, brought by Gannet Post")
    calls = running.wait_for(
        lambda: [one for one in httpx.get(f"{running.url}/standins/calls.json").json() if number in one["path"]]
    )
    assert calls[0]["path"] == f"/payments/{number}/parcel"
    assert calls[0]["body"]["carrier"] == "Gannet Post"
    assert re.fullmatch(r"http://\S+/f/[0-9a-f]+-[0-9a-f]{12}", calls[0]["body"]["link"])
    page.locator("#parcels summary", has_text="History").click()
    page.get_by_label("Stage of RR473124829GB").select_option("out_for_delivery")
    page.get_by_role("button", name="Set", exact=True).click()
    expect(page.locator("#parcels svg[aria-label='out for delivery']")).to_be_visible()


def test_a_file_is_tried_and_taken(page, running, placed):
    number, order = placed()
    page.goto("/parcels")
    text = f"order,number,status\n{number},SW00077001,in transit\nBK-nobody,SW00077002,\n"
    file = {"name": "numbers.csv", "mimeType": "text/csv", "buffer": text.encode()}
    page.get_by_label("File").set_input_files(file)
    page.get_by_role("button", name="Try the file").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("1 line can be taken")
    expect(page.get_by_text("order BK-nobody is not known")).to_be_visible()
    assert running.rows("SELECT count(*) FROM parcel WHERE number = 'SW00077001'") == [(0,)]
    page.get_by_role("button", name="Take 1 line").click()
    expect(page.get_by_text("1 of 2 lines were taken.")).to_be_visible()
    page.goto(order)
    expect(page.locator("#parcels")).to_contain_text("SW00077001")


def test_numbers_are_typed_for_many_orders(page, running, placed):
    number, _ = placed()
    page.goto("/parcels/numbers")
    page.get_by_label(f"Number of the parcel of {number}").fill("SW00088001")
    page.get_by_label(f"Carrier of {number}").select_option("saltway")
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 added.")).to_be_visible()
    expect(page.get_by_label(f"Number of the parcel of {number}")).to_have_count(0)


def test_words_that_nobody_knows_are_told_to_the_carrier_and_understood_from_then_on(page, running):
    page.goto("/parcels")
    page.locator("#attention").get_by_role("link", name="Say what it means").first.click()
    field = page.get_by_label("What its texts for a parcel’s status mean, one a line")
    expect(field).to_have_value(re.compile(r"Sheltering from the gale = $"))
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("does not say what it means")
    field.press("Control+End")
    field.press_sequentially("in transit")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved. It counts for what is told from now on.")).to_be_visible()


def test_a_customer_follows_a_parcel_from_the_mail_asks_to_be_told_and_is(page, running, placed):
    number, order = placed()
    typed(page, order, "SW00099001", carrier="saltway")
    page.get_by_role("link", name="What the customer sees").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(number)
    assert page.locator("script").count() == 0
    link = page.url
    page.goto(f"{link}?lang=en")
    page.get_by_label("Your mobile number").fill("12")
    page.get_by_role("button", name="Tell me by SMS").click()
    expect(page.get_by_role("alert")).to_be_visible()
    page.get_by_label("Your mobile number").fill("+353 20 915 7788")
    page.get_by_role("button", name="Tell me by SMS").click()
    expect(page.get_by_role("alert")).to_contain_text("placed with another number")
    query = 'SELECT c.phone FROM contact c JOIN "order" o ON o.contact_id = c.id WHERE o.number = ?'
    page.get_by_label("Your mobile number").fill(running.rows(query, number)[0][0])
    page.get_by_role("button", name="Tell me by SMS").click()
    expect(page.get_by_role("status")).to_contain_text("You will get an SMS.")


def test_the_page_of_parcels_can_be_read_by_everybody(looked_at):
    page = looked_at
    page.goto("/parcels?trouble=late")
    page.locator("tr[data-row] a").first.click()
    page.get_by_role("link", name="What the customer sees").click()
    for width in (1280, 380):
        for scheme in ("light", "dark"):
            page.set_viewport_size({"width": width, "height": 800})
            page.emulate_media(color_scheme=scheme, reduced_motion="reduce")
            found = page.evaluate(AXE_RUN, [ALL_RULES if scheme == "light" else BY_THEME, True])
            assert [v["nodes"][0]["html"][:160] for v in found["violations"]] == []
            assert page.evaluate("document.documentElement.scrollWidth - innerWidth") <= 0


def test_a_customer_finds_their_order_by_number_and_guesses_are_slowed_down(page, running, placed):
    number, _ = placed()
    (address,) = running.rows(
        'SELECT c.email FROM contact c JOIN "order" o ON o.contact_id = c.id WHERE o.number = ?', number
    )[0]
    page.goto("/where/brackwater-kites?lang=en")
    page.get_by_label(re.compile("number", re.I)).first.fill(number)
    page.locator("[name=proof]").fill("somebody@example.org")
    page.get_by_role("button", name="Show my order").click()
    expect(page.get_by_role("alert")).to_contain_text("There is no order with this number and this address.")
    page.locator("[name=proof]").fill(address)
    page.get_by_role("button", name="Show my order").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(number)
    answers = [
        httpx.post(f"{running.url}/where/brackwater-kites", data={"number": "BK-1", "proof": f"a{n}@b.org"})
        for n in range(8)
    ]
    assert answers[-1].status_code == 429
    assert all("BK-1" not in json.dumps(dict(one.headers)) for one in answers)


def test_an_order_s_status_is_set_for_those_ticked(page, running, placed):
    number, _ = placed()
    page.goto(f"/orders?words={number}")
    page.get_by_label(f"Choose {number}").check()
    page.locator("summary", has_text="Set the status of those ticked").click()
    page.get_by_label("The status").select_option("packed")
    page.get_by_role("button", name="Set it").click()
    expect(page.get_by_text("1 of 1 changed to packed. No message is sent.")).to_be_visible()


def test_the_store_s_own_deliveries_bring_the_parcel_and_the_mail_leads_to_its_page(page, running, placed):
    number, order = placed()
    for state in ("packed", "label printed", "shipped"):
        page.goto("/standins")
        page.locator("tr", has_text=number).get_by_role("button", name=f"Move on to {state}").click()
    mail = running.wait_for(lambda: next((m for m in running.mails() if link_in(running, m, number)), None), 30)
    page.goto(order)
    expect(page.locator("#parcels svg[aria-label='picked up']")).to_be_visible()
    page.goto(link_in(running, mail, number))
    expect(page.get_by_role("heading", level=1)).to_contain_text(number)


def link_in(running, mail, number):
    """The link to the page of parcels in a mail about an order."""
    said = running.said("subject LIKE :about", about=f"%{number}%") if number in mail["subject"] else {}
    for one in said.values():
        if found := re.search(r"http://\S+(/f/[0-9a-f]+-[0-9a-f]{12})", one.text):
            return found[1]
    return ""


def test_a_carrier_tells_by_its_own_source_and_the_shop_and_the_customer_see_it(page, running, placed):
    number, order = placed()
    typed(page, order, "RR123456785IE", carrier="gannet-post")
    page.get_by_role("link", name="What the customer sees").click()
    link = page.url
    page.goto("/standins")
    page.get_by_label("Number of the parcel").fill("RR 123 456 785 IE")
    page.get_by_label("What the carrier says").select_option("Out for delivery")
    page.get_by_label("Where", exact=True).fill("Dingle")
    page.get_by_role("button", name="Tell Parcel watch").click()
    expect(page.get_by_text(re.compile("RR 123 456 785 IE: parcel delivered in"))).to_be_visible()
    sql = (
        "SELECT 1 FROM event JOIN \"order\" o ON o.id = order_id WHERE type = 'parcel.out_for_delivery' AND number = ?"
    )
    running.wait_for(lambda: running.rows(sql, number))
    page.goto(order)
    expect(page.locator("#parcels svg[aria-label='out for delivery']")).to_be_visible()
    page.goto(f"{link}?lang=en")
    expect(page.locator("li[aria-current=step]")).to_contain_text("Dingle")
