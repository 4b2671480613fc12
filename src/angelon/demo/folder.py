"""The data folder of the demo, emptied."""

from __future__ import annotations

import shutil
from pathlib import Path

HANDLERS = Path(__file__).with_name("handlers")
"""The demo's own handlers, where no other folder is set."""


def start_from_empty(home: Path) -> None:
    """Takes the data folder's databases away; the secret key stays."""
    for pattern in ("angelon.db*", "standins.db*", "run.json"):
        for file in home.glob(pattern):
            file.unlink()
    shutil.rmtree(home / "tmp", ignore_errors=True)
