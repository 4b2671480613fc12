"""The long proofs, short: `make proof` runs two hundred rounds of the first and ten of the second."""

import shutil
import subprocess

import pytest

from proof import disk, kills


def test_killed_processes_lose_nothing_and_double_nothing_without_a_mark():
    counts, broken = kills.run(rounds=2, senders=2)
    assert broken == []
    assert counts["acknowledged"] > 0
    assert counts["lost"] == counts["doubled without a mark"] == 0


def test_a_full_disk_is_said_and_survived(tmp_path):
    can = (
        shutil.which("mount")
        and subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", tmp_path], capture_output=True).returncode
        == 0
    )
    if not can:
        pytest.skip("a small file system can't be mounted here")
    subprocess.run(["umount", tmp_path], check=False)
    counts, broken = disk.run(rounds=1)
    assert broken == []
    assert counts["503"] > 0
    assert counts["acknowledged and lost"] == 0
