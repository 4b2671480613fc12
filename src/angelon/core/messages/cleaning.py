"""HTML of a person's own: what no mail may hold is found, named, and taken out on import."""

from __future__ import annotations

from lxml import etree, html

from angelon.core.messages.nesting import problems_of_markup
from angelon.core.problems import Invalid, Problem

_TAGS = {
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
_ADDRESSES = ("href", "src", "action", "formaction", "background", "poster", "xlink:href")
_BAD_SCHEMES = ("javascript:", "vbscript:", "data:text", "file:")


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
        if tag in _TAGS:
            found[_TAGS[tag]] = None
            if take and element.getparent() is not None:
                element.drop_tree()
            continue
        if tag == "meta" and (element.get("http-equiv") or "").lower() == "refresh":
            found["a redirection"] = None
            if take:
                element.drop_tree()
            continue
        for name in list(element.attrib):
            value = "".join(str(element.attrib[name]).split()).lower()
            if name.lower().startswith("on"):
                label = f"“{name}”, which runs a script"
            elif name.lower() in _ADDRESSES and value.startswith(_BAD_SCHEMES):
                label = "an address that runs a script"
            elif name.lower() == "style" and ("expression(" in value or "javascript:" in value):
                label = "a style that runs a script"
            else:
                continue
            found[label] = None
            if take:
                del element.attrib[name]
    return list(found)
