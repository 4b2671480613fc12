"""Files that commands are given: bodies, and `.http` files of headers, a blank line and a body."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click


@dataclass(frozen=True)
class Request:
    """A delivery as a file holds it. Header names are in lower case."""

    headers: dict[str, str]
    body: bytes


def read_request(path: Path) -> Request:
    """An `.http` file's headers and body; any other file is a body, JSON unless it looks like a form."""
    data = path.read_bytes()
    if path.suffix != ".http":
        form = data.lstrip()[:1] not in (b"{", b"[") and b"=" in data
        return Request(
            {"content-type": "application/x-www-form-urlencoded" if form else "application/json"},
            data.strip() if form else data,
        )
    separator = b"\r\n\r\n" if b"\r\n\r\n" in data else b"\n\n"
    head, found, body = data.partition(separator)
    if not found:
        raise click.ClickException(f"{path} has no blank line between headers and body.")
    headers = {}
    for line in head.decode().splitlines():
        name, colon, value = line.partition(":")
        if not colon:
            if line.upper().startswith(("POST ", "GET ", "PUT ")):
                continue
            raise click.ClickException(f"{path}: “{line[:60]}” is no header. Write it as Name: value.")
        headers[name.strip().lower()] = value.strip()
    return Request(headers, body.rstrip(b"\r\n"))
