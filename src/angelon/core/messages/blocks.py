"""Blocks as MJML for a mail program and as plain text.

Jinja parts stand in the MJML as tokens while it is compiled, so that layout and inlined styles are worked out once
and a send only fills the gaps.
"""

from __future__ import annotations

import html
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from inscriptis import get_text

from angelon.core.colours import ink_on
from angelon.core.direction import right_to_left
from angelon.core.messages.fixed_words import words_in
from angelon.core.questions import answer_label
from angelon.core.specs.message import (
    Address,
    Answers,
    Block,
    Button,
    Columns,
    Divider,
    EmailText,
    Heading,
    Image,
    Lines,
    Mjml,
    Parcel,
    Question,
    Text,
)
from angelon.core.specs.store import Letterhead
from angelon.core.templates import BadTemplate, compile_template, segments

_SUMS = (
    ("postage", "order.postage is defined and order.postage", "{{ order.postage }}"),
    (
        "discount",
        "order.discount is defined and order.discount and order.discount.amount",
        "\u2212{{ order.discount }}",
    ),
    ("tax", "order.tax is defined and order.tax and order.tax_on_top", "{{ order.tax }}"),
)
"""What stands between the lines and their total: its word, when it is shown, what it shows. Values that were kept with
a send before these parts were read don't have them.
"""
_TAX_WITHIN = (
    "tax_within",
    "order.tax is defined and order.tax and order.tax.amount and not order.tax_on_top",
    "{{ order.tax }}",
)
_PROGRESS = (("packed", 2), ("on_its_way", 4), ("at_your_door", 6), ("delivered", 7))
"""The stops that a customer is shown, and the stage (`event_types.STOPS`) from which each is reached."""

_STRONG = re.compile(r"\*\*(?=\S)(.+?)(?<=\S)\*\*", re.S)
_EMPHASIS = re.compile(r"(?<![\w*])_(?=\S)(.+?)(?<=\S)_(?!\w)", re.S)
_LINK = re.compile(r"\[([^\[\]\n]{1,300})\]\(([^()\s]{1,2000})\)")
_TOKEN = re.compile(r"a9t(\d+)z9a")
_MARK = re.compile(r"<!--a9t(\d+)z9a-->|a9t(\d+)z9a")


@dataclass
class Tokens:
    """Jinja parts put aside under marks that MJML and CSS tools leave alone."""

    held: list[str] = field(default_factory=list)

    def put(self, jinja: str) -> str:
        self.held.append(jinja)
        return f"a9t{len(self.held) - 1}z9a"

    def placeholder(self, jinja: str) -> str:
        """A condition or loop between table rows: as a comment, since bare text there is moved elsewhere by HTML's
        rules.
        """
        return f"<!--{self.put(jinja)}-->"

    def hide(self, source: str) -> str:
        """A template with its Jinja parts as tokens. Raises BadTemplate."""
        compile_template(source)
        return "".join(self.put(part) if jinja else part for jinja, part in segments(source))

    def hide_in_html(self, source: str) -> str:
        """The same for a page of HTML: conditions and loops outside tags as comments."""
        compile_template(source)
        made = ""
        for jinja, part in segments(source):
            outside = made.rfind("<") <= made.rfind(">")
            made += (
                part if not jinja else self.placeholder(part) if outside and part.startswith("{%") else self.put(part)
            )
        return made

    def show(self, text: str) -> str:
        """The text with the Jinja parts back in their places."""
        return _MARK.sub(lambda m: self.held[int(m[1] or m[2])] if int(m[1] or m[2]) < len(self.held) else m[0], text)

    def lost(self, was: str, now: str) -> list[str]:
        """The Jinja parts that did not come through, or not in their order: what stood between them would change its
        meaning.
        """
        before, after = [int(m) for m in _TOKEN.findall(was)], [int(m) for m in _TOKEN.findall(now)]
        missing = [number for number in before if number not in set(after)]
        moved = [] if missing else [a for a, b in zip(before, after, strict=False) if a != b]
        return [self.held[number] for number in (missing or moved)]


