"""Two hundred connections that send half a request, beside deliveries and pages."""

from __future__ import annotations

import socket
import tempfile
import time
from pathlib import Path

import httpx

from proof.places import place

HEADS = (
    b"POST /in/shop HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000\r\n\r\n12345",
    b"POST /in/nosuch HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 900000\r\n\r\n1",
    b"POST /sources HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nabc",
    b"GET / HTTP/1.1\r\nHos",
    b"",
)


def run(number: int = 200) -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    with tempfile.TemporaryDirectory() as folder, place(Path(folder), "web") as here:
        assert here.up()
        sockets = []
        for n in range(number):
            one = socket.create_connection(("127.0.0.1", here.ports["web"]))
            one.sendall(HEADS[n % len(HEADS)])
            sockets.append(one)
        slowest = 0.0
        with httpx.Client(timeout=10) as client:
            for n in range(50):
                began = time.monotonic()
                delivered, seen = here.post(client, n), client.get(f"{here.url}/").status_code
                slowest = max(slowest, time.monotonic() - began)
                if (delivered, seen) != (202, 200):
                    broken.append(f"beside {number} half-open connections: {delivered} and {seen}")
        began = time.monotonic()
        closed = 0
        for n, one in enumerate(sockets):
            if HEADS[n % len(HEADS)]:
                one.settimeout(max(1.0, 75 - (time.monotonic() - began)))
                try:
                    while one.recv(4096):
                        pass
                    closed += 1
                except (TimeoutError, ConnectionError) as error:
                    closed += isinstance(error, ConnectionError)
        open_still = sum(1 for n in range(number) if HEADS[n % len(HEADS)]) - closed
        if open_still:
            broken.append(f"{open_still} half-sent requests were still open after 75 s")
        for one in sockets:
            one.close()
    return {
        "half-open connections": number,
        "answered beside them": 100,
        "slowest pair of answers in ms": int(slowest * 1000),
        "closed by their deadline": closed,
    }, broken
