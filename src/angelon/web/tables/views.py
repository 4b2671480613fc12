"""Tables of the shop's own: looked up in mappings, or given out row by row."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for

from angelon.core.problems import Invalid
from angelon.db.setup import shop_tables
from angelon.engine.exports.lines import AT_ONCE
from angelon.engine.operations import shop_tables as operations
from angelon.web.exporting import as_file
from angelon.web.numbers import whole
from angelon.web.services import actor, live, or_back, read_anew, services, session, store_id, work_or_back
from angelon.web.tables import fetching

pages = Blueprint("tables", __name__, url_prefix="/tables", template_folder="templates")

SHOWN, GIVEN = 50, 30


@pages.get("")
def index() -> Any:
    rows = shop_tables.of_store(session().connection(), store_id())
    counts = shop_tables.counts(session().connection(), [row.id for row in rows])
    return render_template(
        "tables/index.html",
        tables=[(row, *counts.get(row.id, (0, 0)), operations.uses(live(), row.key)) for row in rows],
        name=request.args.get("name", ""),
    )


def _file() -> tuple[str, bytes]:
    file = request.files.get("file")
    return (file.filename or "", file.read()) if file is not None and file.filename else ("", b"")


@pages.post("")
def create() -> Any:
    name, (file, data) = request.form.get("name", "").strip(), _file()
    with or_back(url_for(".index", name=name[:100])):
        key = operations.create(
            services().installation, store_id(), name, request.form.get("once") == "yes", file, data, actor()
        )
    read_anew()
    flash("The table is there. A mapping looks it up by the step “lookup”; a message can give out its rows.", "good")
    return redirect(url_for(".one", key=key))


def _table(key: str) -> Any:
    found = shop_tables.get(session().connection(), store_id(), key)
    if found is None:
        abort(404, f"There is no table “{key}”.")
    return found


@pages.get("/<key>")
def one(key: str) -> Any:
    table = _table(key)
    return _page(table, fetching.shown(table))


def _page(table: Any, fetched: dict[str, Any]) -> str:
    key, connection = table.key, session().connection()
    number, free = shop_tables.counts(connection, [table.id]).get(table.id, (0, 0))
    return render_template(
        "tables/one.html",
        table=table,
        rows=shop_tables.items(connection, table.id, table.version, limit=SHOWN) if not table.once else [],
        given=shop_tables.given(connection, table.id, GIVEN) if table.once else [],
        number=number,
        free=free,
        uses=operations.uses(live(), key),
        **fetched,
    )


@pages.post("/<key>/fetch")
def fetch(key: str) -> Any:
    table = _table(key)
    return fetching.save(table, lambda fetched: _page(table, fetched))


@pages.get("/<key>/fetch")
def fetch_form(key: str) -> Any:
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/fetch/now")
def fetch_now(key: str) -> Any:
    return fetching.now(_table(key))


@pages.post("/<key>")
def replace(key: str) -> Any:
    """Another content for a table, or more rows."""
    file, data = _file()
    back = redirect(url_for(".one", key=key))
    try:
        changes = operations.replace(services().installation, store_id(), key, file, data, actor())
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return back
    read_anew()
    flash(f"The table holds the new rows: {changes}.", "good")
    return back


@pages.post("/<key>/low")
def low(key: str) -> Any:
    number = whole(request.form.get("low"), 1_000_000)
    with work_or_back(url_for(".one", key=key)) as unit:
        operations.set_low(unit, key, -1 if number is None else number)
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with or_back(url_for(".one", key=key)):
        operations.delete(services().installation, store_id(), key, actor())
    read_anew()
    flash("The table is deleted.", "good")
    return redirect(url_for(".index"))


@pages.post("/<key>/empty")
def empty(key: str) -> Any:
    operations.remove_free(services().installation, store_id(), key, actor())
    read_anew()
    flash("The rows that nobody was given are removed.", "good")
    return redirect(url_for(".one", key=key))


@pages.get("/<key>.csv")
def as_csv(key: str) -> Any:
    """The whole table as a file that can be uploaded again."""
    table = _table(key)
    columns = [*table.columns, *(["given_to"] if table.once else [])]
    return as_file(key, "csv", columns, _parts(table))


def _parts(table: Any) -> Iterator[Sequence[Mapping[str, Any]]]:
    after, database = 0, services().database
    while True:
        with database.reading() as reading:
            found = shop_tables.items(reading.connection(), table.id, table.version, after, AT_ONCE)
        if not found:
            return
        after = found[-1].id
        yield list(operations.rows_out(table, found))
