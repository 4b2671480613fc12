"""Jinja in a small, safe form: variables, conditions, loops over lists, a fixed set of filters. Nothing can run long.

A template has no calls, macros, includes or assignments; its loops count against one budget and its output against
another. What a payload's author put into a value can't change the template, since values are never compiled, and in
HTML every value is escaped.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import lru_cache
from typing import Any, Literal, NoReturn
from urllib.parse import quote

import orjson
from inscriptis import get_text
from jinja2 import StrictUndefined, Template, TemplateError, TemplateSyntaxError, nodes, pass_context
from jinja2.exceptions import SecurityError, UndefinedError
from jinja2.meta import find_undeclared_variables
from jinja2.runtime import Context as JinjaContext
from jinja2.runtime import LoopContext
from jinja2.sandbox import ImmutableSandboxedEnvironment
from markupsafe import Markup, escape

from angelon.core.direction import isolated
from angelon.core.markup.cleaning import fragment
from angelon.core.problems import Invalid, Problem
from angelon.core.values import Day, Money, Value, number_of, show

MAX_SOURCE = 300_000
MAX_OUTPUT = 1_000_000
MAX_ROUNDS = 20_000

_ALLOWED = (
    nodes.Template,
    nodes.Output,
    nodes.TemplateData,
    nodes.For,
    nodes.If,
    nodes.CondExpr,
    nodes.Name,
    nodes.Getattr,
    nodes.Getitem,
    nodes.Const,
    nodes.Filter,
    nodes.Test,
    nodes.Compare,
    nodes.Operand,
    nodes.And,
    nodes.Or,
    nodes.Not,
    nodes.Add,
    nodes.Sub,
    nodes.Mul,
    nodes.Div,
    nodes.Neg,
    nodes.Concat,
    nodes.Keyword,
    nodes.Tuple,
    nodes.List,
    nodes.Slice,
)
_NAMED = {
    nodes.Call: "calls a function; only variables, filters and conditions are known here",
    nodes.Macro: "defines a macro, which messages don't have",
    nodes.CallBlock: "calls a macro, which messages don't have",
    nodes.Include: "includes another template, which messages don't have",
    nodes.Import: "imports another template, which messages don't have",
    nodes.FromImport: "imports another template, which messages don't have",
    nodes.Extends: "extends another template, which messages don't have",
    nodes.Block: "defines a block, which messages don't have",
    nodes.Assign: "sets a variable; make it a variable of the source instead",
    nodes.AssignBlock: "sets a variable; make it a variable of the source instead",
}


class BadTemplate(ValueError):
    """A template that can't be used. `line` counts from 1."""

    def __init__(self, what: str, line: int | None = 1, hint: str = "") -> None:
        super().__init__(what)
        line = self.line = line or 1  # nodes that Jinja makes itself have none
        self.problem = Problem("", f"Line {line}: {what}" if line > 1 else what[:1].upper() + what[1:], hint)


