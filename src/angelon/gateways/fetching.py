"""Fetches a file from an address that somebody else chose: never from inside the house, never too much, never for long."""

from __future__ import annotations

import ipaddress
import socket
import ssl
import time
from collections.abc import Collection, Iterable
from typing import Any

import httpcore
import httpx

MAX_HOPS = 3


class CantFetch(ValueError):
    """Why a file can't be had, as a sentence. `for_good` where another try would come to the same."""

    def __init__(self, what: str, for_good: bool = False) -> None:
        super().__init__(what)
        self.for_good = for_good


class _Guarded(httpcore.NetworkBackend):
    """Connects to public addresses only. The address that was looked at is the one that is connected to."""

    def __init__(self, allowed: Collection[str]) -> None:
        self._allowed = {host.lower() for host in allowed}
        self._plain = httpcore.SyncBackend()

    def connect_tcp(self, host: str, port: int, timeout: float | None = None, local_address: str | None = None, socket_options: Iterable[Any] | None = None) -> httpcore.NetworkStream:
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except OSError:
            raise CantFetch(f"The host {host} is not known.") from None
        addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
        if host.lower() not in self._allowed:
            for address in addresses:
                if not public(address):
                    raise CantFetch(f"{host} is {address}, an address inside the house, which is not fetched from. The store’s settings can allow the host.", True)
        return self._plain.connect_tcp(addresses[0], port, timeout, local_address, socket_options)

    def connect_unix_socket(self, path: str, timeout: float | None = None, socket_options: Iterable[Any] | None = None) -> httpcore.NetworkStream:
        raise CantFetch("A socket of this machine is not fetched from.", True)

    def sleep(self, seconds: float) -> None:
        time.sleep(seconds)


def public(address: str) -> bool:
    """Whether an IP address is one of the open internet (RFC 6890): not private, loopback, link-local, shared or reserved."""
    ip = ipaddress.ip_address(address.partition("%")[0])
    inner = getattr(ip, "ipv4_mapped", None) or getattr(ip, "sixtofour", None)
    if inner is not None:
        ip = inner
    if isinstance(ip, ipaddress.IPv6Address) and ip in ipaddress.ip_network("64:ff9b::/96"):
        ip = ipaddress.ip_address(int(ip) & 0xFFFFFFFF)
    return ip.is_global and not ip.is_multicast


def fetch(url: str, allowed: Collection[str] = (), max_bytes: int = 10_000_000, seconds: float = 10) -> bytes:
    """The bytes at an address (http or https). Raises CantFetch with a sentence.

    `allowed` are hosts that may be inside the house. Redirects are followed three times, each checked anew.
    """
    until = time.monotonic() + seconds
    pool = httpcore.ConnectionPool(ssl_context=ssl.create_default_context(), network_backend=_Guarded(allowed), max_connections=2)
    with pool:
        for _ in range(MAX_HOPS + 1):
            parsed = _checked(url)
            left = until - time.monotonic()
            timeout = {name: max(left, 0.1) for name in ("connect", "read", "write", "pool")}
            try:
                with pool.stream("GET", str(parsed), headers={"Host": parsed.netloc.decode(), "User-Agent": "Angelon", "Accept": "*/*"}, extensions={"timeout": timeout}) as answer:
                    if answer.status in (301, 302, 303, 307, 308):
                        target = next((value for name, value in answer.headers if name.lower() == b"location"), b"").decode("latin-1")
                        url = str(parsed.join(target))
                        continue
                    if answer.status != 200:
                        raise CantFetch(f"{parsed.host} answered {answer.status}.", 400 <= answer.status < 500 and answer.status not in (408, 425, 429))
                    return _body(answer.iter_stream(), parsed.host, max_bytes, until)
            except (httpcore.TimeoutException, TimeoutError):
                raise CantFetch(f"{parsed.host} did not answer within {seconds:g} s.") from None
            except (httpcore.NetworkError, httpcore.ProtocolError, ssl.SSLError, OSError) as error:
                raise CantFetch(f"{parsed.host} can't be read from: {error or type(error).__name__}.") from None
        raise CantFetch(f"{url[:80]} redirects more than {MAX_HOPS} times.")


def _checked(url: str) -> httpx.URL:
    try:
        parsed = httpx.URL(url)
    except (httpx.InvalidURL, ValueError):
        raise CantFetch(f"“{url[:80]}” is no web address.", True) from None
    if parsed.scheme not in ("http", "https") or not parsed.host or parsed.userinfo:
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
