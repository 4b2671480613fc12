"""Pages and static files go out compressed, and are the same unpacked."""

import gzip

import pytest
import zstandard

GZIP = {"Accept-Encoding": "br, gzip"}


@pytest.mark.parametrize("coding", ["gzip", "zstd"])
@pytest.mark.parametrize(
    "address",
    [
        "/routes",
        "/static/vendor/bulma.min.css",
        "/static/js/app.js",
        "/api/v1/openapi.json",
        "/static/vendor/icons.svg",
    ],
)
def test_what_is_text_is_compressed_for_who_takes_it(client, bench, address, coding):
    taken = "gzip, deflate, br, zstd" if coding == "zstd" else GZIP["Accept-Encoding"]
    plain, packed = client.get(address), client.get(address, headers={"Accept-Encoding": taken})
    assert "Content-Encoding" not in plain.headers
    assert packed.headers["Content-Encoding"] == coding
    assert "Accept-Encoding" in packed.headers["Vary"]
    unpack = gzip.decompress if coding == "gzip" else zstandard.ZstdDecompressor().decompress
    unpacked = unpack(packed.data)
    if not address.startswith("/routes"):  # a page has a token of its own each time
        assert unpacked == plain.data
    assert len(packed.data) < 0.5 * len(unpacked)
    assert int(packed.headers["Content-Length"]) == len(packed.data)


def test_a_file_that_did_not_change_is_not_sent_again(client):
    first = client.get("/static/vendor/bulma.min.css", headers=GZIP)
    again = client.get("/static/vendor/bulma.min.css", headers=GZIP | {"If-None-Match": first.headers["ETag"]})
    assert (again.status_code, again.data) == (304, b"")


def test_what_is_streamed_or_small_or_no_text_is_left_alone(client, bench):
    for address in ("/sends/all.csv", "/favicon.ico", "/healthz"):
        assert "Content-Encoding" not in client.get(address, headers=GZIP).headers, address


def test_pages_are_light(client, bench):
    """The editor with all that it loads, and the heaviest lists, as a browser takes them."""
    for address in ("/", "/routes", "/messages/received", "/sources/shop/read", "/gateways/mailroom"):
        assert len(client.get(address, headers=GZIP).data) < 60_000, address


@pytest.mark.parametrize(
    ("taken", "coding"),
    [("*", None), ("zstd;q=0, gzip", "gzip"), ("identity", None), ("zstd;q=0.2", "zstd"), ("", None)],
)
def test_only_what_is_named_as_taken_is_sent(client, bench, taken, coding):
    assert client.get("/routes", headers={"Accept-Encoding": taken}).headers.get("Content-Encoding") == coding
