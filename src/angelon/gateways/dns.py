"""Asks DNS about a domain; or, in its place, a zone file (RFC 1035, section 5), for tests and where no network is."""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from pathlib import Path

import dns.exception
import dns.name
import dns.resolver
import dns.reversename
import dns.zone

from angelon.core.sending.domain import Records

WAIT, IN_ALL = 3.0, 10.0
"""Seconds for one question, and for all of them: who asks waits for the page."""
MOST_ADDRESSES = 8
"""Addresses of a host whose names are asked for."""
MOST_INCLUDES = 10


class Resolver:
    """The system's resolver, or a zone file."""

    def __init__(self, zone: Path | None = None) -> None:
        self._zone = dns.zone.from_file(str(zone), origin=".", relativize=False, check_origin=False) if zone else None
        self.failed: list[str] = []
        self._until = time.monotonic() + IN_ALL

    def ask(self, name: str, kind: str) -> list[str]:
        """The answers as texts; none where there are none, or they can't be had (`failed`)."""
        left = self._until - time.monotonic()
        if left <= 0:
            self.failed.append(f"{name} {kind}")
            return []
        try:
            if self._zone is not None:
                found = self._zone.get_rdataset(dns.name.from_text(name), kind)
                rows = list(found) if found is not None else []
            else:
                asker = dns.resolver.Resolver()
                asker.lifetime = min(WAIT, left)
                rows = list(asker.resolve(name, kind))
        except (dns.resolver.NXDOMAIN, dns.resolver.NoAnswer):
            return []
        except (dns.exception.DNSException, OSError, ValueError):
            self.failed.append(f"{name} {kind}")
            return []
        if kind == "TXT":
            return [b"".join(row.strings).decode(errors="replace") for row in rows]
        return [str(row.exchange) if kind == "MX" else str(row) for row in rows]


def records_of(resolver: Resolver, domain: str, host: str, selectors: Sequence[str] = ()) -> Records:
    """All that is asked about a domain and the host that sends for it."""
    txt = resolver.ask(domain, "TXT")
    included: dict[str, list[str]] = {}
    waiting = _includes(txt)
    while waiting and len(included) < MOST_INCLUDES:
        name = waiting.pop(0)
        if name not in included:
            included[name] = [text for text in resolver.ask(name, "TXT") if text.lower().startswith("v=spf1")]
            waiting += _includes(included[name])
    addresses = [*resolver.ask(host, "A"), *resolver.ask(host, "AAAA")] if not _is_address(host) else [host]
    reverse = {one: resolver.ask(str(dns.reversename.from_address(one)), "PTR") for one in addresses[:MOST_ADDRESSES]}
    return Records(
        domain,
        txt,
        included,
        resolver.ask(f"_dmarc.{domain}", "TXT"),
        resolver.ask(domain, "MX"),
        {one: resolver.ask(f"{one}._domainkey.{domain}", "TXT") for one in selectors},
        addresses,
        reverse,
        tuple(resolver.failed),
    )


def _includes(texts: Sequence[str]) -> list[str]:
    return [name.rstrip(".") for text in texts for name in re.findall(r"(?:include:|redirect=)([\w.-]+)", text)]


def _is_address(host: str) -> bool:
    return bool(re.fullmatch(r"[0-9.]+|[0-9a-fA-F:]+:[0-9a-fA-F:]*", host))