_CONTROL = re.compile(r"\{%[-+]?\s*(\w+)")
_ENCODED = re.compile(r"\|\s*urlencode\b")
SCHEMES = ("https://", "http://", "mailto:", "tel:")


def link(source: str, tokens: Tokens) -> str:
    """An address for an attribute: what it begins with has to be a whole web address, later values are made safe inside
    one.

    Whichever way its conditions go: each branch with which an address could begin has to begin one.
    """
    compile_template(source)
    made = ""
    begun = False
    branches: list[tuple[bool, list[bool], bool]] = []
    """For each open condition: whether the address had begun before it, how its branches ended, whether there is an
    else.
    """
    for jinja, part in segments(source.strip()):
        if jinja and part.startswith("{{"):
            inner = part[2:-2].strip().strip("-").strip()
            how = "urlencode" if begun else "web_address"
            made += tokens.put(
                "{{ (" + inner + ") | " + how + " }}" if not (begun and _ENCODED.search(inner)) else part
            )
            begun = True
        elif jinja:
            begun = _after_control(part, begun, branches)
            made += tokens.put(part)
        else:
            if not begun and part.strip() and not part.lower().startswith(SCHEMES):
                raise BadTemplate(
                    f"“{source[:60]}” is no web address.",
                    1,
                    "Start it with https://, or choose a variable that holds an address.",
                )
            begun = begun or bool(part.strip())
            made += html.escape(part, quote=True)
    return made


def _after_control(part: str, begun: bool, branches: list[tuple[bool, list[bool], bool]]) -> bool:
    """Whether the address has begun, whatever happens, after a condition's or loop's part."""
    found = _CONTROL.match(part)
    word = found[1] if found else ""
    if word in ("if", "for"):
        branches.append((begun, [], False))
    elif word in ("else", "elif") and branches:
        before, ends, _ = branches[-1]
        branches[-1] = (before, [*ends, begun], word == "else")
        return before
    elif word in ("endif", "endfor") and branches:
        before, ends, whole = branches.pop()
        return before or (whole and word == "endif" and all([*ends, begun]))
    return begun


def rich(source: str, tokens: Tokens, paragraph: str = "") -> str:
    """Text with its few marks as HTML; everything else in it is escaped."""
    links: list[str] = []

    def keep_link(match: re.Match[str]) -> str:
        address = link(tokens.show(match[2]), tokens)
        links.append(f'<a href="{address}" style="color:inherit">{inline(match[1])}</a>')
        return f"\x00{len(links) - 1}\x00"

    def inline(text: str) -> str:
        made = html.escape(text, quote=False)
        made = _STRONG.sub(r"<strong>\1</strong>", made)
        return _EMPHASIS.sub(r"<em>\1</em>", made)

    hidden = tokens.hide(source).replace("\r\n", "\n").replace("\x00", "")
    with_links = _LINK.sub(keep_link, hidden)
    paragraphs = [p for p in re.split(r"\n\s*\n", with_links.strip("\n")) if p.strip()] or [""]
    made = "".join(
        f'<p style="margin:0 0 12px"{paragraph}>{inline(p.strip()).replace(chr(10), "<br />")}</p>' for p in paragraphs
    )
    return re.sub("\x00(\\d+)\x00", lambda m: links[int(m[1])], made)


def plain(source: str) -> str:
    """Text with its marks as a plain-text mail has them: a link as its words and address."""
    tokens = Tokens()
    try:
        hidden = tokens.hide(source)
    except BadTemplate:  # told where the text is compiled
        hidden = source
    made = _LINK.sub(r"\1: \2", hidden.replace("\r\n", "\n"))
    return tokens.show(_STRONG.sub(r"\1", made)).strip()


_BETWEEN_ROWS = re.compile(r"(<table\b[^>]*>|</?tbody\b[^>]*>|</?thead\b[^>]*>|</tr>)\s*<!--(a9t\d+z9a)-->", re.I)


