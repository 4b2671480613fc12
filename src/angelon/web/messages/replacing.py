"""Find and replace in the texts of all messages: every place shown as it is and as it would be; kept as drafts."""

from __future__ import annotations

from typing import Any

from flask import flash, redirect, render_template, request, url_for
from markupsafe import Markup, escape

from angelon.core.messages.replacing import found, replaced
from angelon.engine.operations import messages as operations
from angelon.web.services import messages, work_or_back

AROUND = 60
"""Characters that are shown around a change."""


def page() -> Any:
    """The places that have the words."""
    words, instead, exact = _asked(request.args)
    rows = (
        [(row, one) for row in messages() for one in found(row.spec, words, instead, not exact)]
        if words.strip()
        else []
    )
    return render_template(
        "messages/replace.html",
        words=words,
        instead=instead,
        exact=exact,
        rows=[(row, one, _shown(one.was, one.now), _shown(one.now, one.was)) for row, one in rows],
        messages=len({row.key for row, _ in rows}),
    )


def save() -> Any:
    """Replaces the words in the places that are ticked, in each message's draft."""
    words, instead, exact = _asked(request.form)
    ticked: dict[str, set[str]] = {}
    for one in request.form.getlist("at"):
        key, _, place = one.partition("|")
        ticked.setdefault(key, set()).add(place)
    back = url_for(".replace_page", words=words, instead=instead, exact="1" if exact else None)
    done = []
    with work_or_back(back, "Nothing was replaced") as unit:
        for row in messages():
            if row.key in ticked:
                operations.save_draft(unit, replaced(row.spec, words, instead, ticked[row.key], not exact), None, None)
                done.append(row.spec.name)
    if not done:
        flash("Nothing is ticked.", "bad")
        return redirect(back)
    flash(f"Replaced in the drafts of {', '.join(done)}. Publish each to send the new text.", "good")
    return redirect(url_for(".index", state="waiting"))


def _asked(given: Any) -> tuple[str, str, bool]:
    return given.get("words", "")[:200], given.get("instead", "")[:500], bool(given.get("exact"))


def _shown(text: str, other: str) -> Markup:
    """A text around its first difference from another, with the part that differs marked."""
    start = next((n for n, (a, b) in enumerate(zip(text, other, strict=False)) if a != b), min(len(text), len(other)))
    tail = next(
        (n for n, (a, b) in enumerate(zip(reversed(text[start:]), reversed(other[start:]), strict=False)) if a != b),
        min(len(text), len(other)) - start,
    )
    end = max(start, len(text) - tail)
    before, after = text[max(0, start - AROUND) : start], text[end : end + AROUND]
    dots = "…" if start > AROUND else "", "…" if len(text) - end > AROUND else ""
    return (
        escape(dots[0] + before)
        + Markup("<mark>")
        + escape(text[start:end])
        + Markup("</mark>")
        + escape(after + dots[1])
    )
