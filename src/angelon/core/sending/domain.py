"""What a domain's records say of mail that comes from it: SPF (RFC 7208), DKIM (RFC 6376), DMARC (RFC 7489), MX, and
the sending host's reverse name. Pure: the records are given.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

MOST_LOOKUPS = 10
"""DNS look-ups that an SPF record may cause (RFC 7208, section 4.6.4)."""


@dataclass(frozen=True, slots=True)
class Records:
    """What DNS says. An address that could not be asked is among `failed`."""

    domain: str
    txt: Sequence[str] = ()
    """Of the domain itself."""
    included: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """SPF records of the domains that the domain's includes, by name."""
    dmarc: Sequence[str] = ()
    mx: Sequence[str] = ()
    dkim: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """By selector."""
    host_addresses: Sequence[str] = ()
    """Of the mail server that sends."""
    reverse: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """The names that these addresses have."""
    failed: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that was looked at: how it is, how it should be (to be copied), and one sentence."""

    name: str
    state: Literal["good", "wait", "bad"]
    said: str
    at: str = ""
    """The name in DNS that the record stands at."""
    is_now: str = ""
    should_be: str = ""


def check(records: Records, host: str, dkim: Mapping[str, str] | None = None, return_domain: str = "") -> list[Finding]:
    """Everything in turn. `host` is the mail server's name; `dkim` are the records that should stand, by selector,
    where Angelon signs; `return_domain` is that of the envelope's sender where it is another.
    """
    dkim = dkim or {}
    found = [_mx(records), _spf(records, host)]
    found += [_dkim(records, selector, wanted) for selector, wanted in dkim.items()]
    if not dkim:
        told = "Angelon does not sign for this domain. Your mail server may; otherwise have a key made here."
        found.append(Finding("DKIM", "wait", told))
    found += [_dmarc(records, bool(dkim), return_domain), _reverse(records, host)]
    failed = f"Could not be asked: {', '.join(records.failed)}." if records.failed else ""
    return [*found, *([Finding("DNS", "wait", failed)] if failed else [])]


def _mx(records: Records) -> Finding:
    if any(one.strip(".") == "" for one in records.mx):
        return Finding("MX", "bad", "The domain says that it takes no mail (null MX): answers and bounces are lost.")
    if records.mx:
        return Finding("MX", "good", "Answers and bounces can be delivered.", records.domain, ", ".join(records.mx))
    return Finding(
        "MX",
        "bad",
        "Nothing takes mail for the domain: answers are lost, and many servers refuse what comes from it.",
        records.domain,
        "",
        f"{records.domain}. MX 10 mail.{records.domain}.",
    )


def _spf(records: Records, host: str) -> Finding:
    spf = [text for text in records.txt if re.match(r"v=spf1( |$)", text, re.IGNORECASE)]
    names_it = _term(host)
    suggested = f"v=spf1 {names_it} ~all"
    if not spf:
        said = "There is no SPF record: receivers can’t tell that your server may send for the domain."
        return Finding("SPF", "bad", said, records.domain, "", suggested)
    if len(spf) > 1:
        said = "There are several SPF records, and receivers then take none. Join them into one."
        return Finding("SPF", "bad", said, records.domain, " | ".join(spf), spf[0])
    text = spf[0]
    terms = text.split()[1:]
    lookups = sum(bool(re.match(r"[+?~-]?(include|a|mx|ptr|exists)\b|redirect=", term)) for term in terms)
    lookups += sum(
        bool(re.match(r"[+?~-]?(include|a|mx|ptr|exists)\b", term))
        for inner in records.included.values()
        for one in inner
        for term in one.split()[1:]
    )
    if lookups > MOST_LOOKUPS:
        said = f"The record causes {lookups} look-ups, and {MOST_LOOKUPS} are allowed: receivers take it for broken."
        return Finding("SPF", "bad", said, records.domain, text)
    ending = next((term for term in terms if term.lstrip("+?~-") == "all"), "")
    if ending.startswith("+") or ending == "all":
        said = "The record lets everybody send for the domain, which is worse than none."
        return Finding("SPF", "bad", said, records.domain, text, re.sub(r"\+?all\b", "~all", text))
    if not ending and not any(term.startswith("redirect=") for term in terms):
        said = "The record does not say what holds for others: end it with ~all."
        return Finding("SPF", "wait", said, records.domain, text, f"{text} ~all")
    covered = _covers(terms, records, host)
    if not covered and records.host_addresses and all(_is_inside(one) for one in records.host_addresses):
        said = f"{host} is inside your own network: the record has to name the address that its mail leaves by."
        return Finding("SPF", "wait", said, records.domain, text)
    if not covered:
        said = f"The record does not name {host}. If mail leaves through it or its provider, say so in the record."
        should = re.sub(r"\s*([~?-])all\b", rf" {names_it} \1all", text)
        return Finding("SPF", "wait", said, records.domain, text, should)
    return Finding("SPF", "good", "Your mail server may send for the domain.", records.domain, text)


def _term(host: str) -> str:
    """What names a host in SPF: an address by its kind (RFC 7208, section 5.6), a name by its A record; the domain's
    own mail servers where it is one that nobody outside sees.
    """
    try:
        return "mx" if _is_inside(host) else f"ip{ipaddress.ip_address(host).version}:{host}"
    except ValueError:
        return f"a:{host}"


def _covers(terms: Sequence[str], records: Records, host: str) -> bool:
    """Whether a record names the host, directly or by an include that does."""
    addresses = [ipaddress.ip_address(one) for one in records.host_addresses]
    for term in terms:
        kind, _, rest = term.lstrip("+").partition(":")
        if kind == "a" and rest.rstrip(".") in ("", host.rstrip(".")):
            return True
        if kind in ("ip4", "ip6"):
            try:
                network = ipaddress.ip_network(rest, strict=False)
            except ValueError:
                continue
            if any(address in network for address in addresses if address.version == network.version):
                return True
        if kind == "mx" and any(name.rstrip(".") == host.rstrip(".") for name in records.mx):
            return True
        if kind == "include" and any(
            _covers(one.split()[1:], records, host) for one in records.included.get(rest.rstrip("."), ())
        ):
            return True
    return False


def _dkim(records: Records, selector: str, wanted: str) -> Finding:
    at = f"{selector}._domainkey.{records.domain}"
    there = list(records.dkim.get(selector, ()))
    key = re.search(r"p=([\w+/=]*)", wanted.replace(" ", ""))
    if any(key and key[1] and f"p={key[1]}" in text.replace(" ", "") for text in there):
        return Finding("DKIM", "good", "The key is in DNS: receivers can check the signature.", at, wanted)
    said = (
        "DNS has another key: signatures would fail." if there else "The key is not in DNS yet: signatures would fail."
    )
    return Finding("DKIM", "bad", said, at, " | ".join(there), wanted)


def _dmarc(records: Records, signs: bool, return_domain: str) -> Finding:
    at = f"_dmarc.{records.domain}"
    found = [text for text in records.dmarc if text.strip().lower().startswith("v=dmarc1")]
    suggested = f"v=DMARC1; p=none; rua=mailto:postmaster@{records.domain}"
    if not found:
        said = "There is no DMARC record, which large receivers require of anyone who sends much."
        return Finding("DMARC", "bad", said, at, "", suggested)
    if len(found) > 1:
        return Finding(
            "DMARC", "bad", "There are several DMARC records, and receivers then take none.", at, "", found[0]
        )
    policy = re.search(r"\bp\s*=\s*(\w+)", found[0])
    if policy is None:
        return Finding("DMARC", "bad", "The record names no policy (p=).", at, found[0], suggested)
    other = return_domain and not _same_organisation(return_domain, records.domain)
    if other and not signs:
        said = (
            f"Bounces go to {return_domain}, another organisation’s domain, and Angelon does not sign: the mail would "
            "pass neither way. Use a return path under your own domain, or sign."
        )
        return Finding("DMARC", "bad", said, at, found[0])
    if policy[1].lower() == "none":
        said = "In order. The policy only watches (p=none); once all your mail passes, say quarantine."
        return Finding("DMARC", "good", said, at, found[0])
    return Finding("DMARC", "good", f"In order; what does not pass is treated as “{policy[1]}”.", at, found[0])


def _same_organisation(one: str, other: str) -> bool:
    """Whether one domain is the other, or under it: relaxed alignment (RFC 7489, section 3.1), near enough."""
    one, other = one.lower().rstrip("."), other.lower().rstrip(".")
    return one == other or one.endswith(f".{other}") or other.endswith(f".{one}")


_INSIDE = [ipaddress.ip_network(one) for one in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")]
"""Addresses that are not routed (RFC 1918, RFC 4193)."""


def _is_inside(address: str) -> bool:
    found = ipaddress.ip_address(address)
    return (
        found.is_loopback or found.is_link_local or any(found in net for net in _INSIDE if net.version == found.version)
    )


def _reverse(records: Records, host: str) -> Finding:
    if not records.host_addresses:
        return Finding("Reverse name", "wait", f"{host} has no address in DNS, so its reverse name can’t be looked at.")
    if any(_is_inside(one) for one in records.host_addresses):
        said = f"{host} is an address inside your own network; receivers see the one that it goes out by."
        return Finding("Reverse name", "wait", said)
    missing = [address for address in records.host_addresses if not records.reverse.get(address)]
    if missing:
        said = f"{missing[0]} has no reverse name (PTR): many receivers refuse mail that comes from it directly."
        should = f"mail.{records.domain}." if _term(host).startswith("ip") else f"{host}."
        return Finding("Reverse name", "wait", said, missing[0], "", should)
    names = sorted({name.rstrip(".") for found in records.reverse.values() for name in found})
    return Finding("Reverse name", "good", "The mail server’s address has a name.", "", ", ".join(names))
