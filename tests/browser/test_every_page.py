"""Every main page, looked at by a machine: nothing for axe to find, nothing wider than the window, keys that work."""

import pytest
from playwright.sync_api import expect

PAGES = [
    "/",
    "/orders",
    "/orders/3",
    "/people/5",
    "/forecast",
    "/sends",
    "/sources",
    "/sources/webshop/connect",
    "/sources/webshop/capture",
    "/sources/webshop/read?open=recipes.items",
    "/sources/webshop/compare",
    "/messages",
    "/messages/order-received",
    "/routes",
    "/routes/on-its-way",
    "/handlers",
    "/handlers/large_order",
    "/messages/ready-to-collect/approved",
    "/gateways",
    "/gateways/mailroom",
    "/standins",
    "/messages/order-received/revisions",
    "/letterhead",
    "/customer-pages",
    "/parcels",
    "/parcels/numbers",
    "/carriers",
    "/carriers/gannet-post",
    "/where/brackwater-kites",
    "/documents",
    "/documents/try?order=BK-2050",
    "/documents/settings",
    "/invoice/brackwater-kites",
    "/messages/shall-we-send/question",
    "/messages/shall-we-send/all",
    "/settings/trial",
    "/settings/alerts",
    "/s/brackwater-kites/by-sms",
    "/senders",
    "/settings",
    "/settings/team",
    "/settings/rules",
    "/settings/tokens",
    "/api",
    "/guide/connect",
    "/files",
    "/standins/chat",
    "/rehearsals",
    "/rehearsals/order-received?span=7d",
    "/checks",
    "/segments",
    "/segments/regulars",
    "/suppressions",
    "/runs/new",
    "/sources/webshop/ask",
    "/sources/market-stall/fetch",
    "/sources/market-stall/files",
    "/sources/payment-office/mail",
    "/tables",
    "/standins/stall",
    "/events",
    "/changes",
]
"""Each template once."""
ALIKE = [
    "/sources/fairground/read",
    "/messages/order-received?channel=sms&locale=fr",
    "/messages/order-received?channel=chat&locale=de",
    "/gateways/text-line",
    "/gateways/harbour-chat",
    "/standins/handset",
    "/routes/order-received-chat",
    "/routes/how-it-went",
]
"""More pages of the same templates, which `make proof` looks at as well."""


AXE_RUN = """([rules, shell]) => axe.run(
  {include: [document], exclude: [["tr[data-row]:nth-of-type(n+6)"], ...(shell ? [] : [["#rail"]])]},
  {iframes: false, runOnly: rules, resultTypes: ["violations"]})"""
"""Of a list, the first five rows: the others are like them, and a hundred take axe ten seconds. The rail, which is the
same everywhere, where it is asked for.
"""
STANDS_OUT = """() => [...document.querySelectorAll("main .sheet table")].filter((table) => {
  const sheet = table.closest(".sheet"), scrolls = getComputedStyle(sheet).overflowX !== "visible";
  return !scrolls && table.getBoundingClientRect().right > sheet.getBoundingClientRect().right + 1;
}).map((table) => `a table stands out of its sheet: ${table.textContent.trim().slice(0, 60)}`)"""
WEIGHT = """() => [performance.getEntriesByType("navigation")[0].encodedBodySize,
  performance.getEntriesByType("resource")
    .filter((one) => one.initiatorType !== "iframe" && !one.name.includes("/guide/pictures/"))
    .reduce((sum, one) => sum + one.encodedBodySize, 0)]"""
"""Bytes over the wire, compressed: of the page, and of all that it loads but previews and the guide's pictures, which
are loaded as they come into view. The text editor alone is 115,000.
"""
ALL_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"]
BY_THEME = ["color-contrast", "link-in-text-block"]
"""What can differ between two themes of one page."""


