"""Fetches a file from an address that somebody else chose: never from private addresses, never too much, never
for long.
"""

from __future__ import annotations

import datetime as dt
import ipaddress
import socket
import ssl
import time
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import httpcore
import httpx

from angelon.core.outside import refuse_inside
from angelon.core.retries import retry_after
from angelon.gateways.deadline import Deadline, Line
from angelon.gateways.trust import trusted

MAX_HOPS = 3


class CantFetch(ValueError):
    """Why a file can't be had, as a sentence. `for_good` where another try would come to the same; `wait` is for how
    many seconds whoever was asked wants to be left alone.
    """

    def __init__(self, what: str, for_good: bool = False, wait: float = 0) -> None:
        super().__init__(what)
        self.for_good, self.wait = for_good, wait


@dataclass(frozen=True, slots=True)
class Fetched:
    """What is at an address: its bytes, the answer's headers by lower-case names, and where it was in the end."""

    body: bytes
    headers: Mapping[str, str]
    url: str

    @property
    def next(self) -> str:
        """Where the next page is (RFC 8288, `rel="next"`), as it is written; empty where the answer does not say."""
        links = httpx.Response(200, headers={"link": self.headers.get("link", "")}).links
        return str(links.get("next", {}).get("url", ""))


class _Guarded(httpcore.NetworkBackend):
    """Connects to public addresses only. The address that was looked at is the one that is connected to."""

    def __init__(self, allowed: Collection[str], line: Line) -> None:
        self._allowed = {host.lower() for host in allowed}
        self._plain = httpcore.SyncBackend()
        self._line = line

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.NetworkStream:
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError):
            raise CantFetch(f"The host {host[:80]} is not known.") from None
        addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
        if host.lower() not in self._allowed:
            for address in addresses:
                if not public(address):
                    raise CantFetch(
                        f"{host} is {address}, a private address, which is not fetched from. The store’s "
                        "settings can allow the host.",
                        True,
                    )
        stream = self._plain.connect_tcp(addresses[0], port, timeout, local_address, socket_options)
        connected = stream.get_extra_info("socket")
        if connected is not None:
            self._line.hold(connected)
        return stream

    def connect_unix_socket(
        self, path: str, timeout: float | None = None, socket_options: Iterable[Any] | None = None
    ) -> httpcore.NetworkStream:
        raise CantFetch("A socket of this machine is not fetched from.", True)

    def sleep(self, seconds: float) -> None:
        time.sleep(seconds)


_NOT_OPEN = [ipaddress.ip_network(text) for text in ("64:ff9b:1::/48", "fec0::/10", "3fff::/20", "5f00::/16")]
"""IPv6 networks that lead inside or nowhere (RFC 8215, RFC 3879, RFC 9637, RFC 9602), which the standard library does
not all know.
"""


def public(address: str) -> bool:
    """Whether an IP address is one of the open internet (RFC 6890): not private, loopback, link-local, shared or
    reserved.
    """
    ip = ipaddress.ip_address(address.partition("%")[0])
    inner = getattr(ip, "ipv4_mapped", None) or getattr(ip, "sixtofour", None)
    if inner is not None:
        ip = inner
    if isinstance(ip, ipaddress.IPv6Address):
        if any(ip in ipaddress.ip_network(one) for one in ("64:ff9b::/96", "::/96", "::ffff:0:0:0/96")):
            ip = ipaddress.ip_address(int(ip) & 0xFFFFFFFF)
        elif any(ip in network for network in _NOT_OPEN):
            return False
    return ip.is_global and not ip.is_multicast


def fetch(
    url: str,
    allowed: Collection[str] = (),
    max_bytes: int = 10_000_000,
    seconds: float = 10,
    headers: Mapping[str, str] | None = None,
    body: bytes | None = None,
) -> bytes:
    """The bytes at an address, as `fetch_answer` has them. Raises CantFetch."""
    return fetch_answer(url, allowed, max_bytes, seconds, headers, body).body


