"""The files in `deploy/`, used as they are but for ports, paths and addresses: the proxy in front of a running Angelon,
what the compose file starts, the units as systemd reads them, a log that is rotated while it is written.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import yaml

from angelon.cli.serving import free_port
from angelon.standins.box import Box
from cluster.postgresql import temporary
from proof.places import KEY, Place, place, until

DEPLOY = Path(__file__).resolve().parent.parent / "deploy"
NAME = "angelon.example"
MOST_EXPOSED = 3.0
"""What `systemd-analyze security` may reckon for the service, of 10."""


def run() -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    tried: dict[str, int] = {}
    for name, program, look in (
        ("through the proxy", "nginx", _proxy),
        ("as compose starts it", "", _compose),
        ("units", "systemd-analyze", _units),
        ("log lines rotated", "logrotate", _log),
    ):
        if program and not shutil.which(program, path=os.environ["PATH"] + ":/usr/sbin"):
            broken.append(f"{program} is not installed")
            continue
        tried[name] = look(broken)
    return tried, broken


# ---- the proxy


def _proxy(broken: list[str]) -> int:
    with tempfile.TemporaryDirectory() as folder:
        here = Place(Path(folder) / "home")
        here.environment |= {"ANGELON_TRUSTED_PROXIES": "127.0.0.1", "ANGELON_BASE_URL": f"https://{NAME}"}
        port, made = free_port(), Path(folder) / "nginx"
        made.mkdir()
        subject = ["-subj", f"/CN={NAME}", "-addext", f"subjectAltName=DNS:{NAME}"]
        key, certificate = made / "key.pem", made / "certificate.pem"
        request = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", *subject]
        subprocess.run([*request, "-keyout", str(key), "-out", str(certificate)], check=True, capture_output=True)
        text = (DEPLOY / "nginx.conf").read_text()
        for old, new in (
            ("127.0.0.1:8080", f"127.0.0.1:{here.ports['web']}"),
            ("listen 443 ssl", f"listen 127.0.0.1:{port} ssl"),
            ("/etc/ssl/angelon/fullchain.pem", str(certificate)),
            ("/etc/ssl/angelon/privkey.pem", str(key)),
        ):
            assert text.count(old) == 1, f"{old} in deploy/nginx.conf"
            text = text.replace(old, new)
        (made / "nginx.conf").write_text(
            f"user root;\ndaemon off;\npid {made}/pid;\nerror_log {made}/error.log;\n"
            f"events {{}}\nhttp {{\naccess_log off;\n"
            f"client_body_temp_path {made}/body;\nproxy_temp_path {made}/proxy;\nfastcgi_temp_path {made}/f;\n"
            f"uwsgi_temp_path {made}/u;\nscgi_temp_path {made}/s;\n{text}\n}}\n"
        )
        here.start("web")
        nginx = subprocess.Popen(["/usr/sbin/nginx", "-p", str(made), "-c", str(made / "nginx.conf")])
        try:
            assert here.up()
            return _through(here, port, str(certificate), broken)
        finally:
            nginx.terminate()
            nginx.wait(10)
            here.close()


def _through(here: Place, port: int, certificate: str, broken: list[str]) -> int:
    import ssl

    trust = ssl.create_default_context(cafile=certificate)
    transport = httpx.HTTPTransport(verify=trust)
    extensions = {"sni_hostname": NAME}
    base, tried = f"https://127.0.0.1:{port}", 0

    def send(method: str, path: str, **given: Any) -> httpx.Response:
        nonlocal tried
        tried += 1
        headers = {"Host": NAME, **given.pop("headers", {})}
        return client.request(method, base + path, headers=headers, extensions=extensions, **given)

    with httpx.Client(transport=transport, timeout=30) as client:
        assert until(lambda: _no_fault(lambda: send("GET", "/healthz")), 10)
        for number in range(50):
            headers = {"Content-Type": "application/json", "Store-Event": "placed", "Store-Delivery": f"d{number}"}
            from tests import made

            taken = send("POST", "/in/shop", content=made.body(id=number), headers=headers)
            if taken.status_code != 202:
                broken.append(f"a delivery through the proxy: {taken.status_code}")
        invited = [sys.executable, "-m", "angelon", "user", "create", "owner@example.org", "--role", "owner"]
        env = {**os.environ, **here.environment}
        link = subprocess.run(invited, env=env, capture_output=True, text=True, check=True).stdout.split()[-1]
        join = link.removeprefix(f"https://{NAME}")
        same = {"Origin": f"https://{NAME}", "Referer": link}
        own = {"name": "Owner", "password": "a long enough password", "csrf_token": _token(send("GET", join).text)}
        if send("POST", join, data=own, headers=same).status_code != 302:
            broken.append("the first owner could not be made by the link")
        # a proxy that is trusted says where a request comes from; what the client says itself does not count
        seen = send("GET", "/settings", headers={"X-Forwarded-For": "203.0.113.9"})
        if seen.status_code != 200:
            broken.append(f"a page through the proxy: {seen.status_code}")
        page = send("GET", "/sources/shop/files").text
        rows = b"reference,email\n" + b"".join(b"BK-%d,p%d@example.org\n" % (n, n) for n in range(600_000))
        file = {"file": ("orders.csv", rows[: 18 * 1024 * 1024].rpartition(b"\n")[0], "text/csv")}
        data = {"csrf_token": _token(page)}
        large = send("POST", "/sources/shop/files", data=data, files=file, headers=same)
        if large.status_code != 302 or "/sign-in" in large.headers["Location"]:
            broken.append(f"a file of 18 MB through the proxy: {large.status_code}")
        if send("POST", "/in/shop", content=b"x" * (22 * 1024 * 1024)).status_code != 413:
            broken.append("a body of 22 MB was passed on")
        tried += 1
        began = time.monotonic()
        with client.stream("GET", f"{base}/live", headers={"Host": NAME}, extensions=extensions) as live:
            first: list[bytes] = []
            reading = threading.Thread(target=lambda: first.append(next(live.iter_raw())), daemon=True)
            reading.start()
            time.sleep(0.5)
            send_ = {"Store-Event": "placed", "Store-Delivery": "later", "Content-Type": "application/json"}
            httpx.post(f"{here.url}/in/shop", content=made.body(id=999), headers=send_)
            reading.join(30)
        if not first:
            broken.append(f"nothing of a live page came through the proxy in {time.monotonic() - began:.0f} s")
        exported = send("GET", "/orders/all.csv")
        if exported.status_code != 200:
            broken.append(f"an export through the proxy: {exported.status_code}")
    return tried


def _token(page: str) -> str:
    found = re.search(r'name="csrf_token"\s+value="([^"]+)"', page)
    return found[1] if found else ""


def _no_fault(ask: Any) -> bool:
    try:
        return bool(ask().status_code == 200)
    except httpx.HTTPError:
        return False


# ---- compose


def _compose(broken: list[str]) -> int:
    """The commands that the compose file names, with its environment, over a PostgreSQL of the proof's own."""
    services = yaml.safe_load((DEPLOY / "compose.yaml").read_text())["services"]
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)  # the server runs as a user of its own
        return _started(services, Path(folder), broken)


