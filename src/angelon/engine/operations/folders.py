"""A whole set-up in a folder: the bundle, and beside it files, checks, suppressions and drafts.

bundle.yaml         what is live
drafts.yaml         messages, routes and mappings as they are drafted
files.yaml          the library: folder, name, and for which orders each file is
files/FOLDER/NAME   its files
checks/KEY.yaml     a check each
suppressions.csv    address, why, since (ISO 8601; UTC where it names no zone)
"""

from __future__ import annotations

import csv
import datetime as dt
import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml
from sqlmodel import Session

from angelon.core.messages.attachments import LibraryFile, check_picture, detect_media_type, file_name
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message, Route
from angelon.core.specs.base import read_spec
from angelon.core.specs.bundle import Bundle, bundle_of, plain_bundle, write_bundle
from angelon.core.specs.check import Check
from angelon.core.specs.keys import key_of
from angelon.core.specs.mapping import Mapping as MappingSpec
from angelon.core.specs.stored import from_stored
from angelon.db.people import suppressions
from angelon.db.setup import bundles, checks, files, mappings, specs
from angelon.db.setup.live_setup import load
from angelon.db.tables import MessageRow, RouteRow, SourceRow
from angelon.engine.unit import Work

BUNDLE, DRAFTS, FILES, CHECKS, SUPPRESSIONS = (
    "bundle.yaml",
    "drafts.yaml",
    "files.yaml",
    "checks",
    "suppressions.csv",
)
LARGEST_FILE = 20_000_000


SPLIT = ("sources", "messages", "routes")
"""What has a file a thing in a folder that is split, for a version control that shows what changed."""


def write(session: Session, store_id: int, folder: Path, split: bool = False) -> list[str]:
    """Writes a store's whole set-up into a folder; says what is there, and what is left out, a line each. With `split`
    each source, message and route has a file of its own.
    """
    folder.mkdir(parents=True, exist_ok=True)
    bundle = bundles.export(session, store_id)
    for part in SPLIT:
        for file in (folder / part).glob("*.yaml") if (folder / part).is_dir() else ():
            file.unlink()  # of a thing that may be gone
        for one in getattr(bundle, part) if split else ():
            (folder / part).mkdir(exist_ok=True)
            (folder / part / f"{one.key}.yaml").write_text(_yaml(one.plain()))
    rest = bundle.model_copy(update={part: [] for part in SPLIT}) if split else bundle
    (folder / BUNDLE).write_text(write_bundle(rest))
    told = [f"{BUNDLE}: {len(bundle.messages)} messages, {len(bundle.routes)} routes, {len(bundle.sources)} sources"]
    told += _write_files(session, store_id, folder)
    kept = [from_stored(Check, row.spec) for row in checks.all_of(session, store_id)]
    for check in kept:
        (folder / CHECKS).mkdir(exist_ok=True)
        (folder / CHECKS / f"{check.key}.yaml").write_text(_yaml(check.plain()))
    told.append(f"{CHECKS}: {len(kept)}")
    told.append(f"{SUPPRESSIONS}: {_write_suppressions(session, store_id, folder)}")
    drafts = _drafts(session, store_id)
    (folder / DRAFTS).write_text(_yaml(drafts))
    told.append(f"{DRAFTS}: {sum(len(part) for part in drafts.values())}")
    live = load(session, store_id)
    left = [f"signing secret of {key}" for key, one in live.setup.sources.items() if one.signing.scheme != "none"]
    left += [f"password or token of {key}" for key in live.setup.gateways]
    told.append(f"left out: {', '.join(left) or 'nothing'}; orders, events and sends; approvals of chat texts")
    return told


def _yaml(data: Any) -> str:
    return yaml.safe_dump(data, allow_unicode=True, sort_keys=False, width=120)


