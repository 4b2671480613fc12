"""What a page may do and carry: the policy, and templates that need nothing of it."""

import re
from pathlib import Path

import angelon

TEMPLATES = [*Path(angelon.__file__).parent.glob("**/templates/**/*.html")]


def test_no_page_allows_inline_styles_but_the_empty_one_that_mails_are_shown_in(client):
    for address in ("/", "/sends", "/routes", "/messages", "/letterhead", "/nowhere"):
        policy = client.get(address).headers["Content-Security-Policy"]
        assert "unsafe-inline" not in policy, address
        assert "frame-ancestors 'none'" in policy
    frame = client.get("/mail-frame")
    policy = frame.headers["Content-Security-Policy"]
    assert "style-src 'unsafe-inline'" in policy
    assert "default-src 'none'" in policy
    assert "sandbox allow-same-origin" in policy
    assert "script" not in policy
    assert frame.text.endswith("<body></body></html>"), "nothing of anybody's is in it"


def test_the_text_editor_s_styles_are_allowed_by_a_nonce_of_one_answer(client, bench):
    found = []
    for _ in range(2):
        answer = client.get("/messages/received")
        (nonce,) = re.findall(r'data-nonce="([\w-]{20,})"', answer.text)
        assert f"style-src 'self' 'nonce-{nonce}';" in answer.headers["Content-Security-Policy"]
        found.append(nonce)
    assert found[0] != found[1]
    assert "nonce" not in client.get("/sends").headers["Content-Security-Policy"]


def test_templates_carry_no_styles_or_handlers_of_their_own_and_end_at_120_columns():
    assert len(TEMPLATES) > 30
    for file in TEMPLATES:
        for number, line in enumerate(file.read_text().splitlines(), 1):
            where = f"{file.name}:{number}"
            assert len(line) <= 120, where
            assert not re.search(r"\bstyle=\"|<style|\bon\w+=\"|srcdoc|javascript:", line), where


def test_scripts_styles_and_data_end_at_120_columns_too():
    root = Path(angelon.__file__).parent
    files = [file for end in ("js", "css", "yaml") for file in root.rglob(f"*.{end}") if "vendor" not in file.parts]
    assert len(files) > 35
    for file in files:
        for number, line in enumerate(file.read_text().splitlines(), 1):
            assert len(line) <= 120, f"{file.name}:{number}"
