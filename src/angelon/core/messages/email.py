"""An email compiled once and rendered many times."""

from __future__ import annotations

import html as html_module
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, ClassVar

import css_inline
import mjml

from angelon.core.addresses import check_email
from angelon.core.direction import right_to_left
from angelon.core.markup.cleaning import unsafe
from angelon.core.markup.nesting import problems_of_markup
from angelon.core.messages.attachments import AttachmentRequest, compile_attachment
from angelon.core.messages.blocks import (
    Tokens,
    block_mjml,
    block_text,
    columns_mjml,
    picture,
    plain,
    rich,
    sides,
    text_of,
    with_answers,
)
from angelon.core.messages.channel import Channel, Part, Rendered
from angelon.core.messages.known_fields import shop_values, unknown_fields
from angelon.core.messages.leaving import LINK, WHY, why_html, why_text
from angelon.core.messages.leaving import as_html as leave_html
from angelon.core.messages.leaving import as_text as leave_text
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.message import Columns, EmailText, Message, Question
from angelon.core.specs.store import Letterhead, Store
from angelon.core.templates import BadTemplate, CantRender, Compiled, Holes, compile_template, one_line
from angelon.core.values import Value, regional

MAX_HTML = 1_000_000

# Nothing is fetched while styles are inlined: a mail is made of what it holds.
_INLINER = css_inline.CSSInliner(keep_style_tags=True, keep_link_tags=True, load_remote_stylesheets=False)
FONTS = {
    "sans-serif": "'Helvetica Neue', Helvetica, Arial, sans-serif",
    "serif": "Georgia, 'Times New Roman', serif",
    "monospace": "Menlo, Consolas, 'Courier New', monospace",
}
_FETCHED = re.compile(r"<link\b[^>]*>|@import\b[^;]*;", re.I)
"""What MJML adds to fetch web fonts: a mail fetches nothing."""
SPACER = '<mj-spacer height="4px" />'
DARK = "@media (prefers-color-scheme: dark)"
"""How the styles for a dark mailbox begin; a preview may turn them on or off by it."""
_DARK_STYLE = (
    DARK
    + " { .ground, body { background: #16191d !important; } .paper, .paper > table { background: #1f242a !important; }"
    " .ink, .ink div, .ink td, .ink p { color: #e9e6dd !important; } "
    ".quiet div, .quiet p { color: #a5adb5 !important; } }"
)


@dataclass(frozen=True, slots=True)
class RenderedEmail(Rendered):
    """An email as it goes out. `subject` is one line; `cc`, `bcc` and `reply_to` are addresses parted by commas."""

    subject: str
    html: str
    text: str
    locale: str = "en"
    reply_to: str = ""
    cc: str = ""
    bcc: str = ""
    wanted: tuple[AttachmentRequest, ...] = ()
    """What is to be attached, not yet fetched."""
    leave: str = ""
    """The address by which a mail program's own button leaves (RFC 8058), for an optional mail."""
    pattern: str = ""
    """The page before its values, of which `html` says much again."""

    def for_reader(self, link: str) -> RenderedEmail:
        """This mail with the reader's own link to their preferences in it."""
        return replace(self, html=self.html.replace(LINK, link), text=self.text.replace(LINK, link), leave=link)

    def with_why(self, link: str) -> RenderedEmail:
        """This mail with the link to why it came."""
        return replace(self, html=self.html.replace(WHY, link), text=self.text.replace(WHY, link))

    def summary(self) -> str:
        return self.subject

    def as_text(self) -> str:
        return f"{self.subject}\n\n{self.text}".strip()

    def size(self) -> int:
        return len(self.html)

    @property
    def page(self) -> str:
        return self.html