def fetch_answer(
    url: str,
    allowed: Collection[str] = (),
    max_bytes: int = 10_000_000,
    seconds: float = 10,
    headers: Mapping[str, str] | None = None,
    body: bytes | None = None,
) -> Fetched:
    """What is at an address (http or https), by GET, or by POST where there is a body. Raises CantFetch with a
    sentence.

    `allowed` are hosts whose addresses may be private. Redirects of a GET are followed three times, each checked anew;
    to another origin `headers`, which may hold credentials, do not go along. A POST is not sent on.
    """
    refuse_inside("asking an address")
    first = httpx.URL(url) if headers else None
    until = time.monotonic() + seconds
    line = Line()
    pool = httpcore.ConnectionPool(ssl_context=trusted(), network_backend=_Guarded(allowed, line), max_connections=2)
    try:
        with pool, Deadline(line, seconds + 1):
            for _ in range(MAX_HOPS + 1):
                found = _hop(pool, url, max_bytes, seconds, until, headers or {}, body)
                if isinstance(found, Fetched):
                    return found
                if body is not None:
                    raise CantFetch(f"{url[:80]} sends on to {found[:80]}, which a POST does not follow.", True)
                url = found
                if first is not None and not _same_origin(first, httpx.URL(url)):
                    headers = None
    finally:
        line.drop()
    raise CantFetch(f"{url[:80]} redirects more than {MAX_HOPS} times.")


def _same_origin(one: httpx.URL, other: httpx.URL) -> bool:
    """Whether two addresses are of one origin (RFC 6454)."""
    ports = {"http": 80, "https": 443}
    return (one.scheme, one.host, one.port or ports.get(one.scheme)) == (
        other.scheme,
        other.host,
        other.port or ports.get(other.scheme),
    )


def _hop(
    pool: httpcore.ConnectionPool,
    url: str,
    max_bytes: int,
    seconds: float,
    until: float,
    headers: Mapping[str, str],
    body: bytes | None,
) -> Fetched | str:
    """What is at an address, or where it sends on to."""
    parsed = _checked(url)
    left = until - time.monotonic()
    timeout = {name: max(left, 0.1) for name in ("connect", "read", "write", "pool")}
    plain = {"Host": parsed.netloc.decode(), "User-Agent": "Angelon", "Accept": "*/*"}
    try:
        with pool.stream(
            "GET" if body is None else "POST",
            str(parsed),
            headers=list((plain | dict(headers)).items()),
            content=body,
            extensions={"timeout": timeout},
        ) as answer:
            if answer.status in (301, 302, 303, 307, 308):
                target = next((value for name, value in answer.headers if name.lower() == b"location"), b"").decode(
                    "latin-1"
                )
                return str(parsed.join(target))
            if not 200 <= answer.status < 300:
                why = ": it wants credentials, or other ones" if answer.status in (401, 403) else ""
                raise CantFetch(
                    f"{parsed.host} answered {answer.status}{why}.",
                    400 <= answer.status < 500 and answer.status not in (401, 402, 408, 425, 429),
                    retry_after(_named(answer.headers).get("retry-after", ""), dt.datetime.now(dt.UTC)),
                )
            found = _body(answer.iter_stream(), parsed.host, max_bytes, until)
            return Fetched(found, _named(answer.headers), str(parsed))
    except CantFetch:
        raise
    except (httpcore.TimeoutException, TimeoutError):
        raise CantFetch(f"{parsed.host} did not answer within {seconds:g} s.") from None
    except (httpcore.NetworkError, httpcore.ProtocolError, ssl.SSLError, OSError) as error:
        if time.monotonic() > until:
            raise CantFetch(f"{parsed.host} did not answer within {seconds:g} s.") from None
        raise CantFetch(f"{parsed.host} can't be read from: {error or type(error).__name__}.") from None
    except (httpx.InvalidURL, UnicodeError, ValueError, OverflowError):
        raise CantFetch(f"{parsed.host} sends on to what is no web address.", True) from None


def _named(headers: Iterable[tuple[bytes, bytes]]) -> dict[str, str]:
    return {name.lower().decode("latin-1"): value.decode("latin-1")[:4000] for name, value in headers}


def _checked(url: str) -> httpx.URL:
    try:
        parsed = httpx.URL(url)
    except (httpx.InvalidURL, ValueError):
        raise CantFetch(f"“{url[:80]}” is no web address.", True) from None
    labels = parsed.host.rstrip(".").split(".")
    if (
        parsed.scheme not in ("http", "https")
        or not parsed.host
        or parsed.userinfo
        or len(parsed.host) > 253
        or not all(0 < len(label) < 64 for label in labels)
        or not 0 < (parsed.port or 80) < 65536
    ):
        raise CantFetch(f"“{url[:80]}” is no web address: it starts with https:// and holds no password.", True)
    return parsed


def _body(chunks: Iterable[bytes], host: str, max_bytes: int, until: float) -> bytes:
    body = bytearray()
    for chunk in chunks:
        body += chunk
        if len(body) > max_bytes:
            raise CantFetch(f"What {host} gives is larger than {max_bytes / 1e6:.1f} MB.", True)
        if time.monotonic() > until:
            raise CantFetch(f"{host} takes too long.")
    return bytes(body)
