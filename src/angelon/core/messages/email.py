"""An email compiled once and rendered many times."""

from __future__ import annotations

import html as html_module
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

import css_inline
import mjml

from angelon.core.messages.blocks import Tokens, block_mjml, block_text, rich, text_of
from angelon.core.messages.templates import BadTemplate, CantRender, Compiled, compile_template
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.message import EmailText
from angelon.core.specs.store import Letterhead, Store
from angelon.core.values import Value, regional

MAX_HTML = 1_000_000

# Nothing is fetched while styles are inlined: a mail is made of what it holds.
_INLINER = css_inline.CSSInliner(keep_style_tags=True, keep_link_tags=True, load_remote_stylesheets=False)
FONTS = "'Helvetica Neue', Helvetica, Arial, sans-serif"


@dataclass(frozen=True, slots=True)
class RenderedEmail:
    """An email as it goes out. `subject` is one line."""

    subject: str
    html: str
    text: str
    locale: str = "en"


@dataclass(frozen=True, slots=True)
class CompiledEmail:
    subject: Compiled
    html: Compiled
    text: Compiled
    locale: str
    """How values are shown: the variant's language with the shop's regional habits, where CLDR knows them."""

    @property
    def names(self) -> frozenset[str]:
        """The variables that it uses; `order` is the order as read."""
        return self.subject.names | self.html.names | self.text.names

    def render(self, values: Mapping[str, Value]) -> RenderedEmail:
        """The email for these values. Raises CantRender, its problem saying which part."""
        made = {}
        for part, template in (("subject", self.subject), ("html", self.html), ("text", self.text)):
            try:
                made[part] = template.render(values, self.locale, MAX_HTML)
            except CantRender as error:
                raise CantRender(error.problem.at(part)) from None
        return RenderedEmail(one_line(made["subject"]), made["html"], _tidy(made["text"]), self.locale)


def one_line(text: str) -> str:
    """A text fit for a header: every run of white space and control characters is one space; at most 500 characters."""
    return re.sub(r"[\s\x00-\x1f\x7f\u2028\u2029]+", " ", text).strip()[:500]


def _tidy(text: str) -> str:
    return re.sub(r"\n{3,}", "\n\n", "\n".join(line.rstrip() for line in text.split("\n"))).strip() + "\n"


def compile_email(text: EmailText, store: Store, locale: str) -> CompiledEmail:
    """Compiles one locale's email under a store's letterhead.

    Raises Invalid with every problem, `where` naming the part: `subject`, `blocks.3`, `html`.
    """
    key = json.dumps([text.model_dump(mode="json"), store.letterhead.model_dump(mode="json"), store.name, store.country, locale], sort_keys=True)
    return _compiled(key)


@lru_cache(maxsize=512)
def _compiled(key: str) -> CompiledEmail:
    spec, letterhead_spec, store_name, country, locale = json.loads(key)
    text, letterhead = EmailText.model_validate(spec), Letterhead.model_validate(letterhead_spec)
    problems: list[Problem] = []
    prefix = f"{letterhead.subject_prefix} " if letterhead.subject_prefix else ""
    subject = _part("subject", prefix + text.subject, problems)
    html = _part("html", text.html, problems, True) if text.html else None
    if html is None:
        source = _layout(text, letterhead, store_name, locale, problems)
        if not problems:
            html = _part("blocks", source, problems, True)
    else:
        try:
            tokens = Tokens()
            html = compile_template(tokens.show(_INLINER.inline(tokens.hide_in_html(text.html))), True)
        except (BadTemplate, ValueError, css_inline.InlineError) as error:
            problems.append(Problem("html", f"The page can't be read: {error}."))
    if text.text:
        plain = _part("text", text.text, problems)
    elif text.html:
        plain = None if problems else _part("html", text_of(text.html), problems)
    else:
        plain = None if problems else _part("blocks", "".join(block_text(b, locale) for b in text.blocks) + _sign_off(letterhead, store_name), problems)
    if problems or subject is None or html is None or plain is None:
        raise Invalid(problems or [Problem("", "The email can't be made.")])
    return CompiledEmail(subject, html, plain, regional(locale, country))


def _part(where: str, source: str, problems: list[Problem], html: bool = False) -> Compiled | None:
    try:
        return compile_template(source, html)
    except BadTemplate as error:
        problems.append(error.problem.at(where))
        return None


def _sign_off(letterhead: Letterhead, store_name: str) -> str:
    return "-- \n" + (letterhead.footer or store_name)


def _layout(text: EmailText, letterhead: Letterhead, store_name: str, locale: str, problems: list[Problem]) -> str:
    """The whole page as an HTML template, styles inlined."""
    tokens = Tokens()
    parts = []
    for number, block in enumerate(text.blocks):
        try:
            parts.append(block_mjml(block, tokens, locale, letterhead))
        except BadTemplate as error:
            problems.append(error.problem.at(f"blocks.{number}"))
    preheader = footer = ""
    try:
        preheader = html_module.escape(tokens.hide(text.preheader))
    except BadTemplate as error:
        problems.append(error.problem.at("preheader"))
    try:
        footer = rich(letterhead.footer or store_name, tokens)
    except BadTemplate as error:
        problems.append(error.problem.at("letterhead.footer"))
    if problems:
        return ""
    header = html_module.escape(letterhead.header or store_name)
    source = (
        f'<mjml lang="{html_module.escape(locale)}"><mj-head><mj-preview>{preheader}</mj-preview><mj-attributes>'
        f'<mj-all font-family="{FONTS}" /><mj-text font-size="16px" line-height="1.5" color="#1d232c" padding="6px 24px" />'
        f'<mj-table font-size="15px" line-height="1.4" color="#1d232c" padding="6px 24px" /><mj-button padding="10px 24px 16px" font-size="16px" />'
        f'<mj-divider padding="10px 24px" /><mj-image padding="8px 24px" /></mj-attributes></mj-head><mj-body background-color="#f4f1e9" width="600px">'
        f'<mj-section padding="20px 0 0"><mj-column background-color="#fffdf7" border-top="3px solid {letterhead.accent}" padding="14px 0 4px">'
        f'<mj-text color="{letterhead.accent}" font-size="14px" font-weight="700" letter-spacing="0.06em">{header}</mj-text></mj-column></mj-section>'
        f'<mj-section padding="0"><mj-column background-color="#fffdf7" padding="4px 0 16px">{"".join(parts)}</mj-column></mj-section>'
        f'<mj-section padding="0 0 20px"><mj-column><mj-text color="#57606b" font-size="13px" padding="14px 24px">{footer}</mj-text></mj-column></mj-section>'
        "</mj-body></mjml>"
    )
    try:
        page = _INLINER.inline(mjml.mjml2html(source))
    except (ValueError, css_inline.InlineError) as error:
        for number, block in enumerate(text.blocks):
            if block.kind == "mjml":
                problems.append(Problem(f"blocks.{number}", f"The MJML can't be read: {error}.", "Check that every tag is closed."))
        if not problems:
            problems.append(Problem("blocks", f"The blocks can't be laid out: {error}."))
        return ""
    lost = tokens.lost(source, page)
    if lost:
        problems.append(Problem("blocks", f"“{lost[0]}” stands where a mail keeps no text, so it would be lost or moved.", "Put it inside mj-text, or as a comment in mj-raw."))
        return ""
    return tokens.show(page)