@dataclass(frozen=True, slots=True)
class CompiledEmail(Part):
    subject: Compiled
    html: Compiled
    text: Compiled
    locale: str
    """How values are shown: the variant's language with the shop's regional habits, where CLDR knows them."""
    envelope: Mapping[str, Compiled] = field(default_factory=dict)
    """`reply_to`, `cc` and `bcc`, where there are any."""
    attachments: tuple[Mapping[str, Compiled | AttachmentRequest], ...] = ()
    _names: frozenset[str] = field(init=False)
    _order_fields: frozenset[str] = field(init=False)
    _needed_order_fields: frozenset[str] = field(init=False)
    _shop_gaps: frozenset[str] = field(init=False)

    def __post_init__(self) -> None:
        names = self.subject.names | self.html.names | self.text.names
        fields = self.subject.order_fields | self.html.order_fields | self.text.order_fields
        needed = self.subject.needed_order_fields | self.html.needed_order_fields | self.text.needed_order_fields
        gaps = self.subject.shop_gaps | self.html.shop_gaps | self.text.shop_gaps
        for compiled in (
            *self.envelope.values(),
            *(part for attachment in self.attachments for part in attachment.values()),
        ):
            names |= compiled.names
            fields |= compiled.order_fields if isinstance(compiled, Compiled) else frozenset()
            needed |= compiled.needed_order_fields if isinstance(compiled, Compiled) else frozenset()
            gaps |= compiled.shop_gaps if isinstance(compiled, Compiled) else frozenset()
        object.__setattr__(self, "_names", names)
        object.__setattr__(self, "_order_fields", fields)
        object.__setattr__(self, "_needed_order_fields", needed)
        object.__setattr__(self, "_shop_gaps", gaps)

    @property
    def names(self) -> frozenset[str]:
        return self._names

    @property
    def order_fields(self) -> frozenset[str]:
        return self._order_fields

    @property
    def needed_order_fields(self) -> frozenset[str]:
        return self._needed_order_fields

    @property
    def shop_gaps(self) -> frozenset[str]:
        return self._shop_gaps

    def render(self, values: Mapping[str, Value], holes: Holes = "refuse") -> RenderedEmail:
        """The email for these values. Raises CantRender, its problem saying which part."""
        made = {}
        for part, template in (
            ("subject", self.subject),
            ("html", self.html),
            ("text", self.text),
            *self.envelope.items(),
        ):
            try:
                address = part in self.envelope
                made[part] = template.render(values, self.locale, MAX_HTML, "allow" if address else holes, not address)
            except CantRender as error:
                raise CantRender(error.problem.at(part)) from None
        wanted = tuple(w for w in (_filled(parts, values, self.locale) for parts in self.attachments) if w is not None)
        reply_to, cc, bcc = (one_line(made.get(part, "")) for part in ("reply_to", "cc", "bcc"))
        return RenderedEmail(
            *(one_line(made["subject"]), made["html"], _tidy(made["text"]), self.locale, reply_to, cc, bcc, wanted),
            pattern=self.html.source,
        )


class EmailChannel(Channel):
    key, label, text_field = "email", "email", "blocks"
    address_part, address_label = "email", "email address"
    blank: ClassVar[Mapping[str, Any]] = {
        "subject": "",
        "blocks": [{"kind": "heading", "text": ""}, {"kind": "text", "text": ""}],
    }

    def compile(self, message: Message, locale: str, store: Store) -> CompiledEmail:
        return compile_email(message.email[locale], store, locale, message)

    def check_address(self, text: str, country: str | None = None) -> str:
        return check_email(text)


def _filled(
    parts: Mapping[str, Compiled | AttachmentRequest], values: Mapping[str, Value], locale: str
) -> AttachmentRequest | None:
    wanted = parts["wanted"]
    assert isinstance(wanted, AttachmentRequest)
    texts = {}
    for name, part in parts.items():
        if isinstance(part, Compiled):
            try:
                texts[name] = one_line(part.render(values, locale, 2000, "refuse"))
            except CantRender as error:
                raise CantRender(error.problem.at(f"attachments.{wanted.number}")) from None
    return wanted.filled(texts, values)


def _tidy(text: str) -> str:
    return re.sub(r"\n{3,}", "\n\n", "\n".join(line.rstrip() for line in text.split("\n"))).strip() + "\n"


