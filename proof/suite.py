"""All tests on PostgreSQL, the browser's among them: of which version is for `POSTGRESQL_PROGRAMS`."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LONGEST = 3 * 3600


def run() -> tuple[dict[str, int], list[str]]:
    command = [sys.executable, "-m", "pytest", "-n", "2", "--dist", "loadfile", "--no-loadscope-reorder", "tests"]
    env = os.environ | {"TEST_ON": "postgresql"}
    done = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, text=True, timeout=LONGEST, check=False)
    counts = {what: int(number) for number, what in re.findall(r"(\d+) (passed|failed|skipped|errors?)", done.stdout)}
    failed = re.findall(r"^(?:FAILED|ERROR) (\S+)", done.stdout, re.M)
    return counts, failed or ([] if done.returncode == 0 else [done.stdout[-400:]])