def text_of(source: str) -> str:
    """A page of HTML or MJML as a plain-text template; conditions and loops keep their place, between table
    rows too.
    """
    tokens = Tokens()
    hidden = tokens.hide_in_html(source)
    while _BETWEEN_ROWS.search(hidden):
        hidden = _BETWEEN_ROWS.sub(r"\1<tr><td>\2</td></tr>", hidden, count=1)
    hidden = re.sub(r"<!--(a9t\d+z9a)-->", r"\1", hidden)
    return tokens.show(str(get_text(hidden)))


LIBRARY = "library:"


def content_id(placeholder: str) -> str:
    """The content id (RFC 2392) under which a file of the library, `shelf/name`, travels in a mail."""
    return f"lib-{placeholder.encode().hex()}@library"


def picture(src: str, tokens: Tokens) -> str:
    """A picture's address for an attribute: a web address, or a file of the library that travels in the mail."""
    if src.strip().startswith(LIBRARY):
        return f"cid:{content_id(src.strip()[len(LIBRARY) :])}"
    return link(src, tokens)


def with_answers(text: EmailText, question: Question | None, locale: str, main: str) -> EmailText:
    """A mail in which each block of answers is the buttons that it stands for."""
    asked = question.answers if question is not None else []
    buttons = [
        Button(kind="button", text=_as_text(answer_label(one, locale, main)), url=ANSWER_LINK.format(one.key))
        for one in asked
    ]

    def spread(blocks: Sequence[Any]) -> list[Any]:
        found: list[Any] = []
        for block in blocks:
            if isinstance(block, Columns):
                found.append(block.model_copy(update={"left": spread(block.left), "right": spread(block.right)}))
            elif isinstance(block, Answers):
                found += [button.model_copy(update={"only_if": block.only_if}) for button in buttons]
            else:
                found.append(block)
        return found

    if not any(isinstance(block, Answers) for _, block in text.pieces()):
        return text
    return text.model_copy(update={"blocks": spread(text.blocks)})


ANSWER_LINK = "{{{{ question.link }}}}?answer={}"


def _as_text(words: str) -> str:
    """Words as a template that says just them."""
    return words.replace("{", "(").replace("}", ")")


def shown_if(block: Block) -> str:
    """When a block is shown: on its own condition, and an address only where the order has one; empty for always."""
    own = f"({block.only_if}) and order.address" if block.only_if else "order.address"
    return own if isinstance(block, Address) else block.only_if or ""


def block_mjml(block: Block, tokens: Tokens, locale: str, letterhead: Letterhead) -> str:
    """One block as children of a column. Raises BadTemplate."""
    made = _bare_mjml(block, tokens, locale, letterhead)
    holds = shown_if(block)
    if holds:
        return _only_if(holds, made, tokens)
    return made


def _only_if(holds: str, made: str, tokens: Tokens) -> str:
    """MJML that is shown only where a condition holds."""
    begin, end = (f"<mj-raw>{tokens.placeholder(tag)}</mj-raw>" for tag in (f"{{% if {holds} %}}", "{% endif %}"))
    return begin + made + end


def columns_mjml(block: Columns, tokens: Tokens, locale: str, letterhead: Letterhead) -> str:
    """Two columns as a section of its own. Raises BadTemplate, its problem naming the side and place."""
    sides = ""
    for side in ("left", "right"):
        made = ""
        for number, piece in enumerate(getattr(block, side)):
            try:
                made += block_mjml(piece, tokens, locale, letterhead)
            except BadTemplate as error:
                error.problem = error.problem.at(f"{side}.{number}")
                raise
        sides += f'<mj-column width="50%">{made}</mj-column>'
    section = f'<mj-section css-class="paper" background-color="{letterhead.body}" padding="0">{sides}</mj-section>'
    if block.only_if:
        return _only_if(block.only_if, section, tokens)
    return section


HAIR = "#ebe5d7"


def sides(locale: str) -> tuple[str, str]:
    """The side at which lines of a language begin and the one at which they end."""
    return ("right", "left") if right_to_left(locale) else ("left", "right")


