"""A Debian of its own (debootstrap), started with systemd as its first process (systemd-nspawn), with Angelon
installed as docs/operating.md says and the units of `deploy/` as they are: orders come in all the while, through a
reload, a restart, a kill, a stop and a backup.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from angelon.standins.box import Box
from proof.image import CERTIFICATES, run_command
from proof.places import KEY, Place, lacking, until

ROOT = Path(__file__).resolve().parent.parent
PROGRAMS = ("debootstrap", "systemd-nspawn", "nsenter", "chroot")
PACKAGES = "systemd,systemd-sysv,dbus,python3,python3-venv,ca-certificates,libpangoft2-1.0-0,libharfbuzz-subset0"
ANGELON = "/opt/angelon/.venv/bin"
PORTS = {"web": 8080, "mail": 2525, "providers": 8090}
"""It has a network of its own: any port is free."""
CLIENT = """
import json, sys, time, httpx
sys.path.insert(0, "/srv/source")
from tests import made
counts = {}
with httpx.Client(timeout=40) as client:
    for number in range(int(sys.argv[1]), int(sys.argv[1]) + int(sys.argv[2])):
        buyer = {"name": "Jo", "email": f"p{number}@example.org", "phone": f"+49{3010000000 + number}", "country": "DE"}
        headers = {"Content-Type": "application/json", "Store-Event": "placed", "Store-Delivery": f"d{number}"}
        body = made.body(id=number, reference=f"BK-{number}", buyer=buyer)
        try:
            said = client.post("http://127.0.0.1:8080/in/shop", content=body, headers=headers).status_code
        except httpx.HTTPError as error:
            said = type(error).__name__
        counts[str(said)] = counts.get(str(said), 0) + 1
        time.sleep(0.05)
