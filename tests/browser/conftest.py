"""A browser for the tests: Debian's Chromium, headless, with no errors allowed on any page."""

import re
import shutil
from pathlib import Path

import pytest
from playwright.sync_api import expect, sync_playwright

AXE = Path(__file__).parent / "vendor" / "axe.min.js"
CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium")
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
EXPECTED = ("status of 422", "status of 409", "net::ERR_FAILED")
"""What a browser logs where a test makes a request fail on purpose."""
expect.set_options(timeout=10_000)


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield chromium
        chromium.close()


def listen(tab):
    """A list that fills with the faults of a tab's pages."""
    faults = []
    tab.on("pageerror", lambda error: faults.append(str(error)))
    tab.on(
        "console",
        lambda message: (
            faults.append(message.text)
            if message.type == "error" and not any(told in message.text for told in EXPECTED)
            else None
        ),
    )
    return faults


@pytest.fixture
def page(browser, running):
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=running.url, permissions=["clipboard-read", "clipboard-write"]
    )
    context.set_default_timeout(10_000)
    tab = context.new_page()
    faults = listen(tab)
    yield tab
    context.close()
    assert faults == []


@pytest.fixture(scope="module")
def looked_at(browser, running):
    """One tab for pages that are looked at only, each after the other: styles and scripts are fetched once."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=running.url)
    context.set_default_timeout(10_000)
    context.add_init_script(path=AXE)
    tab = context.new_page()
    tab.faults = listen(tab)
    yield tab
    context.close()


@pytest.fixture
def place_order(page, running):
    """Places an order of one of the stand-ins' customers; gives its number, its id and its customer's address."""

    def place(customer):
        page.goto("/standins")
        page.get_by_label("Customer").select_option(index=customer % 5)
        page.get_by_role("button", name="Place the order").click()
        number = re.search(r"BK-\d+", page.locator(".toast, .flash, [role=status]").first.text_content())[0]
        of_order = 'SELECT o.id, c.email FROM "order" o JOIN contact c ON c.id = o.contact_id WHERE number = ?'
        return number, *running.wait_for(lambda: running.rows(of_order, number))[0]

    return place
