"""Documents as files: read back by a library, drawn alike each time; a process that hangs or dies is replaced."""

import base64
import dataclasses
import io
import itertools
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pypdf
import pytest

from angelon.core.documents.en16931 import to_xml
from angelon.core.documents.making import buyer_of, invoice
from angelon.engine.documents.drawing import page, pdf
from angelon.engine.documents.press import CantDraw, Press
from tests.core.documents.made import DAY, order, shop, store

LOOK = {"accent": "#0E5A55", "font": "sans-serif"}
PIXEL = ("data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9"
         "awAAAABJRU5ErkJggg==")  # fmt: skip


def document(language="de", lines="1 x 119 HER-180; 1 x 24.80 PAT-1", total="150.30", postage="6.50", **parts):
    placed = dataclasses.replace(order(lines, total, postage=postage, **parts), language=language)
    documents = shop(questions="help@kites.example")
    return invoice(documents, store(), placed, buyer_of(placed), DAY, number="2026-0412")


@pytest.fixture(scope="module")
def press():
    made = Press()
    yield made
    made.end()


def read(data):
    return pypdf.PdfReader(io.BytesIO(data))


def test_a_pdf_is_tagged_says_its_language_and_holds_its_fonts_and_the_xml(press):
    made = document()
    reader = read(press.pdf(made.plain(), LOOK | {"logo": PIXEL, "logo_alt": "A kite", "logo_width": 40}))
    root = reader.trailer["/Root"]
    assert (root["/Lang"], root["/MarkInfo"]["/Marked"]) == ("de", True)
    assert root["/StructTreeRoot"]
    text = reader.pages[0].extract_text()
    for words in ("Rechnung 2026-0412", "Davon 19 %: 19,86 auf 104,52", "150,30", "gemischt", "Jo Ahlers"):
        assert words in text
    fonts = [font.get_object() for font in reader.pages[0]["/Resources"]["/Font"].values()]
    assert fonts
    for font in fonts:
        descriptor = font["/DescendantFonts"][0].get_object()["/FontDescriptor"]
        assert {"/FontFile2", "/FontFile3"} & set(descriptor)
    assert reader.attachments["factur-x.xml"] == [to_xml(made)]
    meta = root["/Metadata"].get_data().decode()
    assert 'pdfaid:part="3"' in meta
    assert "EN 16931" in meta
    specs = [one.get_object() for one in root["/AF"]]
    assert {one["/AFRelationship"] for one in specs} == {"/Alternative"}


def test_the_same_comes_out_each_time_in_another_process_too(press):
    made = document()
    other = Press()
    try:
        assert press.pdf(made.plain(), LOOK) == other.pdf(made.plain(), LOOK) == press.pdf(made.plain(), LOOK)
    finally:
        other.end()


@pytest.mark.parametrize("language", ["en", "fr", "es", "it", "nl", "pl", "pt", "pt-BR", "ja", "zh-Hant-TW"])
def test_every_language_is_drawn(press, language):
    assert len(read(press.pdf(document(language).plain(), LOOK)).pages) == 1


def test_two_hundred_lines_go_over_several_pages(press):
    lines = "; ".join(["1 x 1.19 A"] * 200)
    reader = read(press.pdf(document(lines=lines, total="238.00", postage="").plain(), LOOK))
    assert len(reader.pages) > 3
    assert f"Seite 2 von {len(reader.pages)}" in reader.pages[1].extract_text()


def test_what_an_order_says_is_text_and_fetches_nothing():
    mean = "<img src='http://127.0.0.1:9/x'><script>"
    made = document(name=mean, address="a\n@import url(http://127.0.0.1:9/y)")
    assert "&lt;img src=" in page(made, LOOK)
    assert read(pdf(made, LOOK)).pages


@pytest.mark.parametrize("scheme", ["http", "file"])
def test_a_picture_at_an_address_is_not_fetched(scheme, tmp_path):
    asked = []

    class Door(BaseHTTPRequestHandler):
        def do_GET(self):
            asked.append(self.path)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Door)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    (tmp_path / "logo.png").write_bytes(base64.b64decode(PIXEL.partition(",")[2]))
    try:
        where = {"http": f"http://127.0.0.1:{server.server_port}/logo.png", "file": (tmp_path / "logo.png").as_uri()}
        plain = read(pdf(document(), LOOK | {"logo": where[scheme]})).pages[0]
    finally:
        server.shutdown()
    assert asked == []
    assert not list(plain.images)


@pytest.mark.parametrize("program", ["import time; time.sleep(60)", "raise SystemExit", "print('no json', flush=True)"])
def test_a_process_that_hangs_dies_or_babbles_is_said_and_replaced(program):
    broken = Press([sys.executable, "-c", program], seconds=1)
    began = time.monotonic()
    with pytest.raises(CantDraw, match="could not be drawn"):
        broken.pdf(document().plain(), LOOK)
    assert time.monotonic() - began < 20
    assert broken._process is None
    with pytest.raises(CantDraw):
        broken.pdf(document().plain(), LOOK)


def test_what_cannot_be_drawn_is_said(press):
    with pytest.raises(CantDraw, match="could not be drawn"):
        press.pdf({"form": 1}, LOOK)
    assert press.pdf(document().plain(), LOOK)


@pytest.mark.parametrize("language", ["en", "de", "fr"])
def test_nothing_stands_over_anything(language):
    """Each part begins under all of what is before; heights are measured from the top, in points."""
    at = {}

    def seen(text, _, matrix, *more):
        for words in ("Brackwater Kites ·", "DE136695976", "Jo Ahlers", "25813 Husum", "2026-0412", "HER-180", "help@"):
            if words in text:
                at.setdefault(words, []).append(matrix[5])

    read(pdf(document(language), LOOK | {"logo": PIXEL})).pages[0].extract_text(visitor_text=seen)
    head, address = [max(at["Brackwater Kites ·"]), max(at["DE136695976"])], at["Jo Ahlers"]
    assert min(address) - max(head) > 8
    heights = [max(address), max(at["25813 Husum"]), max(at["2026-0412"]), min(at["HER-180"]), min(at["help@"])]
    assert all(below - above > 8 for above, below in itertools.pairwise(heights)), at
