"""A disk that fills up, on a small file system of its own: nothing acknowledged is lost, 503 is said, and it goes on by
itself.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from pathlib import Path

import httpx

from proof.places import place, until

SIZE = "24m"
LEFT = 300_000
"""Bytes that are left, so that it fills up in the middle of a delivery."""


def run(rounds: int = 10) -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    statuses: dict[int, int] = {}
    accepted: set[int] = set()
    with tempfile.TemporaryDirectory() as folder:
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={SIZE}", "tmpfs", folder], capture_output=True)
        if mounted.returncode:
            return {"rounds": 0}, [f"a small file system could not be mounted here: {mounted.stderr.decode().strip()}"]
        try:
            with (
                place(Path(folder), "stand-ins", "planner", "sender", "web") as here,
                httpx.Client(timeout=30) as client,
            ):
                assert here.up()
                number = 0
                for _ in range(rounds):
                    filler = Path(folder) / "filler"
                    _fill(filler)
                    full = 0
                    for _ in range(30):
                        number += 1
                        status = here.post(client, number)
                        statuses[status] = statuses.get(status, 0) + 1
                        if status == 202:
                            accepted.add(number)
                        full += status == 503
                    if not full:
                        broken.append("a full disk was not noticed")
                    filler.unlink()
                    number += 1
                    if not until(lambda n=number: here.post(client, n) in (200, 202), 60, 0.5):
                        broken.append("it did not go on when there was space again")
                    accepted.add(number)
                settled = until(
                    lambda: (
                        here.rows("SELECT count(*) FROM send WHERE state NOT IN ('sent', 'delivered')")[0][0] == 0
                        and here.rows("SELECT count(*) FROM event WHERE planned_at IS NULL")[0][0] == 0
                    ),
                    120,
                    0.5,
                )
                if not settled:
                    broken.append(
                        f"not all was sent in the end: {here.rows('SELECT state, count(*) FROM send GROUP BY state')}"
                    )
                stored = {
                    int(key.removeprefix("d:d"))
                    for (key,) in here.rows("SELECT delivery_key FROM event WHERE parent_id IS NULL")
                }
                if accepted - stored:
                    broken.append(f"{len(accepted - stored)} deliveries were acknowledged and are not stored")
                strange = set(statuses) - {202, 503}
                if strange:
                    broken.append(f"answers other than 202 and 503: {statuses}")
                twice = here.rows(
                    "SELECT recipient, channel, count(*) FROM send GROUP BY recipient, channel HAVING count(*) > 1"
                )
                if twice:
                    broken.append(f"two sends of one route: {twice[:3]}")
                if here.rows("PRAGMA integrity_check") != [("ok",)]:
                    broken.append("the database is damaged")
        finally:
            subprocess.run(["umount", "-l", folder], check=False)
    return {
        "rounds": rounds,
        "202": statuses.get(202, 0),
        "503": statuses.get(503, 0),
        "acknowledged and lost": len(accepted - stored),
    }, broken


def _fill(file: Path) -> None:
    with file.open("wb", buffering=0) as out:
        for size in (1_000_000, 100_000, 4096, 512):
            try:
                while True:
                    out.write(b"x" * size)
            except OSError:
                continue
    os.truncate(file, max(0, file.stat().st_size - LEFT))