def compile_email(text: EmailText, store: Store, locale: str, message: Message | None = None) -> CompiledEmail:
    """Compiles one locale's email under a store's letterhead, with its message's envelope and attachments where it has
    one.

    Raises Invalid with every problem, `where` naming the part: `subject`, `blocks.3.text`, `html`.
    """
    parts = {"envelope", "attachments", "purpose", "question", "locale"}
    extras = message.model_dump(mode="json", include=parts) if message is not None else {}
    key = json.dumps(
        [
            text.model_dump(mode="json"),
            store.letterhead.model_dump(mode="json"),
            shop_values(store),
            store.country,
            locale,
            extras,
            store.pages.why,
        ],
        sort_keys=True,
    )
    return _compiled(key)


@lru_cache(maxsize=512)
def _compiled(key: str) -> CompiledEmail:
    spec, letterhead_spec, shop, country, locale, extras, why = json.loads(key)
    store_name = shop["name"]
    text, letterhead = EmailText.model_validate(spec), Letterhead.model_validate(letterhead_spec)
    asked = Question.model_validate(extras["question"]) if extras.get("question") else None
    text = with_answers(text, asked, locale, extras.get("locale", locale))
    problems: list[Problem] = []
    leaving = locale if extras.get("purpose") == "optional" else ""
    left = _ending(locale, leaving, why, letterhead)
    prefix = f"{letterhead.subject_prefix} " if letterhead.subject_prefix else ""
    subject = _part("subject", prefix + text.subject, problems)
    html = None
    if text.text_only:
        html = compile_template("", True)
    elif text.html:
        html = _own_page(_with_leaving(text.html, locale, leaving, why, letterhead), problems)
    else:
        source = _layout(text, letterhead, store_name, locale, problems, leaving, why)
        if not problems:
            html = _part("blocks", source, problems, True)
    if text.text_only:
        plain_text = _part("text", text.text + "\n\n" + _sign_off(letterhead, store_name, left), problems)
    elif text.text:
        plain_text = _part("text", text.text + left, problems)
    elif text.html:
        plain_text = None if problems else _part("html", text_of(text.html) + left, problems)
    else:
        plain_text = (
            None
            if problems
            else _part(
                "blocks",
                "".join(block_text(b, locale, letterhead) for b in text.blocks)
                + _sign_off(letterhead, store_name, left),
                problems,
            )
        )
    envelope = {}
    of_all = {"cc": letterhead.cc, "bcc": letterhead.bcc}
    written = {part: (extras.get("envelope") or {}).get(part, "") for part in ("reply_to", "cc", "bcc")}
    for part, own in written.items():
        template = ", ".join(text for text in (own, of_all.get(part, "")) if text)
        compiled = _part(part, template, problems) if template else None
        if compiled is not None:
            envelope[part] = compiled
    attachments = compile_attachment(extras.get("attachments") or [], problems)
    if problems or subject is None or html is None or plain_text is None:
        raise Invalid(problems or [Problem("", "The email can't be made.")])
    subject, html, plain_text = (part.of_shop(shop) for part in (subject, html, plain_text))
    envelope = {name: part.of_shop(shop) for name, part in envelope.items()}
    attachments = tuple(
        {name: part.of_shop(shop) if isinstance(part, Compiled) else part for name, part in one.items()}
        for one in attachments
    )
    return CompiledEmail(subject, html, plain_text, regional(locale, country), envelope, attachments)


def _own_page(source: str, problems: list[Problem]) -> Compiled | None:
    """A page of HTML of one's own, its styles inlined; refused where it holds what no mail may."""
    try:
        too_much = problems_of_markup(source, True)
        if too_much:
            problems += [problem.at("html") for problem in too_much]
            return None
        tokens = Tokens()
        page = tokens.hide_in_html(source)
        problems += [problem.at("html") for problem in unsafe(page)]
        return None if problems else compile_template(tokens.show(_INLINER.inline(page)), True)
    except BadTemplate as error:
        problems.append(error.problem.at("html"))
    except (ValueError, css_inline.InlineError) as error:
        problems.append(Problem("html", f"The page can't be read: {error}."))
    return None