def _bare_mjml(block: Block, tokens: Tokens, locale: str, letterhead: Letterhead) -> str:
    if isinstance(block, Heading):
        return (
            '<mj-text css-class="ink" font-size="22px" font-weight="700" line-height="1.3" '
            f'padding-bottom="6px">{html.escape(tokens.hide(block.text), quote=False)}</mj-text>'
        )
    if isinstance(block, Text):
        return f'<mj-text css-class="ink">{rich(block.text, tokens)}</mj-text>'
    if isinstance(block, Button):
        return (
            f'<mj-button align="{sides(locale)[0]}" background-color="{letterhead.accent}" '
            f'color="{ink_on(letterhead.accent)}" '
            'border-radius="3px" font-weight="700" '
            f'inner-padding="10px 20px" href="{link(block.url, tokens)}">'
            f"{html.escape(tokens.hide(block.text), quote=False)}</mj-button>"
        )
    if isinstance(block, Lines):
        return _lines_mjml(block, tokens, locale, letterhead)
    if isinstance(block, Address):
        title = f"<strong>{html.escape(tokens.hide(block.title), quote=False)}</strong><br />" if block.title else ""
        return f'<mj-text css-class="ink">{title}{tokens.put("{{ order.address | breaks }}")}</mj-text>'
    if isinstance(block, Parcel):
        return _parcel_mjml(block, tokens, locale, letterhead)
    if isinstance(block, Answers):
        return ""  # stands for its buttons (`with_answers`); without a question there are none
    if isinstance(block, Divider):
        return '<mj-divider border-width="1px" border-color="#dcd5c5" />'
    if isinstance(block, Image):
        return (
            f'<mj-image align="{sides(locale)[0]}" src="{picture(block.src, tokens)}" '
            f'alt="{html.escape(tokens.hide(block.alt))}" width="{block.width}px" />'
        )
    assert isinstance(block, Mjml)
    return tokens.hide_in_html(block.mjml)


def _lines_mjml(block: Lines, tokens: Tokens, locale: str, letterhead: Letterhead) -> str:
    word, end = words_in(locale, letterhead.fixed_words), sides(locale)[1]
    cell = f'style="padding:8px 0;border-bottom:1px solid {HAIR}"'
    right = f'style="padding:8px 0;border-bottom:1px solid {HAIR};text-align:{end};white-space:nowrap"'
    rows = (
        tokens.placeholder("{% for line in order.lines %}")
        + f"<tr><td {cell}>{tokens.put('{{ line.name }}')}</td><td {right}>{tokens.put('{{ line.quantity }}')}"
        + f"{tokens.put('{% if line.price %} × {{ line.price }}{% endif %}')}</td></tr>"
        + tokens.placeholder("{% endfor %}")
    )
    if block.total:
        strong = "padding:10px 0;font-weight:700"
        total = ("total", "order.total", "{{ order.total }}")
        for (name, holds, shown), style in (
            *((one, "padding:6px 0") for one in _SUMS),
            (total, strong),
            (_TAX_WITHIN, "padding:0 0 8px;font-size:13px"),
        ):
            rows += (
                tokens.placeholder(f"{{% if {holds} %}}")
                + f'<tr><td style="{style}">{word(name)}</td>'
                + f'<td style="{style};text-align:{end};white-space:nowrap">{tokens.put(shown)}</td></tr>'
                + tokens.placeholder("{% endif %}")
            )
    return f'<mj-table css-class="ink">{rows}</mj-table>'


_PARCEL_LINK = """{% if parcel.link is defined and parcel.link %}<a href="{{ parcel.link }}">{% endif %}"""
_PARCEL_LINK_END = "{% if parcel.link is defined and parcel.link %}</a>{% endif %}"