print(json.dumps(counts))
"""


def run() -> tuple[dict[str, int], list[str]]:
    if why := lacking(*PROGRAMS):
        return {}, why
    broken: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "root"
        _install(root)
        with _system(root) as inside:
            return _walk(root, inside, broken), broken


def _install(root: Path) -> None:
    run_command("debootstrap", "--variant=minbase", f"--include={PACKAGES}", "bookworm", str(root))
    shutil.copy(CERTIFICATES, root / CERTIFICATES.lstrip("/"))
    run_command("git", "clone", "-q", str(ROOT), f"{root}/srv/source")
    pip = f"PIP_CERT={CERTIFICATES} {ANGELON}/pip --quiet --disable-pip-version-check install"
    steps = [
        "useradd --system --home-dir /var/lib/angelon --no-create-home angelon",
        "python3 -m venv /opt/angelon/.venv",
        f"cd /srv/source && {pip} --require-hashes -r deploy/requirements.lock",
        f"cd /srv/source && {pip} --no-deps --no-build-isolation .",
        "cp /srv/source/deploy/angelon*.service /srv/source/deploy/angelon*.socket /etc/systemd/system/",
        "cp /srv/source/deploy/angelon*.timer /etc/systemd/system/",
        "mkdir -p /etc/angelon /srv/outside /var/lib/angelon",
        f"echo ANGELON_SECRET_KEY={KEY} > /etc/angelon/environment",
    ]
    for step in steps:
        run_command("chroot", str(root), "/bin/sh", "-c", step, env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"})
    made = Place(root / "var/lib/angelon", ports=PORTS)
    made.close()
    run_command("chroot", str(root), "/bin/sh", "-c", "chown -R angelon: /var/lib/angelon /srv/outside")


class Inside:
    """The system's own processes, by its first one."""

    def __init__(self, first: int) -> None:
        self._enter = ["nsenter", "-t", str(first), "-m", "-u", "-i", "-n", "-p", "--", "/usr/bin/env", "-i"]
        self._enter += ["PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"]

    def run(self, *command: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([*self._enter, *command], capture_output=True, text=True, check=False)

    def say(self, *command: str) -> str:
        done = self.run(*command)
        if done.returncode:
            raise RuntimeError(f"{' '.join(command)}: {(done.stderr or done.stdout)[-600:]}")
        return done.stdout.strip()

    def main_process(self) -> str:
        return self.say("systemctl", "show", "--value", "-p", "MainPID", "angelon.service")


@contextmanager
def _system(root: Path) -> Iterator[Inside]:
    boot = ["systemd-nspawn", "--boot", "-D", str(root), "--register=no", "--keep-unit", "--private-network"]
    log = (root.parent / "boot.log").open("wb")
    running = subprocess.Popen([*boot, "--console=pipe"], stdin=subprocess.DEVNULL, stdout=log, stderr=log)
    try:
        children, states = Path(f"/proc/{running.pid}/task/{running.pid}/children"), ("running", "degraded")

        def up() -> bool:
            first = children.read_text().split()  # not the same from the start: one child makes the other
            return bool(first) and Inside(int(first[-1])).run("systemctl", "is-system-running").stdout.strip() in states

        if not until(up, 90, 0.5):
            raise RuntimeError(f"the system did not come up: {(root.parent / 'boot.log').read_text()[-600:]}")
        inside = Inside(int(children.read_text().split()[-1]))
        yield inside
    finally:
        running.terminate()  # the first process is told to power off
        try:
            running.wait(30)
        except subprocess.TimeoutExpired:
            running.kill()
            running.wait(10)
        log.close()


def _walk(root: Path, inside: Inside, broken: list[str]) -> dict[str, int]:
    standins = ["--mail-port", str(PORTS["mail"]), "--provider-port", str(PORTS["providers"])]
    own = ["--unit=outside", "--setenv=ANGELON_HOME=/srv/outside", "--uid=angelon"]
    inside.say("systemd-run", *own, f"{ANGELON}/angelon", "standins", *standins)
    units = ("angelon.socket", "angelon.service", "angelon-backup.timer")
    inside.say("systemctl", "enable", "--now", *units)
    said: dict[str, int] = {}
    client = threading.Thread(target=lambda: said.update(_deliver(inside, 1, 700)), daemon=True)
    client.start()  # at once: the socket is there before the service answers
    time.sleep(6)
    for name, act in (
        ("reload", lambda: inside.say("systemctl", "reload", "angelon.service")),
        ("restart", lambda: inside.say("systemctl", "restart", "angelon.service")),
        ("kill -9", lambda: inside.say("sh", "-c", f"kill -9 {inside.main_process()}")),
        ("stop", lambda: inside.say("systemctl", "stop", "angelon.service")),
        ("backup", lambda: inside.say("systemctl", "start", "angelon-backup.service")),
    ):
        before = inside.main_process()
        act()
        another = name in ("restart", "kill -9", "stop")  # after the stop it is the socket that starts it again

        def back(before: str = before, another: bool = another) -> bool:
            state = inside.run("systemctl", "is-active", "angelon.service").stdout.strip()
            return state == "active" and (inside.main_process() != before) == another

        if not until(back, 20, 0.2):
            broken.append(f"after {name} the service is not as it should be")
        time.sleep(4)
    client.join()
    cut = sum(number for answer, number in said.items() if answer != "202")
    if cut > 1:  # the one that a killed process had in hand
        broken.append(f"deliveries meanwhile: {said}")
    box = Box(root / "srv/outside")
    told = until(lambda: len({mail.rcpt_to for mail in box.mails(5_000)}) >= said["202"], 90)
    mails = [mail.rcpt_to for mail in box.mails(5_000)]
    if not told or len(mails) > len(set(mails)) + 2:  # a kill between the server's answer and its note sends one again
        broken.append(f"{len(set(mails))} customers of {sum(said.values())} have mails, {len(mails)} in all")
    _closed(inside, broken)
    _backed_up(root, inside, broken)
    _drawn(root, inside, broken)
    log = inside.say("journalctl", "--no-pager", "-u", "angelon*", "-o", "cat")
    for line in log.splitlines():
        if re.search(r"Traceback|Failed to (?!.*Main process exited)|Unknown|Permission denied", line):
            broken.append(f"the journal: {line[:200]}")
    return {"units": len(units) + 1, "deliveries": sum(said.values()), "mails": len(mails), "acts": 5}


def _deliver(inside: Inside, first: int, number: int) -> dict[str, int]:
    counts: dict[str, int] = json.loads(inside.say(f"{ANGELON}/python", "-c", CLIENT, str(first), str(number)))
    return counts


def _closed(inside: Inside, broken: list[str]) -> None:
    """What the service sees of the system: it can write its folder, and nothing else."""
    main = inside.main_process()
    for place, may in (("/var/lib/angelon", True), ("/etc/angelon", False), ("/opt/angelon", False), ("/srv", False)):
        wrote = inside.run("nsenter", "-t", main, "-m", "--", "touch", f"{place}/tried").returncode == 0
        if wrote != may:
            broken.append(f"the service {'can' if wrote else 'cannot'} write to {place}")
    status = inside.say("cat", f"/proc/{main}/status")
    for name, wanted in (("CapEff", "0000000000000000"), ("NoNewPrivs", "1"), ("Seccomp", "2")):
        found = re.search(rf"^{name}:\s*(\S+)", status, re.M)
        if found is None or found[1] != wanted:
            broken.append(f"its process has {name} {found[1] if found else '(none)'}")


def _backed_up(root: Path, inside: Inside, broken: list[str]) -> None:
    result = inside.say("systemctl", "show", "--value", "-p", "Result", "angelon-backup.service")
    files = list((root / "var/lib/angelon-backups").glob("*.tar.gz"))
    if result != "success" or len(files) != 1 or files[0].stat().st_mode & 0o077:
        broken.append(f"the backup: {result}, {[file.name for file in files]}")
        return
    home = "ANGELON_HOME=/tmp/restored"
    inside.say(
        "/usr/bin/env",
        home,
        f"{ANGELON}/angelon",
        "restore",
        "--as",
        "copy",
        f"/var/lib/angelon-backups/{files[0].name}",
    )


def _drawn(root: Path, inside: Inside, broken: list[str]) -> None:
    """A document is drawn by a process that may do what the service may."""
    unit = (root / "etc/systemd/system/angelon.service").read_text()
    code = "from weasyprint import HTML; HTML(string='x').write_pdf('/var/lib/angelon/drawn.pdf')"
    unit = re.sub(r"ExecStart=.*", f'Type=oneshot\nExecStart={ANGELON}/python -c "{code}"', unit)
    (root / "etc/systemd/system/drawn.service").write_text(unit.replace("Restart=on-failure", ""))
    inside.say("systemctl", "daemon-reload")
    inside.run("systemctl", "start", "drawn.service")
    if not (root / "var/lib/angelon/drawn.pdf").exists():
        broken.append(f"no document is drawn: {inside.say('journalctl', '-o', 'cat', '-u', 'drawn.service')[-300:]}")
