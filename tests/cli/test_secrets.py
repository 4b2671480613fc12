"""The secret key rotated: every credential is sealed anew, or none."""

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from angelon.db.secrets import Vault, WrongKey

OLD, NEW = "a-key-for-tests-only", "another-key-of-some-length"


def invoke(**environment):
    return CliRunner().invoke(main, ["secrets", "rotate"], env=environment)


@pytest.fixture
def kept(bench, monkeypatch):
    monkeypatch.setenv("ANGELON_HOME", str(bench.home))
    monkeypatch.setenv("ANGELON_SECRET_KEY", OLD)
    with bench.database.writing() as session:
        bench.vault.put(session, "gateway", 1, "first", bench.clock.now())
        bench.vault.put(session, "source", 1, "second", bench.clock.now())
    return bench


def opened(bench, key):
    with bench.database.reading() as session:
        return [Vault(key).get(session, kind, 1, bench.clock.now())[0].text for kind in ("gateway", "source")]


def test_every_credential_is_sealed_under_the_new_key(kept):
    told = invoke(ANGELON_NEW_SECRET_KEY=NEW)
    assert told.output.splitlines()[0] == "2 credentials are sealed under the new key."
    assert opened(kept, NEW) == ["first", "second"]
    with pytest.raises(WrongKey):
        opened(kept, OLD)


@pytest.mark.sqlite
def test_with_the_wrong_key_nothing_is_changed(kept):
    refused = invoke(ANGELON_SECRET_KEY="a-wrong-key-of-length", ANGELON_NEW_SECRET_KEY=NEW)
    assert refused.exit_code == 1
    assert "Set the old one as ANGELON_SECRET_KEY" in " ".join(refused.output.split())
    assert opened(kept, OLD) == ["first", "second"]
    assert "at least 16" in invoke(ANGELON_NEW_SECRET_KEY="short").output
    assert "give the new one as ANGELON_NEW_SECRET_KEY" in invoke().output


@pytest.mark.sqlite
def test_a_key_in_the_data_folder_is_replaced_with_it(kept):
    (kept.home / "secret.key").write_text(OLD)
    assert invoke(ANGELON_SECRET_KEY="").exit_code == 0
    made = (kept.home / "secret.key").read_text()
    assert made != OLD
    assert opened(kept, made) == ["first", "second"]
    assert (kept.home / "secret.key").stat().st_mode & 0o077 == 0
    assert not (kept.home / "secret.key.new").exists()