def _parcel_mjml(block: Parcel, tokens: Tokens, locale: str, letterhead: Letterhead) -> str:
    word, end = words_in(locale, letterhead.fixed_words), sides(locale)[1]
    cell = f'style="padding:8px 0;border-bottom:1px solid {HAIR}"'
    expected = "{% if parcel.expected_on %}" + word("expected") + " {{ parcel.expected_on | date('day') }}{% endif %}"
    rows = (
        tokens.placeholder("{% for parcel in order.parcels %}")
        + (
            f"<tr><td {cell}>{tokens.put('{{ parcel.carrier | default }}')} {tokens.put(_PARCEL_LINK)}"
            f"{tokens.put('{{ parcel.number | default }}')}{tokens.put(_PARCEL_LINK_END)}</td>"
        )
        + f'<td style="padding:8px 0;border-bottom:1px solid {HAIR};text-align:{end}">{tokens.put(expected)}</td></tr>'
        + tokens.placeholder("{% endfor %}")
    )
    made = f'<mj-table css-class="ink">{rows}</mj-table>'
    if block.progress:
        bars = ""
        for name, stage in _PROGRESS:
            colour = "{% if order.stage >= " + str(stage) + " %}" + letterhead.accent + "{% else %}#dcd5c5{% endif %}"
            bars += (
                f'<td width="25%" style="border-top:5px solid {tokens.put(colour)};padding:6px 4px 0;'
                f'font-size:13px">{word(name)}</td>'
            )
        made += (
            f"<mj-raw>{tokens.placeholder('{% if order.stage is not none %}')}</mj-raw>"
            f'<mj-table css-class="ink" padding-top="2px"><tr>{bars}</tr></mj-table>'
            f"<mj-raw>{tokens.placeholder('{% endif %}')}</mj-raw>"
        )
    return made


def block_text(block: Block, locale: str, letterhead: Letterhead) -> str:
    """One block as a Jinja template of plain text."""
    word = words_in(locale, letterhead.fixed_words)
    made = ""
    if isinstance(block, Heading):
        made = block.text.strip()
    elif isinstance(block, Text):
        made = plain(block.text)
    elif isinstance(block, Button):
        made = f"{block.text.strip()}: {block.url.strip()}"
    elif isinstance(block, Lines):
        made = (
            "{% for line in order.lines %}- {{ line.quantity }} × {{ line.name }}{% if line.price %} ({{ "
            "line.price }}){% endif %}\n{% endfor %}"
        )
        if block.total:
            for name, holds, shown in (*_SUMS, ("total", "order.total", "{{ order.total }}"), _TAX_WITHIN):
                made += f"{{% if {holds} %}}{word(name)}: {shown}\n{{% endif %}}"
    elif isinstance(block, Address):
        made = (block.title.strip() + "\n" if block.title else "") + "{{ order.address }}"
    elif isinstance(block, Parcel):
        made = (
            "{% for parcel in order.parcels %}- {{ parcel.carrier | default }} {{ parcel.number | default }}"
            "{% if parcel.expected_on %}, " + word("expected") + ' {{ parcel.expected_on | date("day") }}{% endif %}'
            "{% if parcel.link is defined and parcel.link %}: {{ parcel.link }}{% endif %}\n"
            "{% endfor %}"
        )
    elif isinstance(block, Divider):
        made = "-" * 40
    elif isinstance(block, Image):
        made = block.alt.strip()
    elif isinstance(block, Mjml):
        made = text_of(block.mjml).strip()
    elif isinstance(block, Columns):
        made = "".join(block_text(piece, locale, letterhead) for piece in (*block.left, *block.right)).strip("\n")
    if not made:
        return ""
    holds = shown_if(block)
    return "{% if " + holds + " %}" + made + "\n\n{% endif %}" if holds else made + "\n\n"


def pictures_in(page: str) -> list[str]:
    """The files of the library, `shelf/name`, that a made page shows."""
    return list(dict.fromkeys(bytes.fromhex(m[1]).decode() for m in _SHOWN.finditer(page)))


_SHOWN = re.compile(r"cid:lib-((?:[0-9a-f]{2})+)@library")


def with_pictures_at(page: str, address: Callable[[str], str]) -> str:
    """A made page with its library pictures at web addresses instead, for a page that shows it."""
    return _SHOWN.sub(lambda m: html.escape(address(bytes.fromhex(m[1]).decode()), quote=True), page)
