"""Commands that keep a whole installation in one file, and bring it back."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import os
import shutil
import sqlite3
import sys
import tarfile
import tempfile
import time
from io import BytesIO
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import click

from angelon.cli.output import json_too, say

if TYPE_CHECKING:
    from angelon.settings import Settings

DATABASE, KEY, MANIFEST = "angelon.db", "secret.key", "manifest.json"
LEFT_AFTER = 3600.0
"""Seconds since when a folder of a backup was not written into, when it is taken for one that was killed."""
MOST_KEY, MOST_MANIFEST = 4096, 1_000_000
MOST_RATIO = 200
"""Bytes of a database for each byte of its archive, at most: a real one has 4 to 10."""


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--without-key", is_flag=True, help="Leave the secret key out: without it, credentials can't be opened.")
@json_too
@click.option("--verify", is_flag=True, help="Only look whether FILE, which is a backup, can be restored.")
def backup(file: Path, without_key: bool, verify: bool) -> None:
    """Write everything into FILE (.tar.gz) while Angelon runs: the database and the secret key. It is verified.

    The folder needs as much room again as the database has, until it is done.
    """
    from angelon import settings

    chosen = settings.load()
    if verify:
        _verify(chosen, file)
        return
    _need_sqlite(chosen)
    if not (chosen.home / DATABASE).exists():
        raise click.ClickException(f"There is no database in {chosen.home} yet.")
    _clean(chosen.home)
    with tempfile.TemporaryDirectory(dir=chosen.home, prefix=".backup-") as folder:
        copy = Path(folder) / DATABASE
        # as it was at one moment: who writes meanwhile writes on, and does not have it begin anew
        with sqlite3.connect(chosen.home / DATABASE, isolation_level=None) as source:
            source.execute("VACUUM INTO ?", (str(copy),))
        told = _looked_at(copy)
        parts = {DATABASE: copy}
        if (chosen.home / KEY).exists() and not chosen.secret_key and not without_key:
            parts[KEY] = chosen.home / KEY
        told |= {"machine": _machine(chosen.home)}
        told |= {"made_at": dt.datetime.now(dt.UTC).isoformat(), "sha256": {n: _digest(p) for n, p in parts.items()}}
        draft = file.with_name(f".{file.name}.part")
        with tarfile.open(draft, "w:gz", compresslevel=6) as archive:
            _add(archive, MANIFEST, json.dumps(told, indent=1).encode())
            for name, path in parts.items():
                archive.add(path, name)
        draft.chmod(0o600)
        draft.replace(file)
    if KEY not in parts:
        say("The secret key is not in it: keep it yourself, or credentials can’t be opened.")
    counts = {"orders": told["orders"], "sends": told["sends"]}
    size = file.stat().st_size
    text = f"{file}: {told['orders']:,} orders, {told['sends']:,} sends, {size / 1e6:.1f} MB."
    say(text, file=str(file), bytes=size, with_key=KEY in parts, made_at=told["made_at"], **counts)


def _clean(home: Path) -> None:
    """Takes away what backups and restorations that were killed have left."""
    for left in (*home.glob(".backup-*"), *home.glob(".restore-*")):
        if time.time() - left.stat().st_mtime > LEFT_AFTER:
            shutil.rmtree(left, ignore_errors=True)


def _verify(chosen: Settings, file: Path) -> None:
    if not file.exists():
        raise click.ClickException(f"There is no file {file}.")
    chosen.home.mkdir(mode=0o700, parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=chosen.home, prefix=".restore-") as folder:
        told = _unpacked(file, Path(folder))
        found = _looked_at(Path(folder) / DATABASE)
    text = f"{file} can be restored: as of {told['made_at'][:19]} UTC, {found['orders']:,} orders."
    say(text, file=str(file), made_at=told["made_at"], orders=found["orders"], sends=found["sends"])


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@json_too
@click.option("--force", is_flag=True, help="Also over a database: it is kept beside, under another name.")
@click.option(
    "--as",
    "whose",
    type=click.Choice(["shop", "copy"]),
    help="`shop`: this is the shop itself from now on. `copy`: it goes on elsewhere; this one is on trial.",
)
def restore(file: Path, force: bool, whose: str | None) -> None:
    """Bring back what `angelon backup` has written. Stop Angelon first.

    On the machine and in the folder that the backup was made in, it is the shop. Elsewhere it is asked whether it is
    the shop that moves, or a copy of it: a copy is on trial, so that customers are not written to twice.
    """
    from angelon import settings
    from angelon.cli.holding import alone

    chosen = settings.load()
    _need_sqlite(chosen)
    settings.private_folder(chosen.home)
    with alone(chosen.home, "nothing can be restored"):
        _restore(chosen, file, force, whose)


def _machine(home: Path) -> str:
    """What a data folder is told apart by: the machine's name and the folder's place."""
    return f"{os.uname().nodename}:{home.resolve()}"


def _whose(told: dict[str, Any], home: Path, whose: str | None) -> str:
    """Whether what is restored is the shop itself, or a copy. Raises ClickException where nobody can be asked."""
    if whose is not None or told.get("machine") == _machine(home):
        return whose or "shop"
    if not sys.stdin.isatty():
        raise click.ClickException(
            "The backup is of another machine or folder. With --as shop this is the shop from now on; with --as copy "
            "it is a copy, on trial: nothing goes to customers."
        )
    say("The backup is of another machine or folder.")
    return str(
        click.prompt("Is this the shop itself, which moves here, or a copy", type=click.Choice(["shop", "copy"]))
    )


def _put_on_trial(chosen: Settings) -> None:
    """Has nothing go to customers from a copy."""
    from angelon.db.database import Database

    database = Database(chosen.url)
    database.migrate()
    with database.connection() as connection:
        connection.exec_driver_sql("UPDATE store SET trial = 'nobody', version = version + 1")
    database.close()


def _restore(chosen: Settings, file: Path, force: bool, whose: str | None) -> None:
    there = chosen.home / DATABASE
    if there.exists() and not force:
        raise click.ClickException(f"There is a database in {chosen.home}. With --force it is kept beside the other.")
    with tempfile.TemporaryDirectory(dir=chosen.home, prefix=".restore-") as folder:
        told = _unpacked(file, Path(folder))
        _looked_at(Path(folder) / DATABASE)
        whose = _whose(told, chosen.home, whose)
        at = f"{dt.datetime.now():%Y%m%d-%H%M%S}"
        aside = there.with_name(f"{DATABASE}.{at}")
        before = [more for more in ("", "-wal", "-shm") if there.with_name(DATABASE + more).exists()]
        for more in before:  # what another database has left beside would be taken for this one's
            there.with_name(DATABASE + more).replace(aside.with_name(aside.name + more))
        if before:
            say(f"What was there is {aside.name} now.", kept_as=aside.name)
        key = chosen.home / KEY
        if (Path(folder) / KEY).exists() and not chosen.secret_key:
            if key.exists() and key.read_bytes() != (Path(folder) / KEY).read_bytes():
                key.replace(key.with_name(f"{KEY}.{at}"))
                say(f"Its key is {KEY}.{at}: without it, that database’s credentials can’t be opened.")
            (Path(folder) / KEY).replace(chosen.home / KEY)
        (Path(folder) / DATABASE).replace(there)
    if whose == "copy":
        _put_on_trial(chosen)
        say("This is a copy: it is on trial, and nothing goes to customers. Settings, Trial, ends that.")
    text = f"Restored as of {told['made_at'][:19]} UTC: {told['orders']:,} orders, {told['sends']:,} sends."
    say(text, made_at=told["made_at"], orders=told["orders"], sends=told["sends"], whose=whose)


def _need_sqlite(chosen: Settings) -> None:
    if not chosen.url.startswith("sqlite"):
        raise click.ClickException("The database is a server’s: back it up with its own tools, and secret.key beside.")


def _looked_at(file: Path) -> dict[str, Any]:
    """What a database holds. Raises ClickException where it is damaged."""
    with sqlite3.connect(file) as plain:
        try:
            found = plain.execute("PRAGMA integrity_check").fetchone()[0]
            if found != "ok":
                raise click.ClickException(f"The database is damaged: {found[:200]}")
            counts = {
                name: plain.execute(f'SELECT count(*) FROM "{table}"').fetchone()[0]  # noqa: S608 - names of our own
                for name, table in (("orders", "order"), ("sends", "send"), ("events", "event"))
            }
            revision = plain.execute("SELECT version_num FROM alembic_version").fetchone()[0]
        except sqlite3.DatabaseError as error:
            raise click.ClickException(f"That is no database of Angelon’s: {error}.") from None
    return {"revision": revision, **counts}


def _unpacked(file: Path, folder: Path) -> dict[str, Any]:
    """Unpacks a backup and checks each part. Raises ClickException for what is none, or was changed."""
    most = max(100_000_000, file.stat().st_size * MOST_RATIO)
    try:
        with tarfile.open(file, "r:gz") as archive:
            for name in (MANIFEST, DATABASE, KEY):
                part = archive.extractfile(name) if name in archive.getnames() else None
                if part is not None:
                    _unpack(part, folder / name, {KEY: MOST_KEY, MANIFEST: MOST_MANIFEST}.get(name, most))
        told: dict[str, Any] = json.loads((folder / MANIFEST).read_text())
        wanted = told["sha256"]
        if not isinstance(wanted, dict) or DATABASE not in wanted or not str(told["made_at"])[:10]:
            raise ValueError("its manifest does not name the database")
        if not set(wanted) <= {DATABASE, KEY} or not all(isinstance(digest, str) for digest in wanted.values()):
            raise ValueError("its manifest names what no backup holds")
        if (folder / KEY).exists() and KEY not in wanted:
            raise ValueError("its manifest does not name the key")
    except (tarfile.TarError, OSError, EOFError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise click.ClickException(f"{file} is no backup of Angelon’s: {error}") from None
    for name, digest in wanted.items():
        if not (folder / name).exists() or _digest(folder / name) != digest:
            raise click.ClickException(f"{file} is damaged: {name} is not as it was written.")
    return told


def _unpack(part: IO[bytes], to: Path, most: int) -> None:
    """Raises ValueError for more bytes than there may be."""
    size = 0
    with to.open("wb") as out:
        while chunk := part.read(1 << 20):
            size += len(chunk)
            if size > most:
                raise ValueError(f"{to.name} is larger than {most:,} bytes")
            out.write(chunk)
    to.chmod(0o600)


def _digest(path: Path) -> str:
    with path.open("rb") as data:
        return hashlib.file_digest(data, "sha256").hexdigest()


def _add(archive: tarfile.TarFile, name: str, data: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.size, info.mode = len(data), 0o600
    archive.addfile(info, BytesIO(data))
