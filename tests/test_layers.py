"""The layers hold: imports point downward only, and the core does no I/O."""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_imports_point_downward_only():
    done = subprocess.run(
        [Path(sys.executable).with_name("lint-imports"), "--config", "pyproject.toml"],
        cwd=ROOT,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stdout


def test_every_shipped_file_from_elsewhere_is_in_the_manifest_with_its_checksum():
    import hashlib
    import json

    vendor = ROOT / "src/angelon/web/static/vendor"
    listed = {entry["file"]: entry["sha256"] for entry in json.loads((vendor / "manifest.json").read_text())}
    there = {
        str(f.relative_to(vendor)): hashlib.sha256(f.read_bytes()).hexdigest()
        for f in vendor.rglob("*")
        if f.is_file() and f.name != "manifest.json"
    }
    assert listed == there
