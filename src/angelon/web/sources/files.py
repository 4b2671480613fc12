"""Files whose rows are orders: uploaded, looked at row by row, taken; what came of each."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from typing import Any

from flask import abort, flash, redirect, render_template, request, url_for

from angelon.core.problems import Invalid, Problem
from angelon.core.sheets import read_rows, sheets_of
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.file_form import ENCODINGS, FileForm, Folder
from angelon.db.log import events, imports
from angelon.engine.arrivals import imported
from angelon.engine.operations import imports as operations
from angelon.engine.operations import sources as source_operations
from angelon.web.exporting import as_file
from angelon.web.forms import TEXT, filled
from angelon.web.numbers import whole
from angelon.web.services import actor, live, read_anew, services, session, store_id, work, work_or_back

LISTED = 30
FIELDS = dict.fromkeys(("format", "encoding", "delimiter", "sheet", "heading", "group_by", "items_at"), TEXT)
FORMATS = {"csv": "table as text (CSV)", "xlsx": "spreadsheet (.xlsx)", "json": "JSON", "jsonl": "JSON Lines"}
DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "vertical bar"}


def page(source: Source, source_id: int) -> Any:
    return render_template(
        "sources/files.html",
        source=source,
        rows=imports.of_source(session().connection(), source_id, LISTED),
        folder=services().settings.inbox_at / source.key,
        latest=events.recent(session(), source_id, 1),
    )


def upload(source: Source) -> Any:
    file = request.files.get("file")
    data = file.read() if file is not None and file.filename else b""
    name = (file.filename or "") if file is not None else ""
    back = url_for(".files_of", key=source.key)
    if not name:
        flash("Choose a file.", "bad")
        return redirect(back)
    try:
        id_ = operations.keep(services().installation, store_id(), source.key, name, data, actor())
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(back)
    return redirect(url_for(".one_file", key=source.key, import_id=id_))


def _row(source_id: int, import_id: int) -> Any:
    row = imports.get(session().connection(), source_id, import_id)
    if row is None:
        abort(404, "There is no such file any more.")
    return row


def one(source: Source, source_id: int, import_id: int) -> Any:
    """A file that was not taken yet: what it would bring; else how far it is, and what came of it."""
    row = _row(source_id, import_id)
    form = FileForm.model_validate(row.form)
    if row.state == imports.LOOKED_AT:
        return _look(source, row, form, form.model_dump(mode="json"))
    return render_template(
        "sources/file.html",
        source=source,
        row=row,
        form=form,
        formats=FORMATS,
        kept=bool(imports.kept(session().connection(), import_id)),
        latest=events.recent(session(), source_id, 1),
    )


def _look(
    source: Source, row: Any, form: FileForm | None, spec: dict[str, Any], problems: Sequence[Problem] = ()
) -> Any:
    """What a file would bring, read as `spec` says; where that can't be done, why."""
    data = imports.content(session().connection(), row.id)
    found, sheets, look = list(problems), list[str](), None
    try:
        if spec["format"] == "xlsx":
            sheets = sheets_of(data)
        if form is not None:
            look = operations.look(session(), live(), source, form, data)
    except Invalid as error:
        found += error.problems
    first = look.shown[0].row.payload if look is not None and look.shown else None
    answer = render_template(
        "sources/file_look.html",
        source=source,
        row=row,
        spec=spec,
        look=look,
        sheets=sheets,
        problems=found,
        first=json.dumps(first, ensure_ascii=False, indent=2)[:4000] if first is not None else "",
        formats=FORMATS,
        delimiters=DELIMITERS,
        encodings=ENCODINGS,
        latest=events.recent(session(), row.source_id, 1),
    )
    return answer, 422 if problems else 200


