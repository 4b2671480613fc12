"""Where files of rows are put: a folder, or an object store with S3’s protocol (`s3://bucket/prefix`, by PyArrow; its
credentials as usual in the environment, its address in the query: `?endpoint_override=host:port&scheme=https`).
"""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any, Protocol

from angelon.core.problems import Invalid, Problem


class Target(Protocol):
    """A place for files; names have slashes. A file is there whole, or not at all."""

    def writing(self, name: str) -> contextlib.AbstractContextManager[IO[bytes]]: ...

    def reading(self, name: str, start: int, size: int) -> bytes:
        """A part of a file. Raises OSError: FileNotFoundError where it is not there."""

    def names(self, below: str) -> list[str]:
        """What is directly below a name, without what is above it."""

    def has(self, name: str) -> bool: ...

    def remove(self, name: str) -> None:
        """A folder with all that is in it."""

    def drop(self, name: str) -> None:
        """A file, where it is there."""


def target_of(said: str) -> Target:
    """Raises Invalid."""
    return _Objects(said) if said.startswith("s3://") else _Folder(Path(said))


class _Folder:
    def __init__(self, path: Path) -> None:
        self._path = path

    @contextlib.contextmanager
    def writing(self, name: str) -> Iterator[IO[bytes]]:
        whole = self._path / name
        part = whole.with_name(f".{whole.name}.{os.getpid()}.part")
        part.parent.mkdir(parents=True, exist_ok=True)
        try:
            with part.open("wb") as file:
                yield file
                file.flush()
                os.fsync(file.fileno())
            part.replace(whole)
        finally:
            part.unlink(missing_ok=True)

    def reading(self, name: str, start: int, size: int) -> bytes:
        with (self._path / name).open("rb") as file:
            file.seek(start)
            return file.read(size)

    def names(self, below: str) -> list[str]:
        folder = self._path / below
        return sorted(one.name for one in folder.iterdir()) if folder.is_dir() else []

    def has(self, name: str) -> bool:
        return (self._path / name).exists()

    def remove(self, name: str) -> None:
        shutil.rmtree(self._path / name)

    def drop(self, name: str) -> None:
        (self._path / name).unlink(missing_ok=True)


class _Objects:
    def __init__(self, uri: str) -> None:
        try:
            from pyarrow import ArrowInvalid, fs
        except ImportError:
            raise Invalid([Problem("to", *NO_PYARROW)]) from None
        try:
            self._system, self._base = fs.FileSystem.from_uri(uri)
        except ArrowInvalid as error:
            hint = "Write s3://bucket/prefix?endpoint_override=host:port."
            raise Invalid([Problem("to", f"{uri.partition('?')[0]} can't be used: {error}", hint)]) from None
        self._selector: Any = fs.FileSelector
        self._file: Any = fs.FileType.File

    @contextlib.contextmanager
    def writing(self, name: str) -> Iterator[IO[bytes]]:
        path = f"{self._base}/{name}"
        out = self._system.open_output_stream(path)  # there once it is closed
        try:
            yield out
        except BaseException:
            with contextlib.suppress(OSError):  # it can only be closed, which puts there what was written of it
                out.close()
                self._system.delete_file(path)
            raise
        out.close()

    def reading(self, name: str, start: int, size: int) -> bytes:
        with self._system.open_input_file(f"{self._base}/{name}") as file:
            file.seek(start)
            return bytes(file.read(size))

    def names(self, below: str) -> list[str]:
        found = self._system.get_file_info(self._selector(f"{self._base}/{below}", allow_not_found=True))
        return sorted(one.base_name for one in found)

    def has(self, name: str) -> bool:
        return bool(self._system.get_file_info(f"{self._base}/{name}").type == self._file)

    def remove(self, name: str) -> None:
        self._system.delete_dir(f"{self._base}/{name}")

    def drop(self, name: str) -> None:
        if self.has(name):
            self._system.delete_file(f"{self._base}/{name}")


NO_PYARROW = ("For Parquet and object stores PyArrow is needed.", "Install it: pip install 'angelon[parquet]'")
