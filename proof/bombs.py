"""What is small and grows when it is read, or takes long: each kind for each parser that strangers reach, in a process
with little memory and little time. It is read, or refused in words.
"""

from __future__ import annotations

import contextlib
import gzip
import io
import json
import os
import random
import resource
import signal
import tarfile
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import click

from angelon.cli.backups import _unpacked as unpacked_backup
from angelon.core import curl_commands, sheets
from angelon.core.mails_in import read_mail
from angelon.core.markup.cleaning import cleaned
from angelon.core.messages.attachments import check_picture
from angelon.core.payload.body import NotReadable, parse_body
from angelon.core.problems import Invalid
from angelon.core.sending.returned import read_returned
from angelon.core.specs.bundle import read_bundle
from angelon.core.specs.mail_in import MailIn
from angelon.gateways.http import NotUnpacked, _unpacked

MORE_MEMORY, SECONDS = 400_000_000, 10
"""Bytes beyond what the process has, and seconds of its processor, for one of them."""
STANDS_STILL = 120
"""Seconds by the clock, which a busy machine needs for that."""
FROM = MailIn(address="in@shop.example", senders=["@example.org"], patterns=[r"(?P<order>BK-\d+)"])


def _mail(rng: random.Random) -> bytes:
    size = rng.choice((100, 2_000, 40_000))
    parts = "".join(f"--x\r\nContent-Type: text/plain; n={n}\r\n\r\nhi\r\n" for n in range(size // 20))
    nested = "".join(f'Content-Type: multipart/mixed; boundary="b{n}"\r\n\r\n--b{n}\r\n' for n in range(size // 40))
    return rng.choice(
        (
            "From: a@example.org\r\nContent-Type: message/delivery-status" + ";\r\n a=b" * size + "\r\n\r\nx",
            "From: a@example.org\r\nContent-Type: multipart/report; boundary=x\r\n\r\n" + parts,
            "From: a@example.org\r\n" + nested,
            "From: " + "a@example.org, " * size + "\r\n\r\nBK-1",
            "From: a@example.org\r\nSubject: " + "=?utf-8?b?SGk=?= " * size + "\r\n\r\nBK-1",
            "From: a@example.org\r\n\r\n" + "BK-" * size,
            "From: " + "(" * size + "\r\n\r\n",
            "From: a@example.org\r\n" + "".join(f"X-{n}: y\r\n" for n in range(size)) + "\r\nx",
        )
    ).encode()


def _json(rng: random.Random) -> bytes:
    size = rng.choice((1_000, 100_000, 900_000))
    return rng.choice(
        (
            b"[" * size,
            b'{"a":' * size,
            b"[" + b"1," * size + b"1]",
            b'{"a":' + b"9" * size + b"}",
            b'{"a": 1e' + b"9" * 20 + b"}",
            b'{"' + b"\\u0041" * (size // 6) + b'": 1}',
            json.dumps({str(n): n for n in range(size // 10)}).encode(),
        )
    )


def _packed(rng: random.Random) -> bytes:
    plain = rng.choice((b"\x00", b"{", b" ", b"<a>")) * rng.choice((1_000_000, 60_000_000))
    once = gzip.compress(plain)
    return rng.choice((once, gzip.compress(once), zlib.compress(plain), once[:-9], once + once))


def _archive(rng: random.Random) -> bytes:
    out = io.BytesIO()
    if rng.random() < 0.5:
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
            size = rng.choice((1_000, 150_000_000))
            for name in ("[Content_Types].xml", "xl/workbook.xml", "xl/worksheets/sheet1.xml"):
                made.writestr(name, b"<row>" * (size // 5))
        return out.getvalue()
    with tarfile.open(fileobj=out, mode="w:gz") as tar:
        for name, size in (("manifest.json", 10), ("angelon.db", rng.choice((10, 120_000_000))), ("../x", 3)):
            info = tarfile.TarInfo(name)
            info.size = size
            tar.addfile(info, io.BytesIO(b"\x00" * size))
    return out.getvalue()


def _text(rng: random.Random) -> bytes:
    size = rng.choice((1_000, 50_000))
    deep = "\n".join(f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9) if n else '1'}]" for n in range(30))
    return rng.choice(
        (
            deep,
            "<div>" * size,
            "<table>" * (size // 10) + "&amp;" * size,
            "curl " + "-H 'a: b' " * size,
            "a" * size + "'" + '"' * size,
            "a,b\n" + '"' + "x" * size,
            ";" * size,
            ("a," * 2_000 + "\n") * (size // 100),
        )
    ).encode()


def _picture(rng: random.Random) -> bytes:
    side = rng.choice((10, 9_000, 60_000))
    head = b"IHDR" + side.to_bytes(4, "big") * 2 + b"\x08\x02\x00\x00\x00"
    return b"\x89PNG\r\n\x1a\n" + (13).to_bytes(4, "big") + head + zlib.crc32(head).to_bytes(4, "big")


def _rows(data: bytes) -> None:
    for number, _ in enumerate(sheets.read_rows(sheets.guess("x.csv", data), io.BytesIO(data))):
        if number > 200_000:
            break


def _backup(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "b.tar.gz"
        file.write_bytes(data)
        unpacked_backup(file, Path(folder))


def _answer(data: bytes) -> None:
    if len(_unpacked("gzip", data, 1_000_000)) > 1_000_001:
        raise AssertionError("more was unpacked than may be")


PARSERS: dict[str, tuple[Callable[[bytes], object], tuple[Callable[[random.Random], bytes], ...]]] = {
    "mail that comes back": (read_returned, (_mail, _packed, _text)),
    "a mail that is a delivery": (lambda data: read_mail(FROM, data), (_mail, _text)),
    "a delivery": (lambda data: parse_body(data, "application/json"), (_json, _packed)),
    "a form": (lambda data: parse_body(data, "application/x-www-form-urlencoded"), (_text, _json)),
    "a provider's answer": (_answer, (_packed, _json)),
    "a file of orders": (_rows, (_archive, _text, _json)),
    "a backup": (_backup, (_archive, _packed)),
    "a set-up": (lambda data: read_bundle(data.decode("utf-8", "replace")), (_text, _json)),
    "a command": (lambda data: curl_commands.read(data.decode("utf-8", "replace")), (_text,)),
    "pasted HTML": (lambda data: cleaned(data.decode("utf-8", "replace")[:200_000]), (_text, _mail)),
    "a picture": (check_picture, (_picture, _packed)),
}
REFUSED = (Invalid, NotReadable, NotUnpacked, click.ClickException, ValueError)
OK, WRONG, MEMORY = 0, 3, 4


def run(rounds: int = 60, first: int = 0) -> tuple[dict[str, int], list[str]]:
    broken, tried, slowest = [], 0, 0.0
    for name, (parse, kinds) in PARSERS.items():
        for number in range(first, first + rounds):
            rng = random.Random(f"{name}{number}")
            kind = rng.choice(kinds)
            data = kind(rng)
            began = time.monotonic()
            what = _apart(parse, data)
            slowest, tried = max(slowest, time.monotonic() - began), tried + 1
            if what:
                broken.append(f"{name}, {kind.__name__[1:]} {number} of {len(data):,} bytes: {what}")
    return {"bombs": tried, "slowest in ms": int(slowest * 1000)}, broken


def _apart(parse: Callable[[bytes], object], data: bytes, again: bool = True) -> str:
    """What became of it in a process of its own; empty where it was read, or refused in words. A copy of a process with
    threads may find a lock held for ever: one that stands still is tried once more.
    """
    child = os.fork()
    if not child:
        code = WRONG
        with contextlib.suppress(BaseException):
            code = _bounded(parse, data)
        os._exit(code)
    _, status = os.waitpid(child, 0)
    if again and os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGALRM:
        return _apart(parse, data, False)
    if os.WIFSIGNALED(status):
        return f"ended by {signal.Signals(os.WTERMSIG(status)).name}"
    return {OK: "", MEMORY: "takes too much memory"}.get(os.WEXITSTATUS(status), "an error that nobody expected")


def _bounded(parse: Callable[[bytes], object], data: bytes) -> int:
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (used + MORE_MEMORY, used + MORE_MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS + 1))
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    signal.alarm(STANDS_STILL)
    try:
        parse(data)
    except REFUSED:
        return OK
    except MemoryError:
        return MEMORY
    except BaseException:
        return WRONG
    return OK