def _part(where: str, source: str, problems: list[Problem], html: bool = False) -> Compiled | None:
    try:
        made = compile_template(source, html)
    except BadTemplate as error:
        problems.append(error.problem.at(where))
        return None
    problems += [
        problem.at(where) for problem in unknown_fields(made) if all(problem.what != other.what for other in problems)
    ]
    return made


def _ending(locale: str, leaving: str, why: bool, letterhead: Letterhead) -> str:
    """What a plain text ends with: how to leave an optional mail, and where it says why the mail came."""
    left = f"\n\n{leave_text(leaving, letterhead.fixed_words)}" if leaving else ""
    return left + (f"\n\n{why_text(locale)}" if why else "")


def _ending_html(locale: str, leaving: str, why: bool, letterhead: Letterhead) -> str:
    parts = [leave_html(leaving, letterhead.fixed_words)] if leaving else []
    return " · ".join([*parts, why_html(locale)] if why else parts)


def _with_leaving(page: str, locale: str, leaving: str, why: bool, letterhead: Letterhead) -> str:
    """A page of one's own with the sentence about leaving at its end, where it is an optional mail's, and the link to
    why it came.
    """
    leaving, why = "" if LINK in page else leaving, why and WHY not in page
    ending = _ending_html(locale, leaving, why, letterhead)
    if not ending:
        return page
    said = f'<p style="font-size:13px;color:#57606b">{ending}</p>'
    at = page.lower().rfind("</body>")
    return page[:at] + said + page[at:] if at >= 0 else page + said


def _sign_off(letterhead: Letterhead, store_name: str, left: str) -> str:
    signature = plain(letterhead.signature) + "\n\n" if letterhead.signature else ""
    return signature + "-- \n" + (letterhead.footer or store_name) + left


def _layout(
    text: EmailText,
    letterhead: Letterhead,
    store_name: str,
    locale: str,
    problems: list[Problem],
    leaving: str,
    why: bool,
) -> str:
    """The whole page as an HTML template, styles inlined; with the sentence about leaving in the language `leaving`."""
    tokens = Tokens()
    sections = _sections(text, tokens, locale, letterhead, problems)
    made = {}
    for where, source in (
        ("preheader", text.preheader),
        ("letterhead.header", letterhead.header or store_name),
        ("letterhead.logo_alt", letterhead.logo_alt or store_name),
    ):
        try:
            made[where] = html_module.escape(tokens.hide(source))
        except BadTemplate as error:
            problems.append(error.problem.at(where))
    for where, source in (
        ("letterhead.signature", letterhead.signature),
        ("letterhead.footer", letterhead.footer or store_name),
    ):
        try:
            made[where] = rich(source, tokens)
        except BadTemplate as error:
            problems.append(error.problem.at(where))
    logo = ""
    if letterhead.logo:
        try:
            logo = picture(letterhead.logo, tokens)
        except BadTemplate as error:
            problems.append(error.problem.at("letterhead.logo"))
    if problems:
        return ""
    start, way = sides(locale)[0], "rtl" if right_to_left(locale) else "ltr"
    head = (
        f'<mj-text css-class="accent" color="{letterhead.accent}" font-size="14px" font-weight="700" '
        f'letter-spacing="0.06em">{made["letterhead.header"]}</mj-text>'
    )
    if letterhead.logo:
        head = (
            f'<mj-image align="{start}" src="{logo}" alt="{made["letterhead.logo_alt"]}" '
            f'width="{letterhead.logo_width}px" />'
        ) + (head if letterhead.header else "")
    signature = f'<mj-text css-class="ink">{made["letterhead.signature"]}</mj-text>' if letterhead.signature else ""
    ending = _ending_html(locale, leaving, why, letterhead)
    left = (
        f'<mj-text css-class="quiet" color="#57606b" font-size="13px" padding="0 24px 14px">{ending}</mj-text>'
        if ending
        else ""
    )
    section = f'<mj-section css-class="paper" background-color="{letterhead.body}"'
    source = (
        f'<mjml lang="{html_module.escape(locale)}" dir="{way}"><mj-head><mj-preview>{made["preheader"]}</mj-preview>'
        "<mj-attributes>"
        f'<mj-all font-family="{FONTS[letterhead.font]}" /><mj-section direction="{way}" />'
        f'<mj-column direction="{way}" />'
        f'<mj-text align="{start}" font-size="16px" line-height="1.5" color="{letterhead.ink}" padding="6px 24px" />'
        f'<mj-table align="{start}" font-size="15px" line-height="1.4" color="{letterhead.ink}" padding="6px 24px" />'
        '<mj-button padding="10px 24px 16px" font-size="16px" />'
        f'<mj-divider padding="10px 24px" /><mj-image padding="8px 24px" /></mj-attributes>'
        f"<mj-style>{_DARK_STYLE}</mj-style></mj-head>"
        f'<mj-body css-class="ground" background-color="{letterhead.page}" width="600px">'
        f'{section} border-top="3px solid {letterhead.accent}" padding="14px 0 4px">'
        f"<mj-column>{head}</mj-column></mj-section>"
        f"{sections}"
        f'{section} padding="0 0 16px"><mj-column>{signature or SPACER}</mj-column></mj-section>'
        f'<mj-section padding="0 0 20px"><mj-column>'
        f'<mj-text css-class="quiet" color="#57606b" font-size="13px" padding="14px 24px">{made["letterhead.footer"]}'
        f"</mj-text>{left}</mj-column></mj-section>"
        "</mj-body></mjml>"
    )
    return _page(source, text, tokens, problems)


