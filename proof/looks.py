"""Every main page at three widths in both themes: nothing for axe to find, nothing wider than the window."""

from __future__ import annotations

import tempfile
from pathlib import Path

from tests.browser.test_every_page import ALIKE, ALL_RULES, AXE_RUN, PAGES
from tests.demos import running

AXE = Path(__file__).parents[1] / "tests" / "browser" / "vendor" / "axe.min.js"
WIDTHS, THEMES = (380, 768, 1280), ("light", "dark")


def run() -> tuple[dict[str, int], list[str]]:
    """How many pages were looked at, and what was found."""
    from playwright.sync_api import sync_playwright

    found: list[str] = []
    looked = 0
    with tempfile.TemporaryDirectory() as home, running(Path(home)) as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        for width in WIDTHS:
            for theme in THEMES:
                context = browser.new_context(
                    viewport={"width": width, "height": 800},
                    color_scheme=theme,
                    reduced_motion="reduce",
                    base_url=address,
                    bypass_csp=True,
                )
                page = context.new_page()
                for path in PAGES + ALIKE:
                    page.goto(path)
                    page.add_script_tag(path=str(AXE))
                    where = f"{path} at {width}, {theme}"
                    for one in page.evaluate(AXE_RUN, [ALL_RULES, True])["violations"]:
                        found.append(f"{where}: {one['id']}: {one['nodes'][0]['html'][:120]}")
                    if page.evaluate("document.documentElement.scrollWidth - innerWidth") > 0:
                        found.append(f"{where}: wider than the window")
                    looked += 1
                context.close()
        browser.close()
    return {"pages looked at": looked}, found
