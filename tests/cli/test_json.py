"""Every command that tells a result tells it as JSON, too; what is for people goes to standard error then."""

import json

import click
import pytest
from click.testing import CliRunner

from angelon.cli.main import main

OTHERS = {"serve", "web", "worker", "demo", "standins", "completion", "schema", "export", "new"}
"""What runs until it is stopped, or prints a document."""


def commands(group, path=()):
    for name in group.list_commands(click.Context(group)):
        one = group.get_command(click.Context(group), name)
        if isinstance(one, click.Group):
            yield from commands(one, (*path, name))
        elif name not in OTHERS:
            yield (*path, name), one


@pytest.mark.parametrize(("path", "command"), list(commands(main)), ids=lambda one: str(one))
def test_a_command_that_tells_a_result_takes_json(path, command):
    assert any("--json" in one.opts for one in command.params), path


@pytest.fixture
def run(bench):
    def runs(*arguments, code=0):
        env = {"ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
        done = CliRunner().invoke(main, [*arguments, "--json"], env=env)
        assert done.exit_code == code, done.stderr
        return json.loads(done.stdout)

    return runs


@pytest.mark.sqlite
def test_results_are_one_object(bench, run, tmp_path):
    file = tmp_path / "all.tar.gz"
    kept = run("backup", str(file))
    assert kept["file"] == str(file)
    assert kept["orders"] == 0
    assert kept["bytes"] == file.stat().st_size
    assert run("backup", str(file), "--verify")["orders"] == 0
    assert run("migrate", "--check") == {"up_to_date": True, "version": None}
    assert set(run("recount", "--check")["wrong"].values()) == {0}
    assert run("recount")["counted_anew"] is True
    made = run("token", "create", "Reports", "--scope", "orders.read")
    assert made["scopes"] == ["orders.read"]
    assert len(made["token"]) > 20
    invited = run("user", "create", "nora@example.com", "--role", "owner")
    assert invited["link"].startswith("http")
    assert invited["role"] == "owner"


@pytest.mark.sqlite
def test_a_command_that_fails_says_why_and_prints_no_object(bench):
    env = {"ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
    done = CliRunner().invoke(main, ["move", "--json"], env=env)
    assert done.exit_code == 2
    assert done.stdout == ""
    assert "Name the new database" in done.stderr
