"""Files whose rows are orders: handed in, and looked at."""

from __future__ import annotations

from typing import Any

from flask import request

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db.log import imports
from angelon.engine.operations import imports as operations
from angelon.web.api.operation import Answer, operation
from angelon.web.services import actor, live, read_anew, services, session, store_id, work


@operation(
    "POST",
    "/sources/{source}/files",
    "events.write",
    "Hand in a file of orders",
    models.Import,
    status=202,
    raw=True,
    refusals=(404, 413, 422),
)
def hand_in(source: str) -> Any:
    """A table (CSV, spreadsheet) or a list (JSON, JSON Lines) whose rows are orders; how it is read is guessed, and is
    as the source's folder says where it has one. `name` is the file's; with `quiet=1` the orders are stored and nobody
    is told. It is imported in the background: ask for it by its id.
    """
    _known(source)
    name = request.args.get("name", "")[:200] or "file"
    data = request.get_data(cache=False)
    id_ = operations.keep(services().installation, store_id(), source, name, data, actor())
    folder = live().sources[source].folder
    with work() as unit:
        if folder is not None:
            operations.reform(unit, source, id_, folder.form)
        operations.start(unit, source, id_, request.args.get("quiet") == "1")
        unit.wake()
    read_anew()
    return Answer(_import(source, id_), status=202)


@operation("GET", "/sources/{source}/files/{id}", "events.read", "Read an import", models.Import, refusals=(404,))
def read_import(source: str, id: str) -> models.Import:
    """How far a file is imported, and which rows were not."""
    _known(source)
    return _import(source, int(id) if id.isdigit() and len(id) < 18 else 0)


def _known(source: str) -> None:
    if source not in live().sources:
        raise NotFound(f"There is no source “{source[:60]}”.")


def _import(source: str, id_: int) -> models.Import:
    row = imports.get(session().connection(), live().source_ids[source], id_)
    if row is None:
        raise NotFound("There is no such file.")
    wrong = [models.ImportedRow(row=number, problem=problem) for number, problem, _ in (row.errors or [])[:100]]
    return models.Import(
        id=row.id,
        name=row.name,
        state=row.state,
        rows=row.rows,
        new=row.new,
        failed=row.failed,
        problem=row.problem,
        not_imported=wrong,
    )