def _started(services: dict[str, Any], folder: Path, broken: list[str]) -> int:
    with temporary(folder / "postgresql") as server:
        url = server.create("angelon")
        given = {"POSTGRES_PASSWORD": "p", "ANGELON_SECRET_KEY": KEY, "ANGELON_BASE_URL": ""}
        names = services["web"]["environment"]
        own = {name: _filled(value, given) for name, value in names.items()}
        own |= {"ANGELON_DATABASE_URL": url, "ANGELON_HOME": str(folder / "home")}
        around = {name: value for name, value in os.environ.items() if not name.startswith("ANGELON_")} | own
        made = subprocess.run(_command(services["migrate"], 0), env=around, capture_output=True, text=True, check=False)
        if made.returncode:
            broken.append(f"migrate of an empty database: {made.stderr[-200:]}")
            return 0
        with place(folder / "home", "stand-ins", url=url) as here:
            commands = [_command(services[name], here.ports["web"]) for name in ("web", "plan", "send")]
            started = [subprocess.Popen(one, env=around, stderr=subprocess.DEVNULL) for one in commands]
            try:
                assert here.up()
                with httpx.Client(timeout=10) as client:
                    answers = [here.post(client, number) for number in range(20)]
                if set(answers) != {202} or not here.settled(60):
                    broken.append(f"orders did not get through: {answers}")
                mails = len(Box(here.outside).mails())
                ready = httpx.get(f"{here.url}/readyz/work", timeout=10).status_code
                if ready != 200:
                    broken.append(f"/readyz/work says {ready}")
                return len(started) + mails
            finally:
                for one in started:
                    one.terminate()
                for one in started:
                    one.wait(30)


