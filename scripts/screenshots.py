"""Makes docs/screenshots anew from a running demo: python scripts/screenshots.py http://127.0.0.1:8080

Take a fresh demo (make demo FRESH=1): the pictures show what it starts with. One argument more takes only pictures
whose name holds it.
"""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import Any

from playwright.sync_api import sync_playwright

CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium")
OUT = Path(__file__).parents[1] / "docs" / "screenshots"


def effect(page: Any) -> None:
    page.locator("summary", has_text="at once").click()
    page.get_by_label("How long").fill("30")
    page.keyboard.press("Tab")
    page.locator("summary", has_text="30 minutes after").wait_for()
    page.get_by_role("link", name="What this change does").click()
    page.locator(".tallies").wait_for()


def check(page: Any) -> None:
    page.get_by_role("button", name="Save as a check").click()
    kept = page.url
    page.go_back()
    page.locator("summary", has_text="at once").click()
    page.get_by_label("How long").fill("2")
    page.keyboard.press("Tab")
    page.locator("summary", has_text="2 minutes after").wait_for()
    page.goto(kept)


def one_send(page: Any) -> None:
    page.locator("tr[data-row] a").first.click()
    page.get_by_role("heading", name="History").wait_for()


def one_order(page: Any) -> None:
    page.locator("tr[data-row] a").first.click()
    page.get_by_role("heading", name="Timeline").wait_for()


def customer_page(page: Any) -> None:
    """A customer's question, placed just now and opened on their phone."""
    page.goto("/standins")
    page.get_by_label("Payment").select_option("on_delivery")
    page.get_by_label("Customer").select_option(index=1)
    page.get_by_role("button", name="Place the order").click()
    page.wait_for_timeout(2500)
    page.goto("/standins/handset")
    page.goto(page.locator(".handset .said a").last.get_attribute("href"))


def parcel(page: Any) -> None:
    """An order with one parcel that is late, and a number being typed for another."""
    page.goto("/parcels?trouble=late")
    page.locator("tr[data-row]", has_text="Gannet Post").first.locator("a").first.click()
    page.get_by_label("Number of another parcel").fill("SW00041172")
    page.evaluate("scrollTo(0, 0)")
    page.wait_for_timeout(900)


def followed(page: Any) -> None:
    """What the customer of a parcel on its way sees."""
    page.locator("tr[data-row]", has_text="Gannet Post").first.locator("a").first.click()
    page.get_by_role("link", name="What the customer sees").click()


def rehearsed(page: Any) -> None:
    """On an order that is large enough."""
    for _ in range(30):
        page.get_by_role("button", name="Rehearse").click()
        page.get_by_text("Rehearsal with the sample event").wait_for()
        if page.get_by_text("outbox.send(").count() and page.locator("blockquote").count():
            return
        page.locator("[data-sample=previous]").click()
        page.wait_for_timeout(200)


def invoice(page: Any) -> None:
    """The newest order's invoice, before it exists."""
    page.get_by_role("link", name="Try an order").first.click()
    page.locator(".empty a.button").click()
    page.frame_locator("iframe").locator("h1").wait_for()


def suggestions(page: Any) -> None:
    """A source that is not mapped to an event, with a sample from another one's order."""
    page.get_by_label("Name of the new source").fill("Quay stall")
    page.get_by_role("button", name="Connect a source").click()
    key = page.url.split("/")[-2]
    page.goto(f"/sources/{key}/capture")
    page.locator("summary", has_text="aste").first.click()
    page.locator("textarea[name=body]").fill(SAMPLE.read_text().partition("\n\n")[2])
    page.get_by_role("button", name="Save as a sample").click()
    page.goto(f"/sources/{key}/read")


def tried(page: Any) -> None:
    page.get_by_role("button", name="Try it").click()
    page.get_by_text("What the first request brought").wait_for()


SAMPLE = Path(__file__).parents[1] / "tests" / "payloads" / "webshop-order-created.http"
SHOTS: list[tuple[str, str, Any]] = [
    ("overview", "/", None),
    ("mapping", "/sources/webshop/read?open=recipes.items", None),
    ("message", "/messages/order-received", None),
    ("message-sms", "/messages/order-received?channel=sms&locale=fr", None),
    ("invoice", "/documents", invoice),
    ("route", "/routes/how-it-went", None),
    ("order", "/orders?words=BK-4101", one_order),
    ("sends", "/sends", None),
    ("send", "/sends", one_send),
    ("follow", "/parcels?stage=in_transit", followed),
    ("question", "/messages/shall-we-send/question", None),
    ("customer-page", "/standins/handset", customer_page),
    ("connect", "/sources/webshop/connect", None),
    ("fetch", "/sources/market-stall/fetch", tried),
    ("parcels", "/orders/137", parcel),
    ("handlers", "/handlers/large_order", rehearsed),
    ("effect", "/routes/order-received", effect),
    ("check", "/routes/order-cancelled", check),
    ("suggestions", "/sources", suggestions),
]


def main(address: str, only: str = "") -> None:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-gpu"])
        for name, path, act in SHOTS:
            if only not in name:
                continue
            context = chromium.new_context(
                viewport={"width": 1280, "height": 800},
                color_scheme="light",
                reduced_motion="reduce",
                base_url=address,
            )
            page = context.new_page()
            page.goto(path)
            page.wait_for_timeout(700)
            if act:
                act(page)
                page.wait_for_timeout(700)
            page.screenshot(path=str(OUT / f"{name}.png"))
            context.close()
        chromium.close()


if __name__ == "__main__":
    main(*sys.argv[1:])
