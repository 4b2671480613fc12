"""Mails that are deliveries of a source: set up, and tried with a mail."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from flask import flash, redirect, render_template, request, url_for

from angelon.core.mails_in import MOST_BYTES, ReadMail, read_mail
from angelon.core.payload.body import NotReadable
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.mail_in import MailIn
from angelon.db.log import events
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.mails_in import shelf_of
from angelon.engine.operations import sources as operations
from angelon.engine.unit import found
from angelon.web.conflicts import edits_seen
from angelon.web.forms import LINES, TEXT, WORDS, Spelling
from angelon.web.services import services, session, store_id, work

BLANK: dict[str, Any] = {"address": "", "senders": [], "patterns": [], "on": True}
FIELDS: dict[str, Spelling] = {"address": TEXT, "senders": WORDS, "patterns": LINES}
SAMPLE = """From: Payments <notices@pay.example>
Subject: Refund of order BK-2050

We have refunded EUR 12.00 for order BK-2050.
"""


def page(
    source: Source,
    source_id: int,
    spec: dict[str, Any] | None = None,
    problems: Sequence[Problem] = (),
    tried: ReadMail | None = None,
    refused: str = "",
) -> Any:
    """The page; `spec` is what was typed where it is not saved, `tried` what a mail would be read as."""
    row = found(specs.by_key(session(), SourceRow, store_id(), source.key), "source")
    saved = source.mail.model_dump(mode="json") if source.mail is not None else BLANK
    return render_template(
        "sources/mail.html",
        source=source,
        spec=spec or saved,
        edits=request.form.get("edits", row.edits),
        problems=problems,
        tried=json.dumps(tried.payload, ensure_ascii=False, indent=2) if tried is not None else "",
        left_out=tried.problems if tried is not None else (),
        refused=refused,
        mail=request.form.get("mail", SAMPLE),
        listens=services().settings.returns,
        shelf=shelf_of(source.key),
        latest=events.recent(session(), source_id, 1),
    )


def save(source: Source, source_id: int) -> Any:
    """Keeps what was typed, or only tries it on a mail."""
    form = request.form
    spec: dict[str, Any] = {name: spelling.read(form.get(name, "")) for name, spelling in FIELDS.items()}
    spec["on"] = form.get("on") == "yes"
    try:
        made = read_spec(MailIn, spec)
        if form.get("act") == "try":
            return _tried(source, source_id, spec, made)
        _refuse_taken(source, made)
        whole = source.model_dump(mode="json") | {"mail": made.model_dump(mode="json")}
        with work() as unit:
            operations.save(unit, read_spec(Source, whole), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return page(source, source_id, spec, error.problems), 422
    flash("Saved. Mails to this address are deliveries from now on.", "good")
    return redirect(url_for(".mails", key=source.key))


def _refuse_taken(source: Source, made: MailIn) -> None:
    """Raises Invalid where mails at this address are another source's."""
    setups = services().setups
    for store in setups.ids():
        for other in setups.get(store).setup.sources.values():
            if other.key != source.key and other.mail is not None and other.mail.address == made.address:
                theirs = other.name if store == store_id() else "another store"
                what = f"Mails at {made.address} are those of {theirs}."
                raise Invalid([Problem("address", what, "Choose another address.")])


def _tried(source: Source, source_id: int, spec: dict[str, Any], made: MailIn) -> Any:
    file = request.files.get("file")
    data = file.read(MOST_BYTES + 1) if file is not None and file.filename else request.form.get("mail", "").encode()
    try:
        return page(source, source_id, spec, (), read_mail(made, data))
    except NotReadable as error:
        return page(source, source_id, spec, refused=error.problem.what)


def sample(source: Source, source_id: int) -> Any:
    """Keeps a mail as a sample, to be mapped."""
    if source.mail is None:
        raise Invalid([Problem("mail", "Mails are not set up yet.", "Save how they are read first.")])
    try:
        read = read_mail(source.mail, request.form.get("mail", "").encode())
    except NotReadable as error:
        flash(f"Not kept: {error.problem.what}", "bad")
        return redirect(url_for(".mails", key=source.key))
    body = json.dumps(read.payload, ensure_ascii=False).encode("utf-8", "replace")
    with work() as unit:
        id_ = operations.add_sample(unit, source.key, "", {"content-type": "application/json"}, body)
    flash("Kept as a sample: nobody is written to about it. Say where the order's parts are.", "good")
    return redirect(url_for("mappings.read", key=source.key, sample=id_))
