"""Files that go with mails: shelves, what is kept on each, for which orders."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from flask import Blueprint, Response, abort, flash, jsonify, redirect, render_template, request, url_for

from angelon.core.messages.attachments import LibraryFile, detect_media_type, file_name
from angelon.core.specs.keys import key_of
from angelon.core.specs.message import FromLibrary
from angelon.db.setup import files
from angelon.engine.operations import files as operations
from angelon.web.listing import Choice, Sort, narrowed
from angelon.web.services import live, messages, session, store_id, work

pages = Blueprint("library", __name__, url_prefix="/files", template_folder="templates")

MOST = 10_000_000
SHOWN_INLINE = ("image/png", "image/jpeg", "image/gif", "image/webp")
BY = {"": "every order", "sku": "orders with the sku", "reference": "the order", "locale": "the language"}


@pages.get("")
def index() -> Any:
    shelves: dict[str, list[LibraryFile]] = {}
    found = narrowed(live().files, lambda f: f"{f.shelf} {f.name} {f.match}", _filters(live().files), _SORTS)
    for file in sorted(
        found.rows, key=(lambda f: f.shelf) if found.sort else (lambda f: (f.shelf, f.name, f.by, f.match))
    ):
        shelves.setdefault(file.shelf, []).append(file)
    uses: dict[str, dict[str, str]] = {}
    for row in messages():
        for message in (row.live, row.draft):
            for attachment in message.attachments if message is not None else ():
                if isinstance(attachment, FromLibrary):
                    uses.setdefault(attachment.shelf, {}).setdefault(row.key, row.spec.name)
    return render_template("library/index.html", list=found, shelves=shelves, by=BY, uses=uses)


def _filters(files: Sequence[LibraryFile]) -> dict[str, Choice]:
    def among(of: Callable[[LibraryFile], str]) -> list[str]:
        return sorted({of(file) for file in files})

    return {
        "shelf": Choice("Folder", [(name, name) for name in among(lambda f: f.shelf)], lambda f: [f.shelf]),
        "by": Choice("For", [(by, BY[by]) for by in among(lambda f: f.by)], lambda f: [f.by]),
        "type": Choice("Type", [(name, name) for name in among(lambda f: f.type)], lambda f: [f.type]),
    }


_SORTS = {"size": Sort("largest first", lambda one: one.size, largest_first=True)}

PICTURES = ("image/png", "image/jpeg", "image/gif")
"""What every mail program shows."""


@pages.post("/picture")
def upload_picture() -> Any:
    """A picture for a text, from the editor: kept in the folder “pictures”, for every order."""
    file = request.files.get("file")
    data = file.read(MOST + 1) if file is not None else b""
    found = detect_media_type(data) if data else ""
    if len(data) > MOST:
        return jsonify({"detail": f"The picture is larger than {MOST // 1_000_000} MB. Make it smaller."}), 413
    if file is None or found not in PICTURES:
        told = f"The file is {found or 'empty'} by its content. Use a PNG, JPEG or GIF, which every mail program shows."
        return jsonify({"detail": told}), 415
    kept = LibraryFile(0, "pictures", file_name(file.filename or "", "picture"), found, len(data))
    with work() as unit:
        operations.put(unit, kept, data)
    return jsonify({"picture": f"{kept.shelf}/{kept.name}"})


@pages.post("")
def upload() -> Any:
    """Puts a file on a shelf."""
    file, form = request.files.get("file"), request.form
    shelf = key_of(form.get("shelf") or "")
    by, match = form.get("by", ""), form.get("match", "").strip()[:200]
    problem = ""
    data = file.read(MOST + 1) if file is not None else b""
    if not data:
        problem = "Choose a file that is not empty."
    elif len(data) > MOST:
        problem = f"The file is larger than {MOST // 1_000_000} MB. Make it smaller, or let the mail point to it."
    elif not shelf:
        problem = "Name the folder, with at least one letter or digit."
    elif by not in BY or (by and not match):
        problem = "Say which sku, order number or language the file is for, or keep it for every order."
    if problem or file is None:
        flash(problem, "bad")
        return redirect(url_for(".index"))
    name = file_name(file.filename or "", "file")
    kept = LibraryFile(0, shelf, name, detect_media_type(data), len(data), by, match if by else "")  # type: ignore[arg-type]
    with work() as unit:
        operations.put(unit, kept, data)
    flash(f"“{name}” is in the folder {shelf}. By its content it is {kept.type}.", "good")
    return redirect(url_for(".index"))


@pages.get("/<int:file_id>")
def download(file_id: int) -> Any:
    row = files.get(session(), store_id(), file_id)
    if row is None:
        abort(404, "There is no such file.")
    return _answer(row.data, row.type, row.name, inline=False)


@pages.get("/shown/<path:path>")
def shown(path: str) -> Any:
    """A picture that a mail shows, by shelf and name."""
    row = files.shown(session(), store_id(), path)
    if row is None or row.type not in SHOWN_INLINE:
        abort(404, "There is no such picture.")
    return _answer(row.data, row.type, row.name, inline=True)


def _answer(data: bytes, type_: str, name: str, inline: bool) -> Response:
    answer = Response(data, mimetype=type_ if inline else "application/octet-stream")
    answer.headers.set(
        "Content-Disposition", "inline" if inline else "attachment", filename=name.encode("ascii", "replace").decode()
    )
    answer.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
    answer.headers["Cache-Control"] = "no-cache"
    return answer


@pages.post("/<int:file_id>/remove")
def remove(file_id: int) -> Any:
    with work() as unit:
        row = operations.remove(unit, file_id)
    if row is None:
        abort(404, "There is no such file.")
    flash(f"“{row.name}” is removed from the folder {row.shelf}. Mails that are due from now on go without it.", "good")
    return redirect(url_for(".index"))
