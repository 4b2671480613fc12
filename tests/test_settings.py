"""Settings: defaults, the kept key, and errors that name what is wrong."""

import re
from pathlib import Path

import pytest

from angelon import settings
from angelon.settings import BadSettings
from tests.conftest import LONG


@pytest.fixture(autouse=True)
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for name in ("HOME", "DATABASE_URL", "SECRET_KEY", "BASE_URL", "HANDLERS"):
        monkeypatch.delenv(f"ANGELON_{name}", raising=False)
    return tmp_path


def test_the_key_is_made_once_kept_and_readable_by_its_owner_only(folder):
    first = settings.load().key()
    assert settings.load().key() == first
    assert len(first) >= 32
    assert (folder / ".angelon" / "secret.key").stat().st_mode & 0o077 == 0


def test_a_file_is_read_and_the_environment_goes_before_it(folder, monkeypatch):
    (folder / ".env").write_text("# mine\nANGELON_BASE_URL=https://shop.example/\nANGELON_HOME=elsewhere\n")
    assert settings.load().base_url == "https://shop.example"
    monkeypatch.setenv("ANGELON_HOME", "here")
    assert settings.load().home.name == "here"
    assert settings.load().url.endswith("/here/angelon.db")


def test_another_database(monkeypatch):
    monkeypatch.setenv("ANGELON_DATABASE_URL", "postgresql+psycopg://db.example/angelon")
    assert settings.load().url == "postgresql+psycopg://db.example/angelon"


@pytest.mark.parametrize(
    ("name", "value", "said"),
    [
        ("ANGELON_HOEM", "x", "ANGELON_HOEM is no setting"),
        ("ANGELON_BASE_URL", "shop.example", "ANGELON_BASE_URL has to start with http"),
        ("ANGELON_SECRET_KEY", "short", "ANGELON_SECRET_KEY has to have at least 16"),
    ],
)
def test_what_is_wrong_is_named(monkeypatch, name, value, said):
    monkeypatch.setenv(name, value)
    with pytest.raises(BadSettings, match=said):
        settings.load()


def test_an_unknown_name_in_the_file_is_named_too(folder):
    (folder / ".env").write_text("ANGELON_PORT=9\n")
    with pytest.raises(BadSettings, match="ANGELON_PORT is no setting"):
        settings.load()


def test_what_is_called_long_is_there():
    """A test that is renamed is not run twice, or nowhere, without anybody noticing."""
    for file, words in LONG.items():
        names = re.findall(r"^def (test_\w+)", (Path(__file__).parent / file).read_text(), re.M)
        for word in words:
            assert any(word in name for name in names), (file, word)