def _write_files(session: Session, store_id: int, folder: Path) -> list[str]:
    listed: list[dict[str, str]] = []
    total, written = 0, set()
    live = load(session, store_id)
    for number, file in enumerate(live.files):
        row = files.get(session, store_id, file.id)
        if row is None:
            continue
        # two files may have one name, for different orders: the second stands under its match
        own = file.name if file.by == "" else f"{key_of(file.match) or number}-{file.name}"
        at = Path("files") / file.shelf / file_name(own, "file").replace("/", "-")
        if at.as_posix().casefold() in written:  # two matches that are written alike
            at = at.with_name(f"{number}-{at.name}")
        written.add(at.as_posix().casefold())
        (folder / at).parent.mkdir(parents=True, exist_ok=True)
        (folder / at).write_bytes(row.data)
        entry = {"at": at.as_posix(), "folder": file.shelf, "name": file.name}
        listed.append(entry | ({"for": file.by, "match": file.match} if file.by else {}))
        total += file.size
    (folder / FILES).write_text(_yaml(listed))
    return [f"{FILES}: {len(listed)}, {total:,} bytes"]


def _write_suppressions(session: Session, store_id: int, folder: Path) -> int:
    out = io.StringIO()
    rows, after, number = csv.writer(out, lineterminator="\n"), None, 0
    rows.writerow(["address", "why", "since"])
    while True:
        found = suppressions.listed(session, store_id, "", 500, after)
        for row in found:
            rows.writerow([row.address_key, row.why, row.since.isoformat()])
        number += len(found)
        if len(found) < 500:
            break
        after = (found[-1].since, found[-1].id or 0)
    (folder / SUPPRESSIONS).write_text(out.getvalue())
    return number


def _drafts(session: Session, store_id: int) -> dict[str, Any]:
    def of(rows: Any) -> dict[str, Any]:
        return {row.key: row.draft.plain() for row in rows if row.draft is not None}

    mapped = {key: from_stored(MappingSpec, draft).plain() for key, draft in mappings.drafts(session, store_id).items()}
    found = {
        "messages": of(specs.messages(session, store_id)),
        "routes": of(specs.routes(session, store_id)),
        "mappings": mapped,
    }
    return {kind: part for kind, part in found.items() if part}


# ---- and back


@dataclass(frozen=True)
class Folder:
    """What a folder holds, read and checked before anything of it is applied."""

    bundle: Bundle
    files: list[tuple[LibraryFile, bytes]]
    checks: list[Check]
    suppressions: list[tuple[str, str, dt.datetime | None]]
    drafts: dict[str, dict[str, Any]]


def read(folder: Path, around: Bundle | None = None) -> Folder:
    """Raises Invalid with the file that can't be read, and what is wrong in it."""
    if not (folder / BUNDLE).is_file():
        raise Invalid([Problem(str(folder), f"The folder has no {BUNDLE}.", "Write one with angelon export --to.")])
    bundle = bundle_in(folder, around)
    found = [_read_file(folder, entry) for entry in _load(folder / FILES, list)]
    kept = [
        _spec(Check, _load(file, dict), file.name)
        for file in (sorted((folder / CHECKS).glob("*.yaml")) if (folder / CHECKS).is_dir() else [])
    ]
    drafts = _load(folder / DRAFTS, dict)
    kinds: dict[str, Any] = {"messages": Message, "routes": Route, "mappings": MappingSpec}
    read_drafts = {
        kind: {key: _spec(kinds[kind], data, f"{DRAFTS}, {kind}.{key}") for key, data in (part or {}).items()}
        for kind, part in drafts.items()
        if kind in kinds
    }
    return Folder(bundle, found, kept, _read_suppressions(folder / SUPPRESSIONS), read_drafts)


def bundle_in(path: Path, around: Bundle | None = None) -> Bundle:
    """The bundle of a file, or of a folder, split or whole; a part of one, where `around` is what it is applied to.
    Raises Invalid.
    """
    return bundle_of(plain_in(path), around)


def plain_in(path: Path) -> dict[str, Any]:
    """The same as plain data."""
    if path.is_file():
        return plain_bundle(_text(path))
    data = _load(path / BUNDLE, dict)
    for part in SPLIT:
        if (path / part).is_dir():
            own = [_load(file, dict) for file in sorted((path / part).glob("*.yaml"))]
            data = {**data, part: [*(data.get(part) or []), *own]}
    return dict(data)


def _text(file: Path) -> str:
    """A file's text. Raises Invalid where it is not UTF-8."""
    try:
        return file.read_text(encoding="utf-8")
    except UnicodeDecodeError:
        raise Invalid([Problem(file.name, "The file is not UTF-8 text.", "Save it as UTF-8.")]) from None


