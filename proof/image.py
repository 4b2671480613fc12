"""The image of `deploy/Containerfile`, built without a container engine (by Buildah, over a base made by debootstrap:
images of registries can’t be had everywhere), unpacked again (by umoci), and started from there as its user.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx

from angelon.cli.serving import free_port
from proof.places import lacking, until

ROOT = Path(__file__).resolve().parent.parent
CERTIFICATES = "/etc/ssl/certs/ca-certificates.crt"
PROGRAMS = ("debootstrap", "buildah", "umoci", "chroot")
ANGELON = (sys.executable, "-m", "angelon")


def run() -> tuple[dict[str, int], list[str]]:
    if why := lacking(*PROGRAMS):
        return {}, why
    broken: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        began = time.monotonic()
        base = base_name()
        make_base(here, base)
        build(here)
        built = time.monotonic() - began
        unpacked = here / "bundle"
        run_command("umoci", "unpack", "--image", f"{here}/oci:angelon", str(unpacked))
        process = json.loads((unpacked / "config.json").read_text())["process"]
        size = sum(file.stat().st_size for file in (here / "oci").rglob("*") if file.is_file())
        if process["user"]["uid"] == 0:
            broken.append("its processes run as root")
        leaked = [name for name in ("tests", ".git", "proof") if (unpacked / "rootfs/opt/angelon" / name).exists()]
        if leaked:
            broken.append(f"it holds what it does not need: {leaked}")
        _start(unpacked / "rootfs", process, broken)
    return {"seconds to build": round(built), "MB of the image": size // 1_000_000}, broken


def base_name() -> str:
    first = (ROOT / "deploy/Containerfile").read_text().split("FROM ", 1)[1].split()[0]
    return f"localhost/{first}"


def buildah(here: Path, *arguments: str) -> str:
    own = here / "registries.conf"
    own.write_text('unqualified-search-registries = ["localhost"]\nshort-name-mode = "disabled"\n')
    place = [
        "--storage-driver",
        "overlay",
        "--root",
        f"{here}/storage",
        "--runroot",
        f"{here}/run",
        "--registries-conf",
        str(own),
    ]
    env = {**os.environ, "BUILDAH_ISOLATION": "chroot"}
    return run_command("buildah", *place, *arguments, env=env)


def run_command(*command: str, env: dict[str, str] | None = None) -> str:
    done = subprocess.run(command, env=env, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(f"{command[0]}: {(done.stderr or done.stdout)[-800:]}")
    return done.stdout.strip()


def make_base(here: Path, name: str) -> None:
    """An image with what the base that the file names has: Debian, Python and pip."""
    root = here / "base"
    run_command(
        "debootstrap", "--variant=minbase", "--include=python3,python3-pip,ca-certificates", "bookworm", str(root)
    )
    (root / "usr/bin/python").symlink_to("python3")
    for file in (root / "usr/lib").glob("python3*/EXTERNALLY-MANAGED"):
        file.unlink()
    shutil.copy(CERTIFICATES, root / CERTIFICATES.lstrip("/"))
    container = buildah(here, "from", "scratch")
    buildah(here, "add", "-q", container, str(root), "/")
    buildah(here, "commit", "-q", container, name)


def build(here: Path) -> None:
    context = here / "context"
    run_command("git", "clone", "-q", str(ROOT), str(context))
    file = ["-f", str(context / "deploy/Containerfile"), str(context)]
    buildah(here, "bud", "--pull-never", "--env", f"PIP_CERT={CERTIFICATES}", "-t", "angelon", *file)
    buildah(here, "push", "-q", "angelon", f"oci:{here}/oci:angelon")


def _start(root: Path, process: dict[str, object], broken: list[str]) -> None:
    """What the image starts, from its own files and as its own user; on a port that is free here."""
    user: dict[str, int] = process["user"]  # type: ignore[assignment]
    port = free_port()
    own = {"8080": str(port), "0.0.0.0": "127.0.0.1"}
    arguments = [own.get(one, one) for one in process["args"]]  # type: ignore[attr-defined]
    variables = [*process["env"], "ANGELON_DATABASE_URL="]  # type: ignore[misc]
    started = ["chroot", f"--userspec={user['uid']}:{user['gid']}", str(root), "/usr/bin/env", "-i", *variables]
    running = subprocess.Popen([*started, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        if not until(lambda: _answers(port), 40):
            broken.append("what the image starts does not answer")
    finally:
        running.terminate()
        running.wait(30)
    drawn = [*started, "python", "-c", "from weasyprint import HTML; print(len(HTML(string='x').write_pdf()))"]
    if int(run_command(*drawn)) < 1000:
        broken.append("no document can be drawn in it")


def _answers(port: int) -> bool:
    try:
        return httpx.get(f"http://127.0.0.1:{port}/healthz", timeout=2).status_code == 200
    except httpx.HTTPError:
        return False