def change(source: Source, source_id: int, import_id: int) -> Any:
    """Reads a file in another way, takes it, stops it, takes it on, or forgets it."""
    row, act = _row(source_id, import_id), request.form.get("act", "")
    here = url_for(".one_file", key=source.key, import_id=import_id)
    if act == "read":
        return _read(source, row, here)
    if act == "sample":
        return _sample(source, row, here)
    with work_or_back(here) as unit:
        if act == "start":
            operations.start(unit, source.key, import_id, request.form.get("quiet") == "yes")
        elif act == "stop":
            operations.stop(unit, source.key, import_id)
        elif act == "go_on":
            operations.go_on(unit, source.key, import_id)
        elif act == "drop":
            operations.drop(unit, source.key, import_id)
            here = url_for(".files_of", key=source.key)
    return redirect(here)


def _read(source: Source, row: Any, here: str) -> Any:
    before = FileForm.model_validate(row.form)
    spec, problems = filled(request.form, before, FIELDS)
    spec["delimiter"] = {name: sign for sign, name in DELIMITERS.items()}.get(spec["delimiter"], spec["delimiter"])
    try:
        if problems:
            raise Invalid(problems)
        form = read_spec(FileForm, spec)
        with work() as unit:
            operations.reform(unit, source.key, row.id, form)
    except Invalid as error:
        return _look(source, row, None, spec, error.problems)
    return redirect(here)


def _sample(source: Source, row: Any, here: str) -> Any:
    """Keeps the first orders as samples, to be mapped."""
    data = imports.content(session().connection(), row.id)
    read_anew()
    id_ = ""
    with work_or_back(here, "Not kept") as unit:
        for number, one in enumerate(read_rows(FileForm.model_validate(row.form), io.BytesIO(data))):
            if number >= operations.SAMPLES:
                break
            if one.payload is not None:
                body = json.dumps(one.payload, ensure_ascii=False, default=str).encode("utf-8", "replace")
                headers = {"content-type": "application/json"}
                id_ = source_operations.add_sample(unit, source.key, "", headers, body)
    if not id_:
        flash("None of the first rows can be read.", "bad")
        return redirect(here)
    flash("Kept as samples: nobody is written to about them. Say where the order's parts are.", "good")
    return redirect(url_for("mappings.read", key=source.key, sample=id_))


def _content(row: Any) -> bytes:
    data = imports.content(session().connection(), row.id)
    if not data:
        abort(410, "The file itself is no longer kept.")
    return data


def wrong(source: Source, source_id: int, import_id: int) -> Any:
    """The rows that were not taken, with why, as a file to mend and upload again."""
    row = _row(source_id, import_id)
    form, data = FileForm.model_validate(row.form), _content(row)
    columns = [*imported.columns_of(form, data), "problem"]
    parts = imported.wrong_rows(form, data, row.errors or [])
    return as_file(f"not-imported-{row.id}", "csv", columns, ([_whole(one, columns) for one in part] for part in parts))


def told(source: Source, source_id: int, import_id: int) -> Any:
    """The rows with whether, when and by which messages each customer was told."""
    row = _row(source_id, import_id)
    form, data = FileForm.model_validate(row.form), _content(row)
    columns = [*imported.columns_of(form, data), *imported.OUTCOME]
    parts = imported.told(services().database, live(), source, form, data)
    return as_file(f"told-{row.id}", "csv", columns, ([_whole(one, columns) for one in part] for part in parts))


def _whole(row: dict[str, Any], columns: list[str]) -> dict[str, Any]:
    """A row with every column; what is no text is JSON."""
    cells = {name: row.get(name, "") for name in columns}
    return {n: json.dumps(v, ensure_ascii=False) if isinstance(v, dict | list) else v for n, v in cells.items()}


def save_folder(source: Source) -> Any:
    """Has files taken from the source's folder as a file was read that was taken; or no longer."""
    back = url_for(".files_of", key=source.key)
    form = request.form
    folder = None
    if form.get("on") == "yes":
        like = imports.get(session().connection(), live().source_ids[source.key], whole(form.get("like")) or 0)
        known = source.folder.form if source.folder is not None else FileForm()
        read = FileForm.model_validate(like.form) if like is not None else known
        folder = Folder(form=read, quiet=form.get("quiet") == "yes")
    with work_or_back(back) as unit:
        operations.take_from_folder(unit, source.key, folder)
    flash("Files put into its folder are imported." if folder else "Its folder is left alone.", "good")
    return redirect(back)
