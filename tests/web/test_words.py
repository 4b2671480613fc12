"""What people read (pages, guide, messages of commands and errors) has no figures of speech: a list of banned turns."""

import ast
import functools
import re
from pathlib import Path

import pytest

import angelon

ROOT = Path(angelon.__file__).parent
BANNED = {
    r"\bbecame of\b": "outcome, delivery report",
    r"\btells? of\b": "reports",
    r"\b(it|they|there|what|code|answer|name|value|key|signature|list|field)s? stands?\b(?!-)": "is",
    r"\bas it stands\b": "current",
    r"\bspeaks?\b|\bspoken\b": "sends, uses",
    r"\bsaid no\b|\bsays no\b": "condition not met",
    r"\bmeans nothing\b": "is not mapped",
    r"\bby itself\b": "automatically",
    r"\bgive[ns]? up\b|\bgave up\b": "fails",
    r"\bworked out\b": "evaluated",
    r"\bcomes? out\b|\bcame out\b": "result",
    r"\bat hand\b": "available",
    r"\bdrop the draft\b": "discard the draft",
    r"\bplan(ned)? again\b": "process again",
    r"\bhands? over a\b": "send",
    r"\bwatcher\b": "viewer",
    r"\bnews\b(?! of)": "message",
    r"\bMake the (owner|token|link)\b": "Create",
    r"\btake it off\b": "remove",
    r"\bfigure it out\b": "find",
    r"\b(to|would|does|did|may|can) stand (in|at)\b": "be in",
    r"\b(is|be|are) good for\b": "expires after",
    r"\bwhoever\b": "anyone who",
    r"\b[Mm]end(ed|s|ing)?\b": "fix, correct",
    r"\bnobody (is told|hears)\b": "no message is sent",
    r"\bhears? (of|nothing)\b": "gets a message about",
    r"\bwell again\b": "works again",
    r"\btaken back\b": "credited, withdrawn",
    r"\b(mapped|kept|needed|valid|sent) no more\b": "no longer",
    r"\bhowever far\b|\bhow far\b": "stage",
    r"\b[Nn]othing (was|is) told\b": "no update",
    r"\bcalls nobody\b": "without webhooks",
    r"\b[Nn]obody is named\b": "is not set",
}
NOT_READ = ("migrations", "words.yaml", "vendor")


@functools.cache
def _all_texts():
    return list(_texts())


def _texts():
    """(where, text) of what people read, docstrings and comments left out."""
    for file in sorted(ROOT.rglob("*.html")):
        page = re.sub(r"\{#.*?#\}|\{%.*?%\}|\{\{.*?\}\}", _strings, file.read_text(), flags=re.S)
        page = re.sub(r"<[^>]*>", _said_by_tag, page)
        yield file.name, re.sub(r"\s+", " ", page)
    for file in sorted((ROOT / "web" / "guide" / "pages").glob("*.md")):
        yield file.name, re.sub(r"\s+", " ", file.read_text())
    for file in sorted(ROOT.rglob("*.py")):
        if not any(part in str(file) for part in NOT_READ):
            yield from ((f"{file.name}:{line}", text) for line, text in _of_code(ast.parse(file.read_text())))


def _said_by_tag(tag):
    return " ".join(re.findall(r'(?:placeholder|title|label)="([^"]*)"', tag[0]))


def _strings(jinja):
    return " ".join(re.findall(r'"([^"]{12,})"', jinja[0]))


def _of_code(tree):
    """Sentences of a module: strings of three words and more that no statement stands alone with, and that no log
    takes.
    """
    alone = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    logged = {
        id(argument)
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and ast.unparse(node.func).startswith("log.")
        for argument in node.args
    }
    for node in ast.walk(tree):
        is_text = isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in alone | logged
        if is_text and len(node.value.split()) > 2 and "\n" not in node.value:
            yield node.lineno, node.value


@pytest.mark.parametrize("turn", BANNED)
def test_no_text_has_a_banned_turn(turn):
    pattern = re.compile(turn, re.I)
    found = [
        f"{where}: …{text[max(hit.start() - 40, 0) : hit.end() + 30]}…"
        for where, text in _all_texts()
        for hit in pattern.finditer(text)
    ]
    assert not found, f"say {BANNED[turn]}:\n" + "\n".join(found)
