"""The guide within the application: pages of Markdown, with the pictures of the documentation."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from flask import Blueprint, abort, redirect, render_template, send_file, url_for
from markdown_it import MarkdownIt
from markupsafe import Markup

pages = Blueprint("guide", __name__, url_prefix="/guide", template_folder="templates")

PAGES = Path(__file__).with_name("pages")
PICTURES = Path(__file__).parents[4] / "docs" / "screenshots"
"""The documentation's pictures, where it is installed with the program."""
OF_PAGES = (
    ("/sources", "connect"),
    ("/messages", "write"),
    ("/letterhead", "write"),
    ("/customer-pages", "questions"),
    ("/parcels", "parcels"),
    ("/carriers", "parcels"),
    ("/documents", "invoices"),
    ("/tables", "map"),
    ("/files", "write"),
    ("/routes", "route"),
    ("/segments", "route"),
    ("/runs", "route"),
    ("/rehearsals", "test"),
    ("/checks", "test"),
    ("/standins", "test"),
    ("/sends", "fix"),
    ("/orders", "fix"),
    ("/events", "fix"),
    ("/handlers", "handlers"),
    ("/gateways", "deliver"),
    ("/forecast", "deliver"),
    ("/senders", "deliver"),
    ("/suppressions", "deliver"),
    ("/people", "deliver"),
    ("/settings", "production"),
    ("/changes", "bundle"),
)
"""Which page of the guide belongs to which pages of the application."""


@dataclass(frozen=True, slots=True)
class Page:
    key: str
    title: str
    html: Markup


@lru_cache(maxsize=1)
def guide() -> tuple[Page, ...]:
    """Every page, in order. They are ours and ship with the program: their Markdown is trusted, their HTML is not."""
    renderer = MarkdownIt("commonmark", {"html": False}).enable("table")
    return tuple(_page(file, renderer) for file in sorted(PAGES.glob("*.md")))


def _page(file: Path, renderer: MarkdownIt) -> Page:
    text = file.read_text("utf-8")
    title = text.partition("\n")[0].lstrip("# ").strip()
    body = renderer.render(text.partition("\n")[2])
    body = body.replace("../screenshots/", "/guide/pictures/").replace("<table>", '<table class="rows">')
    body = body.replace("<img ", '<img loading="lazy" ')
    return Page(file.stem.partition("-")[2], title, Markup(body))  # noqa: S704 - rendered from our own files


def page_for(path: str) -> str:
    """The address of the guide's page for a page of the application."""
    if re.fullmatch(r"/sources/[^/]+/(read|ask)", path):
        return "/guide/map"
    if re.fullmatch(r"/messages/[^/]+/question", path):
        return "/guide/questions"
    found = next((key for start, key in OF_PAGES if path.startswith(start)), "")
    return f"/guide/{found}" if found else "/guide"


@pages.get("")
def index() -> Any:
    return redirect(url_for(".show", key=guide()[0].key))


@pages.get("/<key>")
def show(key: str) -> Any:
    found = next((page for page in guide() if page.key == key), None)
    if found is None:
        abort(404, f"The guide has no page “{key}”.")
    return render_template("guide/show.html", page=found, guide=guide())


@pages.get("/pictures/<name>.png")
def picture(name: str) -> Any:
    """One of the documentation's pictures."""
    file = PICTURES / f"{name}.png"
    if not re.fullmatch(r"[a-z-]{1,60}", name) or not file.is_file():
        abort(404, "This picture is not installed.")
    return send_file(file, mimetype="image/png", max_age=3600)
