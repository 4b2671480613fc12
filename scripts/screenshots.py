"""Makes docs/screenshots anew from a running demo: python scripts/screenshots.py http://127.0.0.1:8080

Take a fresh demo (make demo FRESH=1): the pictures show what it starts with. One argument more takes only pictures whose
name holds it.
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
    page.get_by_role("button", name="Keep this as a check").click()
    kept = page.url
    page.go_back()
    page.locator("summary", has_text="at once").click()
    page.get_by_label("How long").fill("2")
    page.keyboard.press("Tab")
    page.locator("summary", has_text="2 minutes after").wait_for()
    page.goto(kept)


SHOTS: list[tuple[str, str, str, Any]] = [
    ("overview", "/", "light", None), ("overview-dark", "/", "dark", None), ("mapping", "/sources/webshop/read?open=recipes.items", "light", None),
    ("message", "/messages/order-received", "light", None), ("message-sms", "/messages/order-received?channel=sms&locale=fr", "light", None),
    ("message-chat", "/messages/order-received?channel=chat&locale=de", "light", None), ("letterhead", "/letterhead", "light", None), ("route", "/routes/how-it-went", "light", None),
    ("order", "/orders/235", "light", None), ("sends", "/sends", "light", None), ("sources", "/sources", "light", None), ("capture", "/sources/webshop/capture", "light", None),
    ("connect", "/sources/webshop/connect", "light", None), ("files", "/files", "light", None), ("effect", "/routes/order-received", "light", effect), ("check", "/routes/order-cancelled", "light", check),
]  # fmt: skip


def main(address: str, only: str = "") -> None:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-gpu"])
        for name, path, scheme, act in SHOTS:
            if only not in name:
                continue
            context = chromium.new_context(viewport={"width": 1280, "height": 800}, color_scheme=scheme, reduced_motion="reduce", base_url=address)
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
