"""The folder of handlers as it was at a moment: processes that are started later, too, load what was good then,
whatever its author has written since.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

LARGEST = 20_000_000
MOST_FILES = 2000
_LEFT_OUT = frozenset({"__pycache__", "node_modules", "venv", "site-packages"})
Stamp = tuple[tuple[str, int, int], ...]


class TooLarge(ValueError):
    """The folder holds more than handlers and what they read."""


def stamp(folder: Path) -> Stamp:
    """Names, sizes and times of a folder's files: what is cheap to look at, to see whether anything may have changed.
    Hidden folders and those of installed packages are left out. Raises TooLarge.
    """
    found = tuple((str(file), status.st_size, status.st_mtime_ns) for file, status in _files(folder))
    if len(found) > MOST_FILES or sum(size for _, size, _ in found) > LARGEST:
        what = f"The folder holds more than {MOST_FILES:,} files or {LARGEST // 1_000_000} MB."
        raise TooLarge(f"{what} Keep handlers, and what they read, in a folder of their own.")
    return found


def digest(folder: Path, files: Stamp) -> str:
    """What the contents of these files are told apart by."""
    made = hashlib.sha256()
    for name, _, _ in files:
        made.update(name.encode() + b"\0" + (folder / name).read_bytes() + b"\0")
    return made.hexdigest()[:16]


def take(folder: Path, files: Stamp) -> Path:
    """A copy of these files in a folder of its own, which whoever asked for it removes."""
    copy = Path(tempfile.mkdtemp(prefix="angelon-handlers-"))
    for name, _, _ in files:
        to = copy / name
        to.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(folder / name, to)
    return copy


def _files(folder: Path) -> Iterator[tuple[Path, os.stat_result]]:
    for here, folders, files in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith(".") and name not in _LEFT_OUT)
        for name in sorted(files):
            file = Path(here) / name
            if not name.startswith(".") and file.is_file():
                yield file.relative_to(folder), file.stat()
