"""Commands that keep a whole installation in one file, and bring it back."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import sqlite3
import tarfile
import tempfile
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from angelon.settings import Settings

DATABASE, KEY, MANIFEST = "angelon.db", "secret.key", "manifest.json"


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--without-key", is_flag=True, help="Leave the secret key out: without it, credentials can't be opened.")
def backup(file: Path, without_key: bool) -> None:
    """Write everything into FILE (.tar.gz) while Angelon runs: the database and the secret key. It is verified."""
    from angelon import settings

    chosen = settings.load()
    _need_sqlite(chosen)
    if not (chosen.home / DATABASE).exists():
        raise click.ClickException(f"There is no database in {chosen.home} yet.")
    with tempfile.TemporaryDirectory(dir=chosen.home, prefix=".backup-") as folder:
        copy = Path(folder) / DATABASE
        with sqlite3.connect(chosen.home / DATABASE) as source, sqlite3.connect(copy) as into:
            source.backup(into, pages=2000, sleep=0.01)  # others write in between
        told = _looked_at(copy)
        parts = {DATABASE: copy}
        if (chosen.home / KEY).exists() and not chosen.secret_key and not without_key:
            parts[KEY] = chosen.home / KEY
        told |= {"made_at": dt.datetime.now(dt.UTC).isoformat(), "sha256": {n: _digest(p) for n, p in parts.items()}}
        draft = file.with_name(f".{file.name}.part")
        with tarfile.open(draft, "w:gz", compresslevel=6) as archive:
            _add(archive, MANIFEST, json.dumps(told, indent=1).encode())
            for name, path in parts.items():
                archive.add(path, name)
        draft.chmod(0o600)
        draft.replace(file)
    if KEY not in parts:
        click.echo("The secret key is not in it: keep it yourself, or credentials can’t be opened.")
    click.echo(f"{file}: {told['orders']:,} orders, {told['sends']:,} sends, {file.stat().st_size / 1e6:.1f} MB.")


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--force", is_flag=True, help="Also over a database: it is kept beside, under another name.")
def restore(file: Path, force: bool) -> None:
    """Bring back what `angelon backup` has written. Stop Angelon first."""
    from angelon import settings
    from angelon.cli.serving import running_at

    chosen = settings.load()
    _need_sqlite(chosen)
    settings.private_folder(chosen.home)
    if running_at(chosen.home):
        raise click.ClickException("Angelon runs from this data folder. Stop it first.")
    there = chosen.home / DATABASE
    if there.exists() and not force:
        raise click.ClickException(f"There is a database in {chosen.home}. With --force it is kept beside the other.")
    with tempfile.TemporaryDirectory(dir=chosen.home, prefix=".restore-") as folder:
        told = _unpacked(file, Path(folder))
        _looked_at(Path(folder) / DATABASE)
        at = f"{dt.datetime.now():%Y%m%d-%H%M%S}"
        if there.exists():
            aside = there.with_name(f"{DATABASE}.{at}")
            for more in ("", "-wal", "-shm"):
                old = there.with_name(DATABASE + more)
                if old.exists():
                    old.replace(aside.with_name(aside.name + more))
            click.echo(f"What was there is {aside.name} now.")
        key = chosen.home / KEY
        if (Path(folder) / KEY).exists() and not chosen.secret_key:
            if key.exists() and key.read_bytes() != (Path(folder) / KEY).read_bytes():
                key.replace(key.with_name(f"{KEY}.{at}"))
                click.echo(f"Its key is {KEY}.{at}: without it, that database’s credentials can’t be opened.")
            (Path(folder) / KEY).replace(chosen.home / KEY)
        (Path(folder) / DATABASE).replace(there)
    click.echo(f"Restored as of {told['made_at'][:19]} UTC: {told['orders']:,} orders, {told['sends']:,} sends.")


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
    try:
        with tarfile.open(file, "r:gz") as archive:
            for name in (MANIFEST, DATABASE, KEY):
                part = archive.extractfile(name) if name in archive.getnames() else None
                if part is not None:
                    with (folder / name).open("wb") as out:
                        while chunk := part.read(1 << 20):
                            out.write(chunk)
                    (folder / name).chmod(0o600)
        told: dict[str, Any] = json.loads((folder / MANIFEST).read_text())
        wanted = told["sha256"]
    except (tarfile.TarError, OSError, EOFError, ValueError, KeyError) as error:
        raise click.ClickException(f"{file} is no backup of Angelon’s: {error}") from None
    for name, digest in wanted.items():
        if not (folder / name).exists() or _digest(folder / name) != digest:
            raise click.ClickException(f"{file} is damaged: {name} is not as it was written.")
    return told


def _digest(path: Path) -> str:
    with path.open("rb") as data:
        return hashlib.file_digest(data, "sha256").hexdigest()


def _add(archive: tarfile.TarFile, name: str, data: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.size, info.mode = len(data), 0o600
    archive.addfile(info, BytesIO(data))