class CantRender(ValueError):
    """A template that is sound but can't be filled with these values."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(str(problem))
        self.problem = problem


class _Hole(Exception):
    """A value that is missing where the text shows it."""


Holes = Literal["allow", "mark", "refuse"]
"""What becomes of a missing value that stands bare in a text: nothing, its name in ⟨ ⟩, or no text at all."""


class _AsItIs(str):
    """A value inside a tag or an address, where a sign of direction would be part of it."""


@pass_context
def _filter_shown(context: JinjaContext, value: Any, name: str, bare: bool = False) -> Any:
    """What is put into the text at one place. `default` and conditions are the author's word that it may be missing.
    `bare` is one inside a tag or an address.
    """
    if value is not None:
        return _AsItIs(show(value, _locale(context))) if bare and not hasattr(value, "__html__") else value
    holes = context.resolve("$holes")
    if holes == "refuse":
        raise _Hole(name)
    return f"⟨{name}⟩" if holes == "mark" else ""


@pass_context
def _filter_beside(context: JinjaContext, value: Any, name: str) -> str:
    """One of several values that are put side by side with ~, as it is shown."""
    return show(_filter_shown(context, value, name), _locale(context))


class _Budget:
    __slots__ = ("left",)

    def __init__(self) -> None:
        self.left = MAX_ROUNDS

    def spend(self) -> None:
        self.left -= 1
        if self.left < 0:
            raise SecurityError(f"it loops more than {MAX_ROUNDS:,} times")


def _locale(context: JinjaContext) -> str:
    return str(context.parent["$locale"])


@pass_context
def _bounded(context: JinjaContext, items: Any) -> Iterable[Any]:
    budget: Any = context.resolve("$budget")
    if isinstance(items, str) or not isinstance(items, Iterable):
        raise SecurityError("a loop goes over a list, and this is none")
    for item in items:
        budget.spend()
        yield item


@pass_context
def _finalize(context: JinjaContext, value: Any) -> Any:
    if type(value) is not str:
        if isinstance(value, _AsItIs) or hasattr(value, "__html__"):
            return value
        value = show(value, _locale(context))
    return _in_its_direction(context, value)


def _in_its_direction(context: JinjaContext, text: str) -> str:
    return isolated(text, _locale(context)) if context.parent["$isolate"] is True else text


def _filter_default(value: Value, otherwise: Value = "") -> Value:
    return otherwise if value is None or value == "" or isinstance(value, StrictUndefined) else value


def _filter_date(value: Value, format: str = "long") -> Value:
    import datetime as dt

    if isinstance(value, Day):
        inner = value.value
        plain = format in ("day", "short", "medium", "long", "full") and isinstance(inner, dt.datetime)
        return Day(inner.date() if plain and isinstance(inner, dt.datetime) else inner, format)
    return value


def _filter_web_address(value: Value) -> str:
    text = show(value).strip()
    if text.lower().startswith(("https://", "http://", "mailto:", "tel:")) and not any(c.isspace() for c in text):
        return text
    raise SecurityError(f"a link has to be a web address, and this is “{text[:60]}”")


@pass_context
def _filter_join(context: JinjaContext, value: Any, separator: str = ", ") -> str | None:
    if value is None:
        return None
    if not isinstance(value, list | tuple):
        return show(value, _locale(context))
    return separator.join(show(item, _locale(context)) for item in value)


def _cased(how: str) -> Any:
    @pass_context
    def change(context: JinjaContext, value: Any) -> str | None:
        return None if value is None else str(getattr(show(value, _locale(context)), how)())

    return change


def _filter_length(value: Any) -> int:
    return len(value) if isinstance(value, str | list | tuple | dict) else 0


def _filter_round(value: Any, digits: int = 0) -> Any:
    number = number_of(value)
    if number is None or not 0 <= digits <= 10:
        raise SecurityError("round takes a number")
    return round(number, digits)


def _filter_replace(value: Any, old: str, new: str) -> str | None:
    if value is None:
        return None
    text = show(value)
    if len(new) * (text.count(old) + 1) + len(text) > MAX_OUTPUT:
        raise SecurityError("the text becomes too long")
    return text.replace(old, new)


@pass_context
def _filter_breaks(context: JinjaContext, value: Any) -> Markup | None:
    return (
        None
        if value is None
        else Markup("<br />").join(
            escape(_in_its_direction(context, line)) for line in show(value, _locale(context)).splitlines()
        )
    )


@pass_context
def _filter_html(context: JinjaContext, value: Any) -> Markup | str | None:
    """HTML that somebody else made, such as a look-up's answer: in a mail as it is, without what no mail may hold; in a
    text its text.
    """
    if value is None:
        return None
    try:
        made = fragment(show(value, _locale(context)))
    except Invalid as error:
        raise SecurityError(error.problems[0].what) from None
    return Markup(made) if context.eval_ctx.autoescape else get_text(made).strip()  # noqa: S704 - it is cleaned


@pass_context
def _filter_json(context: JinjaContext, value: Any) -> Markup:
    """A value as JSON, safe inside a JSON text; not for HTML."""
    plain = (
        value
        if value is None or isinstance(value, str | int | float | bool | list | dict)
        else show(value, _locale(context))
    )
    return Markup(_json_text(plain))  # noqa: S704 - JSON goes into bodies of requests, never into a page


def _filter_plain(value: Any) -> Any:
    """A value as a program reads it: an amount without its currency and a number as `135.50`, a day or moment as
    ISO 8601; lists likewise. Others as they are.
    """
    if isinstance(value, Money):
        return f"{value.amount:f}"
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, Day):
        return value.value.isoformat()
    if isinstance(value, dt.date):
        return value.isoformat()
    if isinstance(value, list):
        return [_filter_plain(item) for item in value]
    return {name: _filter_plain(inner) for name, inner in value.items()} if isinstance(value, dict) else value


def _json_text(plain: Any) -> str:
    try:
        return orjson.dumps(plain, default=show).decode()
    except TypeError:  # a number of over 64 bits
        return json.dumps(plain, default=show, ensure_ascii=False)


OWN_FILTERS = frozenset({"web_address", "breaks", "json"})
FILTERS: dict[str, Any] = {
    "breaks": _filter_breaks,
    "html": _filter_html,
    "json": _filter_json,
    "date": _filter_date,
    "default": _filter_default,
    "first": lambda value: value[0] if value else None,
    "join": _filter_join,
    "last": lambda value: value[-1] if value else None,
    "length": _filter_length,
    "plain": _filter_plain,
    "lower": _cased("lower"),
    "replace": _filter_replace,
    "round": _filter_round,
    "title": _cased("title"),
    "trim": _cased("strip"),
    "upper": _cased("upper"),
    "urlencode": lambda value: None if value is None else quote(show(value), safe=""),
    "web_address": _filter_web_address,
}
"""The filters a message may use, besides those that the product adds itself."""


class _Environment(ImmutableSandboxedEnvironment):
    intercepted_binops = frozenset({"*", "+", "-", "/", "//", "%", "**"})

    def __init__(self, autoescape: bool) -> None:
        super().__init__(
            autoescape=autoescape,
            undefined=StrictUndefined,
            finalize=_finalize,
            keep_trailing_newline=True,
            cache_size=0,
        )
        self.globals.clear()
        self.filters.clear()
        self.filters.update(FILTERS, _bounded=_bounded, _shown=_filter_shown, _beside=_filter_beside)

    def getattr(self, obj: Any, attribute: str) -> Any:
        """A field of a value, never a method of the object that holds it."""
        if isinstance(obj, Mapping):
            return obj[attribute] if attribute in obj else self.undefined(obj=obj, name=attribute)
        if isinstance(obj, Money) and attribute in ("amount", "currency"):
            return obj.amount if attribute == "amount" else obj.currency
        return (
            super().getattr(obj, attribute)
            if isinstance(obj, LoopContext)
            else self.undefined(f"it has no field “{attribute}”")
        )

    def getitem(self, obj: Any, argument: Any) -> Any:
        if isinstance(obj, list | tuple | str) and isinstance(argument, int | slice) and not isinstance(argument, bool):
            try:
                return obj[argument]
            except IndexError:
                return self.undefined(f"it has no item {argument}")
        return (
            self.getattr(obj, argument)
            if isinstance(argument, str)
            else self.undefined(f"it has no item {str(argument)[:40]}")
        )

    def call_binop(self, context: JinjaContext, operator: str, left: Any, right: Any) -> Any:
        a, b = number_of(left), number_of(right)
        if a is None or b is None or isinstance(left, str) or isinstance(right, str):
            raise SecurityError("only numbers can be calculated with; put texts side by side with ~")
        if operator == "/" and b == 0:
            raise SecurityError("nothing can be divided by 0")
        made = {"+": a.__add__, "-": a.__sub__, "*": a.__mul__}.get(operator, a.__truediv__)(b)
        money = left if isinstance(left, Money) else right if isinstance(right, Money) else None
        return Money(made, money.currency) if money else made


_HTML = _Environment(autoescape=True)
_TEXT = _Environment(autoescape=False)


class _Bound:
    """Walks a parsed template: refuses what is not allowed, and makes every loop count."""

    def __init__(self, html: bool) -> None:
        self._html = html
        self._before = ""
        """The text before, as far as it belongs to a tag or an address."""

    def visit(self, node: nodes.Node) -> None:
        if not isinstance(node, _ALLOWED):
            for kind, label in _NAMED.items():
                if isinstance(node, kind):
                    raise BadTemplate(f"the template {label}.", node.lineno)
            raise BadTemplate(
                f"the template uses {type(node).__name__.lower()}, which messages don't have.", node.lineno
            )
        if isinstance(node, nodes.Name) and node.name.startswith("_"):
            raise BadTemplate(f"“{node.name}” starts with an underscore; no variable does.", node.lineno)
        if isinstance(node, nodes.Getattr) and node.attr.startswith("_"):
            raise BadTemplate(f"“.{node.attr}” starts with an underscore; no field does.", node.lineno)
        if isinstance(node, nodes.Filter) and node.name not in FILTERS:
            raise BadTemplate(
                f"there is no filter “{node.name}”.",
                node.lineno,
                f"The filters are {', '.join(sorted(set(FILTERS) - OWN_FILTERS))}.",
            )
        if self._html and isinstance(node, nodes.Filter) and node.name == "json":
            raise BadTemplate(
                "the filter json is for requests; in a mail it would let a customer's own HTML through.",
                node.lineno,
                "Take it out: a value is shown as it reads.",
            )
        if isinstance(node, nodes.For) and node.recursive:
            raise BadTemplate("a loop can't call itself.", node.lineno)
        for child in node.iter_child_nodes():
            self.visit(child)
        if isinstance(node, nodes.Output):
            node.nodes = [self._part(part) for part in node.nodes]
        if isinstance(node, nodes.Concat):
            node.nodes = [_with_filter(part, "_beside") for part in node.nodes]
        if isinstance(node, nodes.For):
            node.iter = nodes.Filter(node.iter, "_bounded", [], [], None, None, lineno=node.lineno)

    def _part(self, part: nodes.Expr) -> nodes.Expr:
        """A part of the text, a value among them as one that is shown."""
        if not isinstance(part, nodes.TemplateData):
            return _with_filter(part, "_shown", _INSIDE.search(self._before) is not None)
        self._before = (self._before + part.data)[-5000:]
        return part


_INSIDE = re.compile(r"(<[a-z!][^<>]*|\b(https?://|mailto:|tel:|www\.)[^\s<>\"]*)\Z", re.I)
"""Text that ends within a tag or an address."""


def _with_filter(node: nodes.Expr, name: str, *more: bool) -> nodes.Filter:
    given: list[nodes.Expr] = [nodes.Const(one, lineno=node.lineno) for one in (_spelled(node), *more)]
    return nodes.Filter(node, name, given, [], None, None, lineno=node.lineno)


def _spelled(node: nodes.Node) -> str:
    """What an expression is about, as its author wrote it: `order.total`."""
    if isinstance(node, nodes.Name):
        return node.name
    if isinstance(node, nodes.Getattr):
        return f"{_spelled(node.node)}.{node.attr}"
    if isinstance(node, nodes.Getitem):
        return f"{_spelled(node.node)}[…]"
    if isinstance(node, nodes.Filter) and node.node is not None:
        return _spelled(node.node)
    inner = next((_spelled(child) for child in node.iter_child_nodes() if not isinstance(child, nodes.Const)), "")
    return inner or "a value"


def _fields_of(tree: nodes.Template, root: str) -> frozenset[str]:
    """The fields of one variable that a template looks at."""
    found = {
        node.attr
        for node in tree.find_all(nodes.Getattr)
        if isinstance(node.node, nodes.Name) and node.node.name == root
    }
    for node in tree.find_all(nodes.Getitem):
        if (
            isinstance(node.node, nodes.Name)
            and node.node.name == root
            and isinstance(node.arg, nodes.Const)
            and isinstance(node.arg.value, str)
        ):
            found.add(node.arg.value)
    return frozenset(found)


def _dotted(tree: nodes.Template, root: str) -> frozenset[str]:
    """The fields that are written `root.name`, rather than `root['name']`."""
    return frozenset(_field(node, root) for node in tree.find_all(nodes.Getattr)) - {""}


def _needed_of(node: nodes.Node, root: str, known: frozenset[str] = frozenset()) -> frozenset[str]:
    """The fields of one variable that a template can't do without: all but those that it looks at only where it has
    asked first whether they are there (`{% if order.tax %}{{ order.tax }}{% endif %}`).
    """
    if isinstance(node, nodes.If):
        asked, there = _asked(node.test, root, known)
        parts = [asked, *(_needed_of(child, root, known | there) for child in node.body)]
        parts += [_needed_of(child, root, known) for child in (*node.elif_, *node.else_)]
        return frozenset().union(*parts)
    if _field(node, root):
        return frozenset({_field(node, root)}) - known
    return frozenset().union(*(_needed_of(child, root, known) for child in node.iter_child_nodes()))


def _asked(test: nodes.Node, root: str, known: frozenset[str]) -> tuple[frozenset[str], frozenset[str]]:
    """What a condition itself can't do without, and which fields are there where it holds."""
    if isinstance(test, nodes.And):
        left, there = _asked(test.left, root, known)
        right, more = _asked(test.right, root, known | there)
        return left | right, there | more
    if isinstance(test, nodes.Not):
        return _asked(test.node, root, known)[0], frozenset()
    if isinstance(test, nodes.Test) and test.name == "defined" and _field(test.node, root):
        return frozenset(), frozenset()  # a field may be defined and None
    if _field(test, root):
        return frozenset(), frozenset({_field(test, root)})
    return _needed_of(test, root, known), frozenset()


