"""A document as a page and as a PDF (PDF/A-3a, ISO 19005-3), drawn from what is frozen of it alone: the same comes out
each time. Nothing is fetched for it.
"""

from __future__ import annotations

import datetime as dt
import functools
import hashlib
import io
import json
from collections.abc import Mapping
from decimal import Decimal
from importlib import resources
from typing import Any

from babel.dates import format_date
from babel.numbers import format_currency, format_decimal, format_percent
from jinja2 import Environment, StrictUndefined

from angelon.core.documents.document import Document, Party
from angelon.core.documents.en16931 import expressible, to_xml
from angelon.core.documents.rules import CATEGORIES
from angelon.core.documents.wording import wording
from angelon.core.values import locale_of, regional

XML_NAME = "factur-x.xml"
"""What the XML within the PDF is called (Factur-X 1.0, section 6.2)."""
_FONTS = {"regular.ttf": 400, "bold.ttf": 700}
"""Made of the fonts of the pages (`scripts/document_fonts.py`)."""
_ENVIRONMENT = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
_XMP = """<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:fx="urn:factur-x:pdfa:CrossIndustryDocument:invoice:1p0#"><fx:DocumentType>INVOICE\
</fx:DocumentType><fx:DocumentFileName>factur-x.xml</fx:DocumentFileName><fx:Version>1.0</fx:Version>\
<fx:ConformanceLevel>EN 16931</fx:ConformanceLevel></rdf:Description>
<rdf:Description rdf:about="" xmlns:pdfaExtension="http://www.aiim.org/pdfa/ns/extension/" \
xmlns:pdfaSchema="http://www.aiim.org/pdfa/ns/schema#" xmlns:pdfaProperty="http://www.aiim.org/pdfa/ns/property#">\
<pdfaExtension:schemas><rdf:Bag><rdf:li rdf:parseType="Resource"><pdfaSchema:schema>Factur-X PDFA Extension Schema\
</pdfaSchema:schema><pdfaSchema:namespaceURI>urn:factur-x:pdfa:CrossIndustryDocument:invoice:1p0#\
</pdfaSchema:namespaceURI><pdfaSchema:prefix>fx</pdfaSchema:prefix><pdfaSchema:property><rdf:Seq>%s</rdf:Seq>\
</pdfaSchema:property></rdf:li></rdf:Bag></pdfaExtension:schemas></rdf:Description></rdf:RDF>"""
_PROPERTY = """<rdf:li rdf:parseType="Resource"><pdfaProperty:name>%s</pdfaProperty:name><pdfaProperty:valueType>Text\
</pdfaProperty:valueType><pdfaProperty:category>external</pdfaProperty:category><pdfaProperty:description>%s\
</pdfaProperty:description></rdf:li>"""
_PROPERTIES = {
    "DocumentFileName": "The name of the embedded XML document",
    "DocumentType": "The type of the hybrid document",
    "Version": "The version of the standard",
    "ConformanceLevel": "The conformance level of the embedded XML document",
}


def title_of(document: Document) -> str:
    return f"{wording(document.language)[document.kind]} {document.number}".strip()


def page(document: Document, look: Mapping[str, Any], css: str = "") -> str:
    """The document as HTML in the shop's letterhead. `look` is as `look_of` makes it."""
    said, tag = wording(document.language), locale_of(regional(document.language, document.seller.country))
    figures = document.figures

    form = "#,##0" + (f".{'0' * figures.digits}" if figures.digits else "")

    def amount(number: int) -> str:
        return str(format_decimal(Decimal(number).scaleb(-figures.digits), format=form, locale=tag))

    def percent(rate: Any) -> str:
        return str(format_percent(rate / 100, format="#,##0.### %", locale=tag))

    def day(value: Any) -> str:
        return str(format_date(value, "long", locale=tag))

    rows = []
    for row in figures.rows:
        rates = sorted({part.percent for part in row.parts}, reverse=True)
        line = row.kind == "line"
        rows.append({
            "name": row.name if line else said[row.kind], "sku": row.sku,
            "quantity": format_decimal(row.quantity.normalize(), locale=tag) if line else "",
            "net": amount(row.net), "gross": amount(row.gross),
            "rate": percent(rates[0]) if len(rates) == 1 else said["mixed"],
        })  # fmt: skip
    heads = [(said["number"], document.number)] if document.number else []
    heads += [(said["date"], day(document.day)), (said["order"], document.order)]
    heads += [(said["supplied"], day(document.supplied))] if document.kind != "delivery" else []
    for name, party in (("seller_number", document.seller), ("buyer_number", document.buyer)):
        if party.tax_number and document.kind != "delivery":
            heads.append((said[name], party.tax_number))
    after = []
    if figures.gift_card:
        after.append((said["gift_card"], amount(-figures.gift_card)))
    if document.kind == "invoice" and (figures.gift_card or not document.paid):
        rest = figures.gross - figures.gift_card
        after.append((said["due"], amount(document.due)) if not document.paid else (said["paid"], amount(rest)))
    notes = [str(said[document.treatment.scheme])] if document.treatment.scheme in CATEGORIES else []
    if document.second is not None:
        one = document.second
        tax = format_currency(Decimal(one.tax).scaleb(-one.digits), one.currency, locale=tag)
        rate = format_decimal(one.rate.normalize(), locale=tag, decimal_quantization=False)
        notes.append(said["also_in"].format(amount=tax, rate=rate, date=day(one.day)))
    if document.bank:
        notes.append(document.bank)
    corrects = ""
    if document.corrects is not None:
        corrects = said["corrects"].format(number=document.corrects[0], date=day(document.corrects[1]))
    made: str = _template().render(
        doc=document, look=look, css=css, said=said, title=title_of(document), heads=heads, rows=rows,
        priced=document.kind != "delivery", net=amount(figures.net), tax=amount(figures.tax),
        gross=amount(figures.gross), after=after, corrects=corrects, notes=notes, place=_place,
        country=lambda code: tag.territories.get(code, code) if code else "",
        of_which=[
            said["of_which"].format(percent=percent(part.percent), tax=amount(part.tax), net=amount(part.net))
            for part in figures.sums if document.treatment.taxed
        ],
    )  # fmt: skip
    return made


