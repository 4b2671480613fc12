"""The fuzz of every address and form, long."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path


def run(seeds: int = 20) -> tuple[dict[str, int], list[str]]:
    """Runs `tests/web/test_fuzz.py` with other seeds and more of everything."""
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-s", "tests/web/test_fuzz.py", "--fuzz-seeds", str(seeds)],
        cwd=Path(__file__).parents[1],
        capture_output=True,
        text=True,
    )
    requests = sum(
        int(line.split()[1]) for line in done.stdout.replace(".fuzz", "\nfuzz").splitlines() if line.startswith("fuzz ")
    )
    return {"seeds": seeds, "requests": requests}, [] if done.returncode == 0 else done.stdout.splitlines()[-40:]
