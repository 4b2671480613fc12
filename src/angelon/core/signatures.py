"""Whether a delivery was sent by the one who knows the secret."""

from __future__ import annotations

import base64
import binascii
import datetime as dt
import hashlib
import hmac
from collections.abc import Mapping, Sequence
from functools import lru_cache

from angelon.core.problems import Problem
from angelon.core.specs.source import Signing


def sign(signing: Signing, secret: str, raw: bytes, delivery_id: str, now: dt.datetime) -> dict[str, str]:
    """The headers that a sender adds to a delivery so that `verify` accepts it."""
    if signing.scheme == "none":
        return {}
    stamp = str(int(now.timestamp()))
    if signing.scheme == "standard-webhooks":
        made = _standard_signature(_standard_key(secret), delivery_id, stamp, raw)
        return {"webhook-id": delivery_id, "webhook-timestamp": stamp, "webhook-signature": f"v1,{made}"}
    signed = f"{stamp}.".encode() + raw if signing.timestamp_header else raw
    digest = hmac.new(secret.encode(), signed, hashlib.sha256).digest()
    text = digest.hex() if signing.encoding == "hex" else base64.b64encode(digest).decode()
    headers = {signing.header: signing.prefix + text}
    if signing.timestamp_header:
        headers[signing.timestamp_header] = stamp
    return headers


def verify(
    signing: Signing, secrets: Sequence[str], headers: Mapping[str, str], raw: bytes, now: dt.datetime
) -> Problem | None:
    """None where the delivery is genuine, else why it is not. `headers` has lower-case names.

    Several secrets may be valid at once, while one takes over from another. Comparison takes constant time
    (HMAC: RFC 2104; Standard Webhooks: its specification, "Verifying webhook authenticity").
    """
    if signing.scheme == "none":
        return None
    if not secrets:
        return Problem(
            "signature", "The source has no signing secret yet.", "Make one on its page, and give it to the store."
        )
    if signing.scheme == "standard-webhooks":
        return _standard(signing, secrets, headers, raw, now)
    given = headers.get(signing.header.lower(), "")
    if not given:
        return Problem(
            "signature",
            f"The header {signing.header} is missing.",
            "Set up signing in the store, or choose the header that it uses.",
        )
    signed = raw
    if signing.timestamp_header:
        stamp = headers.get(signing.timestamp_header.lower(), "")
        problem = _stale(stamp, signing.timestamp_header, signing.tolerance_seconds, now)
        if problem:
            return problem
        signed = f"{stamp}.".encode() + raw
    if signing.prefix and not given.startswith(signing.prefix):
        return Problem(
            "signature",
            f"{signing.header} does not start with “{signing.prefix}”.",
            "Check the prefix on the source's page.",
        )
    text = given.removeprefix(signing.prefix).strip()
    try:
        digest = bytes.fromhex(text) if signing.encoding == "hex" else base64.b64decode(text, validate=True)
    except (ValueError, binascii.Error):
        return Problem(
            "signature",
            f"{signing.header} is not {signing.encoding}.",
            "Choose the encoding that the store uses on the source's page.",
        )
    good = False
    for secret in secrets:
        good |= hmac.compare_digest(_hmac(secret, signed), digest)
    if good:
        return None
    return Problem(
        "signature",
        "The signature does not fit the body.",
        "Check that the store has this source's secret and signs the body as it sends it.",
    )


@lru_cache(maxsize=256)
def _keyed(secret: str) -> hmac.HMAC:
    """HMAC-SHA256 (RFC 2104) with the key taken in, to be copied for each text."""
    return hmac.new(secret.encode(), digestmod=hashlib.sha256)


def _hmac(secret: str, text: bytes) -> bytes:
    """The HMAC-SHA256 of a text. A one-shot call would let go of the interpreter, and wait for its turn again."""
    one = _keyed(secret).copy()
    one.update(text)
    return one.digest()


def _stale(stamp: str, header: str, tolerance: int, now: dt.datetime) -> Problem | None:
    if not stamp.isascii() or not stamp.isdigit() or len(stamp) > 12:
        return Problem("signature", f"{header} does not hold seconds since 1970.", "Check which header holds the time.")
    off = now.timestamp() - int(stamp)
    if abs(off) > tolerance:
        side = "old" if off > 0 else "in the future"
        return Problem(
            "signature",
            f"The delivery is stale: its time is {abs(off):.0f} s {side}, and {tolerance} s are allowed.",
            "Check the clocks, or send it anew.",
        )
    return None


def _standard(
    signing: Signing, secrets: Sequence[str], headers: Mapping[str, str], raw: bytes, now: dt.datetime
) -> Problem | None:
    for name in ("webhook-id", "webhook-timestamp", "webhook-signature"):
        if not headers.get(name):
            return Problem(
                "signature",
                f"The header {name} is missing.",
                "Standard Webhooks needs webhook-id, webhook-timestamp and webhook-signature.",
            )
    problem = _stale(headers["webhook-timestamp"], "webhook-timestamp", signing.tolerance_seconds, now)
    if problem:
        return problem
    given = [part.removeprefix("v1,") for part in headers["webhook-signature"].split(" ") if part.startswith("v1,")]
    good = False
    for secret in secrets:
        try:
            key = _standard_key(secret)
        except (ValueError, binascii.Error):
            continue
        made = _standard_signature(key, headers["webhook-id"], headers["webhook-timestamp"], raw)
        for signature in given:
            good |= hmac.compare_digest(made.encode(), signature.encode(errors="replace"))
    if good:
        return None
    return Problem(
        "signature", "The signature does not fit the body.", "Check that the store has this source's secret."
    )


def _standard_key(secret: str) -> bytes:
    """The key of a Standard Webhooks secret. Raises ValueError (binascii.Error is one) where it is not base64."""
    return base64.b64decode(secret.removeprefix("whsec_"), validate=True)


def _standard_signature(key: bytes, id_: str, stamp: str, raw: bytes) -> str:
    """Base64 of the HMAC-SHA256 of id, time and body (Standard Webhooks 1.0, "Signature scheme")."""
    return base64.b64encode(hmac.new(key, f"{id_}.{stamp}.".encode() + raw, hashlib.sha256).digest()).decode()


def well_made(signing: Signing, secret: str) -> Problem | None:
    """Whether a secret can be used with the scheme."""
    if len(secret) < 8 or len(secret) > 500 or any(c.isspace() for c in secret):
        return Problem(
            "secret",
            "The secret has fewer than 8 characters, more than 500, or holds white space.",
            "Paste it again, or have one made.",
        )
    if signing.scheme == "standard-webhooks":
        try:
            _standard_key(secret)
        except ValueError:
            return Problem(
                "secret",
                "A Standard Webhooks secret is base64, usually after whsec_.",
                "Copy it from the store again, or have one made.",
            )
    return None
