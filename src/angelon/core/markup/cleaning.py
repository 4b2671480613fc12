"""HTML of a person's own: what no mail may hold is found, named, and taken out on import."""

from __future__ import annotations

import re
from html import escape as html_escape

from lxml import etree, html

from angelon.core.markup.nesting import problems_of_markup
from angelon.core.problems import Invalid, Problem

_REFUSED = {
    "script": "a script",
    "iframe": "a frame",
    "frame": "a frame",
    "object": "an embedded object",
    "embed": "an embedded object",
    "applet": "an embedded object",
    "form": "a form",
    "input": "a form’s field",
    "textarea": "a form’s field",
    "select": "a form’s field",
    "button": "a form’s button",
    "base": "a base address",
    "link": "a stylesheet from elsewhere",
    "svg": "an SVG drawing, which can hold scripts",
    "math": "a formula",
    "audio": "sound",
    "video": "a film",
    "template": "a template element",
}
"""What is taken out with all that is in it, and what it is called."""
_ALLOWED = frozenset(
    [
        "html",
        "head",
        "title",
        "meta",
        "style",
        "body",
        "a",
        "abbr",
        "acronym",
        "address",
        "area",
        "article",
        "aside",
        "b",
        "bdi",
        "bdo",
        "big",
        "blockquote",
        "br",
        "caption",
        "center",
        "cite",
        "code",
        "col",
        "colgroup",
        "dd",
        "del",
        "details",
        "dfn",
        "dir",
        "div",
        "dl",
        "dt",
        "em",
        "figcaption",
        "figure",
        "font",
        "footer",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hgroup",
        "hr",
        "i",
        "img",
        "ins",
        "kbd",
        "li",
        "main",
        "map",
        "mark",
        "menu",
        "nav",
        "nobr",
        "noscript",
        "ol",
        "p",
        "picture",
        "pre",
        "q",
        "rp",
        "rt",
        "ruby",
        "s",
        "samp",
        "section",
        "small",
        "source",
        "span",
        "strike",
        "strong",
        "sub",
        "summary",
        "sup",
        "table",
        "tbody",
        "td",
        "tfoot",
        "th",
        "thead",
        "time",
        "tr",
        "tt",
        "u",
        "ul",
        "var",
        "wbr",
    ]
)
"""The elements that a mail may have (HTML, and what older mails have beside it). Others lose their tag, not their
content.
"""
_ADDRESSES = frozenset(
    [
        "href",
        "src",
        "action",
        "formaction",
        "background",
        "poster",
        "xlink:href",
        "longdesc",
        "cite",
        "data",
        "ping",
        "lowsrc",
        "dynsrc",
    ]
)
_SCHEME = re.compile(r"([a-z][a-z0-9+.-]*):")
_SCHEMES = frozenset(["https", "http", "mailto", "tel", "sms", "geo", "webcal", "cid", "library"])
_PICTURES = ("data:image/png", "data:image/jpeg", "data:image/jpg", "data:image/gif", "data:image/webp")
_IN_STYLES = {
    "expression(": "a style that runs a script",
    "javascript:": "a style that runs a script",
    "vbscript:": "a style that runs a script",
    "-moz-binding": "a style that runs a script",
    "behavior:": "a style that runs a script",
    "@import": "a stylesheet from elsewhere",
}
_COMMENT = re.compile(r"/\*.*?(?:\*/|$)", re.S)
_ESCAPED = re.compile(r"\\([0-9a-f]{1,6})\s?|\\(.)", re.I | re.S)


def unsafe(page: str) -> list[Problem]:
    """What a page holds that no mail may, each thing once."""
    return [
        Problem(
            "",
            f"The page holds {label}, which no mail program would run and many refuse.",
            "Take it out, or import the file again to have it taken out.",
        )
        for label in _faults(_tree(page))
    ]


def cleaned(page: str) -> tuple[str, list[str]]:
    """A page without what no mail may hold, and what was taken out in words. Comments, conditions and styles stay.

    Raises Invalid where the page is too much for a parser.
    """
    too_much = problems_of_markup(page, True)
    if too_much:
        raise Invalid(too_much)
    tree = _tree(page)
    if tree is None:
        return "", []
    taken = _faults(tree, take=True)
    if not taken:
        return page, []
    made = html.tostring(
        tree, encoding="unicode", doctype="<!doctype html>" if page.lstrip().lower().startswith("<!doctype") else None
    )
    return str(made), taken


def fragment(page: str) -> str:
    """What stands in a page's body, without what no mail may hold; fit to stand within a mail. Raises Invalid where the
    page is too much for a parser.
    """
    tree = _tree(cleaned(page)[0])
    body = tree.find("body") if tree is not None else None
    if body is None:
        return ""
    made = html_escape(body.text or "", quote=False)
    return (made + "".join(html.tostring(child, encoding="unicode") for child in body)).strip()


def _tree(page: str) -> html.HtmlElement | None:
    if not page.strip():
        return None
    try:
        return html.document_fromstring(page)
    except (etree.ParserError, ValueError):
        return None


def _faults(tree: html.HtmlElement | None, take: bool = False) -> list[str]:
    if tree is None:
        return []
    found: dict[str, None] = {}
    for element in list(tree.iter()):
        if not isinstance(element.tag, str):
            continue
        tag = element.tag.lower()
        if tag in _REFUSED:
            found[_REFUSED[tag]] = None
            if take and element.getparent() is not None:
                element.drop_tree()
            continue
        if tag == "meta" and (element.get("http-equiv") or "").lower() == "refresh":
            found["a redirection"] = None
            if take:
                element.drop_tree()
            continue
        if tag not in _ALLOWED and not tag.startswith("mj-"):  # MJML of one's own is looked at by the same rules
            found[f"the element “{tag[:40]}”"] = None
            if take and element.getparent() is not None:
                element.drop_tag()
            continue
        if tag == "style" and (fault := _fault_of_style(element.text or "")):
            found[fault] = None
            if take:
                element.drop_tree()
            continue
        for name in list(element.attrib):
            fault = _fault_of_attribute(name.lower(), str(element.attrib[name]))
            if fault:
                found[fault] = None
                if take:
                    del element.attrib[name]
    return list(found)


def _fault_of_attribute(name: str, value: str) -> str:
    """What is wrong with an attribute; empty where nothing is."""
    if name.startswith("on"):
        return f"“{name}”, which runs a script"
    if name == "style":
        return _fault_of_style(value)
    addresses = [value] if name in _ADDRESSES else value.split(",") if name == "srcset" else []
    return "an address that runs a script" if any(not _may_be_opened(one) for one in addresses) else ""


def _may_be_opened(address: str) -> bool:
    """Whether an address is relative, or of a scheme that a mail may have. White space and control characters within
    its scheme count for nothing, as in browsers (WHATWG URL, section 4.4).
    """
    plain = "".join(sign for sign in address if sign > " " and sign != "\x7f").lower()
    scheme = _SCHEME.match(plain)
    return scheme is None or scheme[1] in _SCHEMES or plain.startswith(_PICTURES)


def _fault_of_style(style: str) -> str:
    """What is wrong with a style, whatever comments and escapes (CSS Syntax, section 4.3.7) hide it."""
    plain = _ESCAPED.sub(lambda m: chr(min(int(m[1], 16), 0x10FFFF)) if m[1] else m[2], _COMMENT.sub("", style))
    plain = "".join(plain.split()).lower()
    return next((label for what, label in _IN_STYLES.items() if what in plain), "")
