"""A real mail server on loopback, in a folder of its own: postfix of Debian's packages, never as a system service."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path

POSTFIX = shutil.which("postfix", path="/usr/sbin:/usr/bin:/sbin")

MAIN = """compatibility_level = 3.6
queue_directory = {home}/queue
data_directory = {home}/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = mx.there.example
mydestination =
mynetworks = 127.0.0.0/8
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
smtpd_relay_restrictions = permit_mynetworks, reject
smtpd_reject_unlisted_recipient = no
virtual_mailbox_domains = there.example
virtual_mailbox_base = {home}/mail
virtual_mailbox_maps = texthash:{home}/boxes
virtual_uid_maps = static:{user}
virtual_gid_maps = static:{group}
virtual_minimum_uid = 1
transport_maps = texthash:{home}/transport
smtp_dns_support_level = disabled
maillog_file = {home}/log
maillog_file_prefixes = {home}
smtputf8_enable = no
"""
MASTER = """127.0.0.1:{port} inet n - n - - smtpd
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
flush unix n - n 1000? 0 flush
proxymap unix - - n - - proxymap
smtp unix - - n - - smtp
virtual unix - n n - - virtual
error unix - - n - - error
retry unix - - n - - error
discard unix - - n - - discard
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
postlog unix-dgram n - n - 1 postlogd
"""


class MailServer:
    """Takes mail for there.example: jo has a mailbox, whoever else is sent back. What is for the domain of the return
    path goes to a port.
    """

    def __init__(self, home: Path, port: int, back_domain: str, back_port: int) -> None:
        self.home, self.port = home, port
        for name in ("queue", "data", "mail"):
            (home / name).mkdir()
        home.chmod(0o755)
        shutil.chown(home / "data", "postfix", "postfix")
        shutil.chown(home / "mail", "nobody", "nogroup")
        nobody = (home / "mail").stat()
        given = {"home": home, "port": port, "user": nobody.st_uid, "group": nobody.st_gid}
        (home / "main.cf").write_text(MAIN.format(**given))
        (home / "master.cf").write_text(MASTER.format(**given))
        (home / "boxes").write_text("jo@there.example jo/\n")
        (home / "transport").write_text(f"{back_domain} smtp:[127.0.0.1]:{back_port}\n")
        for one in home.iterdir():  # whatever the umask is: postfix is several users
            one.chmod(0o755 if one.is_dir() else 0o644)

    def start(self) -> None:
        done = subprocess.run([POSTFIX, "-c", self.home, "start"], capture_output=True, timeout=60, text=True)
        assert done.returncode == 0, f"{done.stdout}{done.stderr}{self.log}"

    def stop(self) -> None:
        subprocess.run([POSTFIX, "-c", self.home, "stop"], check=False, capture_output=True, timeout=60)

    def mails(self, until: float = 10) -> list[bytes]:
        """What stands in the mailbox, once something does."""
        end = time.monotonic() + until
        while time.monotonic() < end:
            found = sorted((self.home / "mail" / "jo" / "new").glob("*"))
            if found:
                return [one.read_bytes() for one in found]
            time.sleep(0.1)
        return []

    @property
    def log(self) -> str:
        return (self.home / "log").read_text() if (self.home / "log").exists() else "no log"


def can_run() -> bool:
    return POSTFIX is not None and os.geteuid() == 0
