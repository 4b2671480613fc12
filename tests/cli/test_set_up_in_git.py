"""The set-up in version control: a file a thing, a dry run with every field, the same from elsewhere by the API."""

import re
import threading

import pytest
import yaml
from click.testing import CliRunner
from werkzeug.serving import make_server

from angelon.cli.main import main
from angelon.client.models import SCOPES
from angelon.engine.operations import tokens
from angelon.engine.unit import unit


@pytest.fixture
def here(tmp_path, monkeypatch, bench):
    monkeypatch.setenv("ANGELON_HOME", str(bench.home))
    monkeypatch.setenv("ANGELON_SECRET_KEY", "a-key-for-tests-only")
    monkeypatch.chdir(tmp_path)
    return tmp_path


def invoke(*arguments):
    return CliRunner().invoke(main, list(arguments))


def files(folder):
    return {str(file.relative_to(folder)) for file in folder.rglob("*.yaml")}


def test_a_split_folder_has_a_file_a_thing_and_is_applied_as_a_whole(here):
    told = invoke("export", "--to", "shop", "--split")
    assert told.exit_code == 0, told.output
    assert {"bundle.yaml", "messages/received.yaml", "routes/received.yaml", "sources/shop.yaml"} <= files(
        here / "shop"
    )
    assert yaml.safe_load((here / "shop/bundle.yaml").read_text())["messages"] == []
    file = here / "shop/messages/received.yaml"
    file.write_text(file.read_text().replace("Thank you, ", "Many thanks, "))
    tried = invoke("apply", "shop", "--dry-run")
    assert tried.output.splitlines()[0] == (
        "message received  email.en.subject: “Thank you, {{ customer_name }}” → “Many thanks, {{ customer_name }}”"
    )
    assert "Nothing was changed: this was a dry run." in tried.output
    assert "Thank you, " in invoke("export").output
    assert "message received: changed email" in invoke("apply", "shop", "--no-ask").output
    assert "Many thanks, " in invoke("export").output
    assert "nothing would change" in invoke("apply", "shop", "--dry-run").output
    again = invoke("export", "--to", "shop")
    assert again.exit_code == 0
    assert "messages/received.yaml" not in files(here / "shop")
    assert invoke("export", "--split").exit_code == 1


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("messages/broken.yaml", "a: [", "broken.yaml: The file is not YAML"),
        ("routes/bad.yaml", "- 1", "bad.yaml: The file has to be a mapping"),
        ("routes/twin.yaml", "{key: received, name: Twin}", "“received” is used twice"),
        ("messages/odd.yaml", "{key: odd, name: Odd, nonsense: 1}", "nonsense"),
    ],
)
def test_a_file_that_can_t_be_read_is_named_and_nothing_is_changed(here, name, text, said):
    invoke("export", "--to", "shop", "--split")
    before = invoke("export").output
    (here / "shop" / name).write_text(text)
    refused = invoke("apply", "shop", "--no-ask")
    assert refused.exit_code == 1
    assert said in refused.output
    assert invoke("export").output == before


def test_an_angelon_that_runs_elsewhere_is_exported_tried_applied_and_checked(here, client, bench, monkeypatch):
    with unit(bench.services.installation, bench.store_id) as work:
        token = tokens.create(work, "CI", list(SCOPES))
    server = make_server("127.0.0.1", 0, client.application, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        monkeypatch.setenv("ANGELON_HOME", str(here / "nothing-here"))
        remote = ("--url", f"http://127.0.0.1:{server.server_port}", "--token", token)
        exported = invoke(*remote, "export")
        assert exported.exit_code == 0, exported.output
        changed = exported.output.replace("Thank you, ", "Warm thanks, ")
        (here / "shop.yaml").write_text(changed)
        tried = invoke(*remote, "apply", "shop.yaml", "--dry-run")
        assert "email.en.subject" in tried.output
        assert "message received: changed email" in invoke(*remote, "apply", "shop.yaml").output
        assert "Warm thanks, " in invoke(*remote, "export").output
        assert invoke(*remote, "check").exit_code == 0
        (here / "bad.yaml").write_text(changed.replace("order.created", "nonsense"))
        refused = invoke(*remote, "apply", "bad.yaml")
        assert refused.exit_code == 1
        assert "is no event type" in refused.output
        assert re.search("401 The token is unknown", invoke(*remote[:2], "--token", "x", "export").output)
        assert "Give a token, too" in invoke(*remote[:2], "export").output
        assert not (here / "nothing-here").exists()
    finally:
        server.shutdown()
    assert "Nobody answers at" in invoke("--url", "http://127.0.0.1:9", "--token", "x", "export").output