def _field(node: nodes.Node, root: str) -> str:
    """The field's name where a node is `root.name`, else nothing."""
    if isinstance(node, nodes.Getattr) and isinstance(node.node, nodes.Name) and node.node.name == root:
        return str(node.attr)
    return ""


@dataclass(frozen=True, slots=True)
class Compiled:
    """A template ready to be filled. `names` are the variables that it uses, `order_fields` and `shop_fields` what it
    looks at of the order and of the shop, `needed_order_fields` those of the order that it does not ask for first.
    `shop` is what is known of the shop itself.
    """

    source: str
    template: Template
    names: frozenset[str]
    html: bool
    order_fields: frozenset[str] = frozenset()
    shop_fields: frozenset[str] = frozenset()
    shop: Mapping[str, Value] = field(default_factory=dict)
    needed_order_fields: frozenset[str] = frozenset()

    @property
    def shop_gaps(self) -> frozenset[str]:
        """What it looks at of the shop and is empty there."""
        return frozenset(name for name in self.shop_fields if self.shop.get(name) is None)

    def of_shop(self, shop: Mapping[str, Value]) -> Compiled:
        """The same template for a shop."""
        return replace(self, shop=shop) if self.shop_fields else self

    def render(
        self,
        values: Mapping[str, Value],
        locale: str = "en",
        limit: int = MAX_OUTPUT,
        holes: Holes = "allow",
        isolate: bool = False,
    ) -> str:
        """The text. Raises CantRender: a name without a value, a loop or output over its bound, a link that is none.

        `holes` says what becomes of a missing value that stands bare in the text; `isolate` that values written the
        other way than the language are isolated, in a text that people read.
        """
        own = {"$locale": locale, "$budget": _Budget(), "$holes": holes, "$isolate": isolate}
        scope = {"shop": self.shop, **values, **own}
        made: list[str] = []
        length = 0
        try:
            for chunk in self.template.root_render_func(self.template.new_context(scope)):
                length += len(chunk)
                if length > limit:
                    raise SecurityError(f"it makes more than {limit:,} characters")
                made.append(chunk)
        except _Hole as error:
            if str(error).startswith("shop."):
                raise CantRender(
                    Problem(
                        "", f"The shop has no {str(error)[5:]} yet, and the text shows it.", "Write it in Settings."
                    )
                ) from None
            raise CantRender(
                Problem(
                    "",
                    f"{error} has no value for this order, and the text shows it.",
                    "Map it, give it a fallback text, or show the block only if it has one.",
                )
            ) from None
        except UndefinedError as error:
            raise CantRender(
                Problem(
                    "",
                    f"The message uses something that has no value: {error.message}.",
                    "Map it, or take it out of the text.",
                )
            ) from None
        except SecurityError as error:
            raise CantRender(Problem("", f"The message can't be made: {error.message}.", "Change the text.")) from None
        except (
            TemplateError,
            ArithmeticError,
            ValueError,
            TypeError,
            LookupError,
            AttributeError,
            RecursionError,
            MemoryError,
        ) as error:
            raise CantRender(
                Problem("", f"The message can't be made: {str(error) or type(error).__name__}.", "Change the text.")
            ) from None
        return "".join(made)