@pytest.mark.parametrize("address", PAGES)
def test_a_page_can_be_read_by_everybody_and_fits_every_window(looked_at, address):
    """axe finds nothing, and nothing stands out at the side at any width; `make proof` does both in either theme."""
    page = looked_at
    page.faults.clear()
    page.emulate_media(color_scheme="light", reduced_motion="reduce")
    page.goto(address)
    outcome = page.evaluate(AXE_RUN, [ALL_RULES, address in ("/", "/settings/team")])
    found = [
        f"{v['id']}: {v['nodes'][0]['html'][:160]} | {v['nodes'][0]['failureSummary'][:200]}"
        for v in outcome["violations"]
    ]
    for width in (768, 380, 1280):
        page.set_viewport_size({"width": width, "height": 800})
        over = page.evaluate("document.documentElement.scrollWidth - innerWidth")
        if over > 0:
            found.append(f"wider than {width} by {over}px")
        found += [f"at {width}: {one}" for one in page.evaluate(STANDS_OUT)]
    html, rest = page.evaluate(WEIGHT)
    if html > 60_000 or html + rest > (280_000 if page.locator(".cm-editor").count() else 250_000):
        found.append(f"weighs {html:,} bytes as HTML, {rest:,} with what it loads")
    found += page.faults
    assert found == [], "\n".join(found)


@pytest.mark.parametrize(
    "address", ["/", "/sends", "/routes/on-its-way", "/messages/order-received", "/sources/webshop/read"]
)
def test_the_dark_theme_can_be_read(looked_at, address):
    looked_at.emulate_media(color_scheme="dark", reduced_motion="reduce")
    looked_at.goto(address)
    outcome = looked_at.evaluate(AXE_RUN, [BY_THEME, True])
    assert [v["nodes"][0]["html"][:160] for v in outcome["violations"]] == []


def test_the_keys_of_every_page(page):
    page.goto("/sends")
    page.keyboard.press("/")
    expect(page.locator("[data-find]")).to_be_focused()
    page.keyboard.press("Escape")
    page.keyboard.press("j")
    page.keyboard.press("j")
    expect(page.locator("tr[data-row]").nth(1).locator("a").first).to_be_focused()
    page.keyboard.press("k")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="History")).to_be_visible()
    page.wait_for_load_state()  # keys are heard once the page has started
    page.keyboard.press("Escape")
    expect(page.get_by_role("heading", name="Sends", exact=True)).to_be_visible()
    page.wait_for_load_state()  # keys are heard once the page has started
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")


def test_the_event_in_hand_stays_from_page_to_page(page):
    page.goto("/sources/webshop/read")
    page.keyboard.press("[")
    page.wait_for_url("**sample=**")
    number = page.locator(".hold .value").text_content().split(" ·")[0]
    page.goto("/messages/order-received")
    expect(page.locator(".hold .value").first).to_contain_text(number)


def test_the_theme_is_chosen_and_kept(page):
    page.goto("/")
    page.locator("[data-theme-switch]").click()
    page.locator("[data-theme-switch]").click()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.goto("/sends")
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")


def test_a_route_is_changed_by_keyboard_alone(page):
    page.goto("/routes/packed")
    expect(page.locator("#sentence")).to_have_attribute("data-started", "")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.locator(".slot[open]")).to_have_count(1)
    box = page.locator(".slot[open] input[value='order.paid']")
    box.focus()
    page.keyboard.press("Space")
    expect(page.locator(".slot summary").first).to_have_text("paid or packed")
    page.locator(".slot[open] input[value='order.paid']").focus()
    page.keyboard.press("Space")
    expect(page.locator(".slot summary").first).to_have_text("packed")


def test_on_a_phone_the_menu_has_every_place_with_its_word(page, running):
    page.goto("/orders")
    rail = page.locator("#rail")
    for word in ("Menu", "Close the menu"):
        expect(page.get_by_text(word, exact=True)).to_be_hidden()  # where there is room for the rail
    page.set_viewport_size({"width": 380, "height": 800})
    expect(rail).to_be_hidden()
    page.get_by_role("link", name="Menu", exact=True).click()
    for word in ("Overview", "Sends", "Suppressions", "Checks", "Stand-ins"):
        expect(rail.get_by_text(word, exact=True)).to_be_in_viewport()
    page.get_by_role("link", name="Close the menu").click()
    expect(rail).to_be_hidden()
    page.get_by_role("link", name="Menu", exact=True).click()
    rail.get_by_role("link", name="Routes").click()
    expect(page.get_by_role("heading", name="Routes", level=1)).to_be_visible()
    expect(rail).to_be_hidden()
