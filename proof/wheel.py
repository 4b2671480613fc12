"""The wheel alone, in an environment of its own and an empty folder: the demo comes up, and its pages are there."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
import time
import venv
from pathlib import Path

import httpx

from angelon.cli.serving import free_port

PAGES = ("/", "/orders", "/messages/order-received", "/guide/connect", "/documents", "/settings/alerts", "/standins")
LONGEST = 120.0
"""Seconds until the demo answers."""


def run() -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        pip = [sys.executable, "-m", "pip", "--quiet", "--disable-pip-version-check"]
        build = [*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", folder, "."]
        subprocess.run(build, check=True)
        (wheel,) = here.glob("*.whl")
        size = wheel.stat().st_size
        venv.create(here / "venv", with_pip=True)
        own = here / "venv" / "bin"
        install = [own / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check", wheel]
        subprocess.run(install, check=True)
        port, at = free_port(), here / "empty"
        at.mkdir()
        around = {name: value for name, value in os.environ.items() if not name.startswith(("ANGELON_", "PYTHON"))}
        demo = subprocess.Popen([own / "angelon", "demo", "--port", str(port)], cwd=at, env=around)
        try:
            seen = _pages(f"http://127.0.0.1:{port}", broken)
        finally:
            demo.terminate()
            demo.wait(30)
    return {"pages": seen, "bytes of the wheel": size}, broken


def _pages(url: str, broken: list[str]) -> int:
    until = time.monotonic() + LONGEST
    while time.monotonic() < until:
        with contextlib.suppress(httpx.HTTPError):
            if httpx.get(f"{url}/orders", timeout=5).status_code == 200:  # not led to the first steps any more
                break
        time.sleep(0.5)
    else:
        broken.append("the demo of the wheel did not come up")
        return 0
    for page in PAGES:
        answer = httpx.get(url + page, timeout=30)
        if answer.status_code != 200 or len(answer.content) < 2000:
            broken.append(f"{page}: {answer.status_code}, {len(answer.content)} bytes")
    return len(PAGES)