@lru_cache(maxsize=2048)
def compile_template(source: str, html: bool = False) -> Compiled:
    """Compiles a template. Raises BadTemplate with the line and a plain sentence."""
    if len(source) > MAX_SOURCE:
        raise BadTemplate(f"the text is longer than {MAX_SOURCE:,} characters.")
    environment = _HTML if html else _TEXT
    try:
        tree = environment.parse(source)
        _Bound(html).visit(tree)
        names = frozenset(find_undeclared_variables(tree)) - {"loop", "shop"}
        order_fields, shop_fields = _fields_of(tree, "order"), _fields_of(tree, "shop")
        needed = _needed_of(tree, "order") | (order_fields - _dotted(tree, "order"))
        code = environment.compile(tree)
        template = Template.from_code(environment, code, environment.make_globals(None))
    except TemplateSyntaxError as error:
        _explain(error, source)
    except (RecursionError, SyntaxError, MemoryError):
        raise BadTemplate("the text nests too many conditions or loops.") from None
    return Compiled(source, template, names, html, order_fields, shop_fields, needed_order_fields=needed)


def _explain(error: TemplateSyntaxError, source: str) -> NoReturn:
    message = (error.message or "it can't be read").rstrip(".")
    plain = {
        "unexpected '}'": "a curly bracket is in a place where none belongs",
        "Unexpected end of template": "a condition or loop is opened and never closed",
        "expected token 'end of print statement'": "a variable's {{ }} holds more than one name",
        "expected token 'end of statement block'": "a {% %} holds something that does not belong there",
        "Encountered unknown tag": "a {% %} starts with a word that is not known here",
        "unexpected end of template": "a {{ or {% is opened and never closed",
        "Missing end of": "a comment {# is opened and never closed",
        "Expected an expression, got": "a {{ }} is empty",
        "No filter named": "it uses a filter that is not known here",
        "unexpected char": "it holds a character that does not belong inside {{ }}",
    }
    for start, label in plain.items():
        if message.startswith(start):
            raise BadTemplate(
                f"{label} ({message}).", error.lineno, "Choose the variable from the list again."
            ) from None
    raise BadTemplate(f"{message}.", error.lineno, "Choose the variable from the list again.") from None


def segments(source: str) -> list[tuple[bool, str]]:
    """A template as plain parts (False) and Jinja parts (True), in order; joined they are the source. It has to
    compile.
    """
    parts: list[tuple[bool, str]] = []
    inside = False
    held = ""
    for _, kind, text in _TEXT.lex(source):
        if kind in ("variable_begin", "block_begin", "comment_begin"):
            inside, held = True, text
        elif kind in ("variable_end", "block_end", "comment_end"):
            parts.append((True, held + text))
            inside = False
        elif inside:
            held += text
        elif text:
            parts.append((False, text))
    return parts


def one_line(text: str) -> str:
    """A text fit for a header: every run of white space and control characters is one space; at most 500 characters."""
    return re.sub(r"[\s\x00-\x1f\x7f\u2028\u2029]+", " ", text).strip()[:500]
