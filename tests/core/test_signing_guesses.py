"""How a refused delivery seems to be signed."""

import datetime as dt

import pytest

from angelon.core.signatures import sign, verify
from angelon.core.signing_guesses import MOST_BYTES, guess
from angelon.core.specs.source import Signing

NOW = dt.datetime(2026, 11, 26, 12, tzinfo=dt.UTC)
BODY = b'{"id": 1}'
SECRET = "a-secret-of-the-shop"
WAYS = [
    Signing(header="X-Quay-Hmac-Sha256", encoding="base64"),
    Signing(header="X-Body-Signature", encoding="hex", prefix="sha256="),
    Signing(header="Quay-Signature", encoding="hex", prefix="v1=", timestamp_header="Quay-Time"),
    Signing(header="X-Check", encoding="hex"),
    Signing(header="Digest", encoding="base64", prefix="SHA-256="),
]
NOISE = {
    "content-type": "application/json",
    "x-request-id": "5a3f3b5222c14b0c8d0b9d3cf2c50b02",
    "x-trace": "0" * 64,
    "x-sent": "1790000000",
    "user-agent": "quay/1.0",
}


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.header)
def test_a_way_of_signing_is_told_and_verifies(way):
    headers = NOISE | {name.lower(): value for name, value in sign(way, SECRET, BODY, "d1", NOW).items()}
    found = guess(headers, BODY, ["another-secret", SECRET], NOW)
    assert found.verified
    assert verify(found.signing, [SECRET], headers, BODY, NOW) is None
    assert found.signing.header.lower() == way.header.lower()
    assert (found.signing.encoding, found.signing.prefix) == (way.encoding, way.prefix)
    assert found.signing.timestamp_header.lower() == way.timestamp_header.lower()


def test_with_another_secret_the_likeliest_header_is_told_and_not_called_verified():
    headers = NOISE | {name.lower(): value for name, value in sign(WAYS[0], SECRET, BODY, "d1", NOW).items()}
    found = guess(headers, BODY, ["not-the-shop-s-secret"], NOW)
    assert (found.verified, found.signing.header) == (False, "X-Quay-Hmac-Sha256")


def test_standard_webhooks_is_known_by_its_three_headers():
    way = Signing(scheme="standard-webhooks")
    secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
    found = guess(sign(way, secret, BODY, "d1", NOW), BODY, [secret], NOW)
    assert (found.signing.scheme, found.verified) == ("standard-webhooks", True)


def test_nothing_is_told_where_nothing_looks_like_a_signature():
    assert guess({"content-type": "application/json", "x-a": "f" * 63, "x-b": "=" * 44}, BODY, [SECRET], NOW) is None
    assert guess({}, b"", [], NOW) is None


def test_a_large_body_is_not_tried_and_many_headers_cost_no_more_than_a_few():
    large = b"x" * (MOST_BYTES + 1)
    headers = {name.lower(): value for name, value in sign(WAYS[0], SECRET, large, "d1", NOW).items()}
    assert not guess(headers, large, [SECRET], NOW).verified
    many = {f"x-sign-{number}": "ab" * 32 for number in range(500)} | {f"x-t-{n}": "1790000000" for n in range(500)}
    assert not guess(many, BODY, [SECRET] * 3, NOW).verified