def _filled(value: str, given: dict[str, str]) -> str:
    return re.sub(r"\$\{(\w+)[^}]*\}", lambda found: given[found[1]], value)


def _command(service: dict[str, Any], port: int) -> list[str]:
    program, *arguments = shlex.split(service["command"])
    assert program == "angelon"
    swapped = {"0.0.0.0": "127.0.0.1", "8080": str(port)}
    return [sys.executable, "-m", "angelon", *(swapped.get(one, one) for one in arguments)]


# ---- units


def _units(broken: list[str]) -> int:
    with tempfile.TemporaryDirectory() as folder:
        units = []
        for file in sorted(DEPLOY.glob("angelon*.*")):
            text = file.read_text().replace("/opt/angelon/.venv/bin/angelon", f"{Path(sys.executable).parent}/angelon")
            unit = Path(folder) / file.name
            unit.write_text(text.replace("User=angelon", "User=daemon"))
            units.append(str(unit))
        said = subprocess.run(["systemd-analyze", "verify", *units], capture_output=True, text=True, check=False)
        ours = [line for line in said.stderr.splitlines() if folder in line or "angelon" in line]
        if ours:
            broken.append(f"systemd: {'; '.join(ours)[:400]}")
        look = ["systemd-analyze", "security", "--offline=yes", "--no-pager", f"{folder}/angelon.service"]
        exposed = subprocess.run(look, capture_output=True, text=True, check=False).stdout
        level = re.search(r"exposure level for \S+: (\d+\.\d+)", exposed)
        if level is None or float(level[1]) > MOST_EXPOSED:
            broken.append(f"exposure of the service: {level[1] if level else exposed[-200:]}")
    return len(units)


# ---- the log


def _log(broken: list[str]) -> int:
    """A log is rotated while a process writes to it: no line is lost but those of the moment of the copy."""
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder) / "angelon.log"
        text = (DEPLOY / "logrotate").read_text().replace("/var/log/angelon/angelon.log", str(log))
        own = Path(folder) / "logrotate.conf"
        own.write_text(text.replace("/*", ""))
        own.chmod(0o644)
        code = "import time\nfor n in range(2000):\n    print(n, flush=True); time.sleep(0.001)"
        with log.open("ab") as out:
            writing = subprocess.Popen([sys.executable, "-c", code], stdout=out)
            time.sleep(0.7)
            rotate = ["/usr/sbin/logrotate", "--force", "--state", f"{folder}/state", str(own)]
            said = subprocess.run(rotate, capture_output=True, text=True, check=False)
            writing.wait(30)
        if said.returncode:
            broken.append(f"logrotate: {said.stderr[-300:]}")
        lines = [line for part in Path(folder).glob("angelon.log*") for line in part.read_bytes().splitlines()]
        found = {int(line.strip(b"\x00")) for line in lines if line.strip(b"\x00").isdigit()}
        if len(found) < 1990:
            broken.append(f"{2000 - len(found)} of 2,000 lines were lost when the log was rotated")
        return len(found)
