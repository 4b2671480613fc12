"""The secret key rotated: every credential is sealed anew, or none."""

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from angelon.db.access.secrets import Vault, WrongKey
from angelon.engine.feedback.preferences import LEAVING, Links, Reader

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


def test_links_that_are_out_open_for_a_while_and_those_to_leave_for_ever(kept):
    links = Links(kept.vault, "https://shop.example")
    live = kept.services.setups.get(kept.store_id)
    reader = Reader(kept.store_id, "email:mia@example.org", "confirmation", "en")
    leaving, follow = links.address(live, reader).rpartition("/")[2], links.follow_token(7)
    receipts, back = kept.vault.receipts("sms"), kept.vault.proof("sd-1")
    third = "a-third-key-of-some-length"
    for key, following, days in ((OLD, NEW, "9"), (NEW, third, "0")):
        environment = {"ANGELON_SECRET_KEY": key, "ANGELON_NEW_SECRET_KEY": following}
        told = CliRunner().invoke(main, ["secrets", "rotate", "--links-for", days], env=environment)
        assert told.output.startswith("2 credentials are sealed under the new key.")
        vault = Vault(following, kept.database)
        now = Links(vault)
        assert now.read(leaving) == reader, "it is asked for by law, whatever the key is"
        assert now.read_follow(follow) == (7 if days == "9" else None)
        assert vault.takes_receipts("sms", receipts)
        assert vault.proves("sd-1", back, always=True)
        assert now.address(live, reader).rpartition("/")[2] != leaving
    assert Links(Vault("a-key-of-somebody-else", None)).read(leaving) is None


def test_what_is_sealed_for_one_thing_opens_as_nothing_else(kept):
    sealed = kept.vault.seal('[1, "a", "b", "en"]', "something else")
    assert Links(kept.vault).read(sealed) is None
    (secret,) = kept.rows("SELECT sealed FROM secret WHERE kind = 'gateway'")
    credential = bytes(secret[0]).decode().rstrip("=")
    assert Links(kept.vault).read(credential) is None, "it is under the key that the first links had, and is none"
    older = kept.vault._fernet.encrypt(b'[1, "email:mia@example.org", "confirmation", "en"]').decode()
    assert Links(kept.vault).read(older) == Reader(1, "email:mia@example.org", "confirmation", "en")
    for odd in ("hello", "[1]", "{}", "[10e20, 1, 2, 3]", '[0,"","",""]', "[" * 3000):
        assert Links(kept.vault).read(kept.vault.seal(odd, LEAVING)) is None


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
