"""The interpreter's settings for a process that lives long: a web process, a worker."""

from __future__ import annotations

import gc
import os
import sys
from pathlib import Path

READY = "_ANGELON_READY"
"""The environment's word for a file that a process makes once it is at work: ours, not a setting."""


def tune_interpreter() -> None:
    """Lets threads take turns every millisecond, so that one that computes delays no answer; and looks for garbage in
    circles seldom: modules and set-ups stay, and what a delivery or a send makes is freed by its last reference.
    """
    sys.setswitchinterval(0.001)
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


def tell_ready() -> None:
    """Says that this process is at work, to whoever has started it to take over from another."""
    file = os.environ.get(READY, "")
    if file and Path(file).parent.is_dir():
        Path(file).touch()