def _load(file: Path, kind: type) -> Any:
    if not file.is_file():
        return kind()
    try:
        data = yaml.safe_load(_text(file))
    except yaml.YAMLError as error:
        raise Invalid([Problem(file.name, f"The file is not YAML: {error}")]) from None
    if data is None:
        return kind()
    if not isinstance(data, kind):
        raise Invalid([Problem(file.name, f"The file has to be a {'list' if kind is list else 'mapping'}.")])
    return data


def _spec(kind: Any, data: Any, where: str) -> Any:
    try:
        return read_spec(kind, data)
    except Invalid as error:
        raise Invalid([problem.at(where) for problem in error.problems]) from None


def _read_file(folder: Path, entry: Any) -> tuple[LibraryFile, bytes]:
    if not isinstance(entry, dict) or not all(isinstance(entry.get(part), str) for part in ("at", "folder", "name")):
        raise Invalid([Problem(FILES, "Each file needs at, folder and name.")])
    at = (folder / entry["at"]).resolve()
    if not at.is_relative_to(folder.resolve()) or not at.is_file():
        raise Invalid([Problem(FILES, f"There is no file “{entry['at']}” in the folder.")])
    if at.stat().st_size > LARGEST_FILE:
        raise Invalid([Problem(FILES, f"“{entry['at']}” is larger than {LARGEST_FILE // 1_000_000} MB.")])
    by = entry.get("for", "")
    if by not in ("", "sku", "reference", "locale"):
        raise Invalid([Problem(FILES, f"“{entry['at']}” is for “{by}”.", "Write sku, reference or locale.")])
    data = at.read_bytes()
    shelf, name = key_of(entry["folder"]) or "files", file_name(entry["name"], "file")
    return LibraryFile(0, shelf, name, detect_media_type(data), len(data), by, str(entry.get("match", ""))), data


def _read_suppressions(file: Path) -> list[tuple[str, str, dt.datetime | None]]:
    if not file.is_file():
        return []
    found = []
    for number, row in enumerate(csv.DictReader(_text(file).splitlines()), 2):
        address = (row.get("address") or "").strip()
        if ":" not in address:
            what = f"Line {number}: “{address[:60]}” is no address."
            raise Invalid([Problem(file.name, what, "Write it like email:jo@example.org, or phone:+353209151234.")])
        try:
            since = dt.datetime.fromisoformat(row["since"]) if row.get("since") else None
            if since is not None and since.tzinfo is None:
                since = since.replace(tzinfo=dt.UTC)
        except ValueError:
            raise Invalid([Problem(file.name, f"Line {number}: “{row['since']}” is no time.")]) from None
        found.append((address, row.get("why") or "", since))
    return found


def add_beside(work: Work, folder: Folder) -> list[str]:
    """Takes in files, checks and suppressions; says what, a line each."""
    for file, data in folder.files:
        check_picture(data)
        files.put(work.session, work.store_id, file, data, work.now)
    for check in folder.checks:
        checks.save(work.session, work.store_id, check)
    new = sum(
        suppressions.add(work.session, work.store_id, address, why, since or work.now)
        for address, why, since in folder.suppressions
    )
    work.change_setup()
    counts = {"files": len(folder.files), "checks": len(folder.checks), "new suppressions": new}
    return [f"{name}: {number}" for name, number in counts.items() if number]


def add_drafts(work: Work, folder: Folder) -> list[str]:
    """Takes in drafts, once what is live is there; says how many."""
    for spec in folder.drafts.get("messages", {}).values():
        specs.save_draft(work.session, MessageRow, work.store_id, spec, work.now)
    for spec in folder.drafts.get("routes", {}).values():
        specs.save_draft(work.session, RouteRow, work.store_id, spec, work.now)
    for key, mapping in folder.drafts.get("mappings", {}).items():
        row = specs.by_key(work.session, SourceRow, work.store_id, key)
        if row is not None:
            mappings.save_draft(work.session, row, mapping, work.now)
    number = sum(len(part) for part in folder.drafts.values())
    return [f"drafts: {number}"] if number else []
