"""Invoices as a customer and as the shop: from the customers' page to the mail; set up, tried, taken back."""

import io
import re

import pypdf
import pytest
from playwright.sync_api import expect

from tests.browser.test_every_page import ALL_RULES, AXE_RUN, BY_THEME

ORDERS = iter(range(1, 12))


@pytest.fixture
def placed(place_order):
    return lambda: place_order(next(ORDERS))


def pdf_text(page, link):
    with page.expect_download() as download:
        link.click()
    return pypdf.PdfReader(io.BytesIO(download.value.path().read_bytes())).pages[0].extract_text()


def test_a_customer_gets_an_invoice_and_another_for_a_business(page, running, placed):
    number, _, email = placed()
    page.goto("/invoice/brackwater-kites")
    page.locator("[name=number]").fill(number)
    page.locator("[name=proof]").fill(email)
    page.get_by_role("button").last.click()
    expect(page).to_have_url(re.compile(r"/i/[0-9a-f]+-[0-9a-f]{12}"))
    page.goto(f"{page.url}?lang=en")
    page.get_by_label("Country").select_option("IE")
    page.get_by_label("Send it to").fill("books@harbour.example")
    page.get_by_role("button", name="Make my invoice").click()
    expect(page.locator("h2")).to_have_text(re.compile(r"Your invoice \d{4}-\d{4} is ready"))
    text = pdf_text(page, page.get_by_role("link", name="Download"))
    assert number in text
    assert "23" in text
    mail = running.wait_for(
        lambda: running.rows("SELECT state, subject FROM send WHERE recipient = 'books@harbour.example'")
    )
    assert len(mail) == 1
    first = page.locator("h2").text_content()
    page.get_by_label("Business, if").fill("Cerf Volant SARL")
    page.get_by_label("Country").select_option("FR")
    page.get_by_label("Tax number").fill("FR40 303 265 046")
    page.get_by_role("button", name="Make my invoice").click()
    expect(page.get_by_role("alert")).to_contain_text("This tax number can’t be right")
    expect(page.get_by_label("Business, if")).to_have_value("Cerf Volant SARL")
    page.get_by_label("Tax number").fill("FR40 303 265 045")
    page.get_by_role("button", name="Make my invoice").click()
    expect(page.locator("h2")).not_to_have_text(first)
    assert "reverse charge" in pdf_text(page, page.get_by_role("link", name="Download")).lower()


def test_the_page_can_be_read_by_everybody(looked_at, running):
    (row,) = running.rows('SELECT id FROM "order" ORDER BY id LIMIT 1')
    looked_at.goto(f"/orders/{row[0]}")
    where = looked_at.get_by_role("link", name="Its customer’s page").get_attribute("href")
    for width in (1280, 380):
        looked_at.set_viewport_size({"width": width, "height": 800})
        for theme in ("light", "dark"):
            looked_at.emulate_media(color_scheme=theme)
            looked_at.goto(where)
            rules = ALL_RULES if theme == "light" else BY_THEME
            found = looked_at.evaluate(AXE_RUN, [rules, True])["violations"]
            assert [(one["id"], one["nodes"][0]["html"]) for one in found] == []
            assert looked_at.evaluate("document.documentElement.scrollWidth") <= width
    looked_at.set_viewport_size({"width": 1280, "height": 800})
    looked_at.emulate_media(color_scheme="light")


def test_the_shop_tries_an_order_makes_its_invoice_and_takes_a_part_back(page, placed):
    number, _, _ = placed()
    page.goto("/documents")
    page.get_by_role("link", name="Try an order").first.click()
    page.get_by_label("Order", exact=True).fill(number)
    page.get_by_role("button", name="Show").click()
    page.get_by_label("Country").select_option("NO")
    page.get_by_role("button", name="Show").click()
    expect(page.locator(".cols")).to_contain_text("no rule for buyers outside the union")
    page.get_by_label("Country").select_option("IE")
    page.get_by_role("button", name="Show").click()
    expect(page.locator(".reasons").first).to_contain_text("Standard rate of Ireland since 2021")
    expect(page.frame_locator("iframe").locator("h1")).to_be_visible()
    page.get_by_role("button", name="Make the invoice").click()
    expect(page.get_by_role("status").first).to_contain_text("was made")
    page.get_by_label("an amount of it").check()
    page.get_by_label("Amount, EUR").fill("999999")
    page.get_by_role("button", name="Make the credit note").click()
    expect(page.get_by_role("alert")).to_contain_text("of the invoice is left")
    expect(page.get_by_label("Amount, EUR")).to_have_value("999999")
    page.get_by_label("Amount, EUR").fill("5")
    page.get_by_role("button", name="Make the credit note").click()
    expect(page.locator("h1")).to_contain_text("Credit note C")
    page.goto(f"/documents?text={number}")
    expect(page.locator("[data-row]")).to_have_count(2)


def test_settings_are_typed_wrong_said_and_saved(page):
    page.goto("/documents/settings")
    number = page.locator("[name='reg.number']").first
    number.fill("IE123")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert").first).to_contain_text("does not have the form of a tax number of IE")
    expect(number).to_have_value("IE123")
    number.fill("IE 6433435 F")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status").first).to_contain_text("Saved")
    expect(page.locator("[name='reg.number']").first).to_have_value("IE6433435F")
