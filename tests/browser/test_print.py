"""On paper: what a page knows, in dark ink on white whatever the theme, without what is pressed."""

import pytest
from playwright.sync_api import expect


@pytest.mark.parametrize("address", ["/orders", "/sends", "/checks", "/guide"])
def test_a_page_is_printed_without_what_is_pressed(page, address):
    page.emulate_media(color_scheme="dark", media="screen")
    page.goto(address)
    if address in ("/orders", "/sends"):
        page.locator("tr[data-row] a").first.click()
        page.wait_for_load_state()
    page.set_viewport_size({"width": 794, "height": 1123})
    page.emulate_media(media="print", color_scheme="dark")
    expect(page.locator("h1")).to_be_visible()
    for gone in (".rail", ".strip", "main form", "main button"):
        assert page.locator(gone).evaluate_all("all => all.every((one) => one.getClientRects().length === 0)"), gone
    assert page.locator("h1").evaluate("one => getComputedStyle(one).color") == "rgb(0, 0, 0)"
    assert page.evaluate("document.documentElement.scrollWidth - innerWidth") <= 0