def _place(party: Party) -> str:
    return " ".join(part for part in (party.postcode, party.city) if part)


@functools.cache
def _template() -> Any:
    return _ENVIRONMENT.from_string(_text("page.html"))


@functools.cache
def _text(name: str) -> str:
    return resources.files(__package__).joinpath(name).read_text("utf-8")


def stylesheet(look: Mapping[str, Any]) -> str:
    font = str(look.get("font", "sans-serif"))
    css = _text("page.css").replace("FALLBACK", font)
    css = css.replace("ACCENT", str(look.get("accent", "#0E5A55"))).replace("WIDTH", str(look.get("logo_width", 160)))
    return css if font == "sans-serif" else css.replace("Text, ", "")


def _numbers_of_pages(document: Document) -> str:
    """The style by which pages say which of how many they are; of one page nothing is said, and it is laid out once."""
    said = wording(document.language)["page"]
    pages = said.replace("{page}", '" counter(page) "').replace("{pages}", '" counter(pages) "')
    return f'@page {{ @bottom-right {{ content: "{pages}"; font: 8pt Text, sans-serif; color: #555 }} }}'


@functools.cache
def _faces() -> tuple[Any, Any]:
    """The fonts that ship here, read once: a style sheet of theirs, and where it is known."""
    import weasyprint
    from weasyprint.text.fonts import FontConfiguration

    known = FontConfiguration()
    faces = "".join(
        f"@font-face {{ font-family: Text; src: url(font:{name}); font-weight: {weight} }}\n"
        for name, weight in _FONTS.items()
    )
    return weasyprint.CSS(string=faces, font_config=known, url_fetcher=_fetcher()), known


def pdf(document: Document, look: Mapping[str, Any]) -> bytes:
    """The document as PDF/A-3a: tagged, fonts embedded, with the XML of EN 16931 inside where it has a form for it."""
    import weasyprint  # takes half a second to be read, and is not there without Pango

    frozen = json.dumps([document.plain(), dict(look)], sort_keys=True).encode()
    html = weasyprint.HTML(string=page(document, look), url_fetcher=_fetcher())
    options: dict[str, Any] = {
        "pdf_variant": "pdf/a-3a", "pdf_tags": True, "pdf_identifier": hashlib.sha256(frozen).digest()[:16],
    }  # fmt: skip
    if expressible(document):
        xml = weasyprint.Attachment(
            string=to_xml(document), name=XML_NAME, description="EN 16931", relationship="Alternative",
            created=_midnight(document), modified=_midnight(document),
        )  # fmt: skip
        rows = "".join(_PROPERTY % pair for pair in _PROPERTIES.items())
        options |= {"attachments": [xml], "xmp_metadata": [io.BytesIO((_XMP % rows).encode())]}
    faces, known = _faces()
    css = [faces, _parsed(stylesheet(look))]
    laid_out = html.render(stylesheets=css, font_config=known, **options)
    if len(laid_out.pages) > 1:
        numbered = weasyprint.CSS(string=_numbers_of_pages(document), font_config=known)
        laid_out = html.render(stylesheets=[*css, numbered], font_config=known, **options)
    made = io.BytesIO()
    laid_out.write_pdf(made, **options)
    return made.getvalue()


@functools.lru_cache(maxsize=64)
def _parsed(css: str) -> Any:
    import weasyprint

    return weasyprint.CSS(string=css, font_config=_faces()[1], url_fetcher=_fetcher())


def _midnight(document: Document) -> Any:
    return dt.datetime.combine(document.day, dt.time(), dt.UTC)


def _fetcher() -> Any:
    from weasyprint.urls import URLFetcher, URLFetcherResponse

    class Own(URLFetcher):  # type: ignore[misc]
        """Gives the fonts that ship here and pictures that are written in the page; nothing else."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            if url.startswith("font:") and url[5:] in _FONTS:
                data = resources.files(__package__).joinpath(f"fonts/{url[5:]}").read_bytes()
                return URLFetcherResponse(url, data, {"Content-Type": "font/ttf"})
            if url.startswith("data:image/"):
                return super().fetch(url, headers)
            raise ValueError(f"{url[:80]} is not fetched for a document.")

    return Own(allowed_protocols=("data",))