def _sections(text: EmailText, tokens: Tokens, locale: str, letterhead: Letterhead, problems: list[Problem]) -> str:
    """The blocks as sections: what follows one another in one column stands in one section, two columns in one of their
    own.
    """
    made, column = "", ""

    def close() -> str:
        return (
            (
                f'<mj-section css-class="paper" background-color="{letterhead.body}" '
                f'padding="0"><mj-column>{column}</mj-column></mj-section>'
            )
            if column
            else ""
        )

    for number, block in enumerate(text.blocks):
        try:
            if isinstance(block, Columns):
                made, column = made + close() + columns_mjml(block, tokens, locale, letterhead), ""
            else:
                column += block_mjml(block, tokens, locale, letterhead)
        except BadTemplate as error:
            problems.append(error.problem.at(f"blocks.{number}"))
    return made + close()


def _page(source: str, text: EmailText, tokens: Tokens, problems: list[Problem]) -> str:
    """MJML as HTML with its Jinja parts back in their places; empty, with problems, where that can't be had."""
    too_much = [
        problem.at(where)
        for where, block in text.pieces()
        if block.kind == "mjml"
        for problem in problems_of_markup(block.mjml, False)
    ]
    too_much = too_much or [problem.at("blocks") for problem in problems_of_markup(source, False)]
    if too_much:
        problems += too_much
        return ""
    try:
        page = _INLINER.inline(_FETCHED.sub("", mjml.mjml2html(source)))
    except (ValueError, css_inline.InlineError) as error:
        for where, block in text.pieces():
            if block.kind == "mjml":
                problems.append(Problem(where, f"The MJML can't be read: {error}.", "Check that every tag is closed."))
        if not problems:
            problems.append(Problem("blocks", f"The blocks can't be laid out: {error}."))
        return ""
    lost = tokens.lost(source, page)
    if lost:
        problems.append(
            Problem(
                "blocks",
                f"“{lost[0]}” stands where a mail keeps no text, so it would be lost or moved.",
                "Put it inside mj-text, or as a comment in mj-raw.",
            )
        )
        return ""
    for where, block in text.pieces():
        if block.kind == "mjml":
            problems += [problem.at(where) for problem in unsafe(block.mjml)]
    return "" if problems else tokens.show(page)
