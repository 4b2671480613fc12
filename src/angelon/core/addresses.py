"""Where a send goes: email addresses (RFC 5321) and phone numbers (E.164), checked without asking the network."""

from __future__ import annotations

import ipaddress
import re
from functools import lru_cache

import phonenumbers
from email_validator import EmailNotValidError, validate_email

_PLAIN = re.compile(
    r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*@([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)+[A-Za-z]{2,63}\Z"
)


def check_email(text: str) -> str:
    """The address, its domain in lower case. Raises EmailNotValidError with a sentence that says why not."""
    if len(text) <= 254 and _PLAIN.match(text) and len(text.partition("@")[0]) <= 64:
        local, _, domain = text.partition("@")
        return f"{local}@{domain.lower()}"
    if any(ord(c) < 32 or c == "\x7f" for c in text):
        raise EmailNotValidError("It holds a line break or control character.")
    return validate_email(text, check_deliverability=False).normalized


def network_of(address: str) -> str:
    """Who asks, by their IP address: of IPv6 the network that one household or server has (/64)."""
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address[:60]
    mapped = getattr(found, "ipv4_mapped", None)
    if found.version == 4 or mapped is not None:
        return str(mapped or found)
    return str(ipaddress.ip_network((int(found) >> 64 << 64, 64)))


class BadPhone(ValueError):
    """Not a phone number, with a sentence that says why."""


@lru_cache(maxsize=4096)
def read_phone(text: str, region: str | None) -> phonenumbers.PhoneNumber:
    """A phone number in any usual form. `region` (ISO 3166-1) reads national forms. Raises BadPhone.

    `00` before a country's code is taken as `+`, as it is dialled in most of the world.
    """
    tidy = text.strip()
    if re.match(r"00[1-9]", tidy):
        tidy = "+" + tidy[2:]
    try:
        number = phonenumbers.parse(tidy, (region or "").upper() or None)
    except phonenumbers.NumberParseException as error:
        if error.error_type == phonenumbers.NumberParseException.INVALID_COUNTRY_CODE and not tidy.startswith("+"):
            raise BadPhone(f"“{text[:40]}” has no country's code and no region says which country it is in.") from None
        raise BadPhone(f"“{text[:40]}” is no phone number.") from None
    if not phonenumbers.is_possible_number(number):
        raise BadPhone(f"“{text[:40]}” has too few or too many digits for a phone number.")
    return number


def phone_text(number: phonenumbers.PhoneNumber, form: str = "e164") -> str:
    """The number as `e164`, `national` or `international`."""
    formats = {
        "e164": phonenumbers.PhoneNumberFormat.E164,
        "national": phonenumbers.PhoneNumberFormat.NATIONAL,
        "international": phonenumbers.PhoneNumberFormat.INTERNATIONAL,
    }
    return phonenumbers.format_number(number, formats[form])
