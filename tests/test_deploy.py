"""The files in `deploy/` name commands, options and settings that there are; `python -m proof deployed` runs them."""

import re
import shlex
from pathlib import Path

import click
import pytest
import yaml

from angelon.cli.main import main
from angelon.settings import Settings

DEPLOY = Path(__file__).resolve().parents[1] / "deploy"


def _commands():
    for name, service in yaml.safe_load((DEPLOY / "compose.yaml").read_text())["services"].items():
        if "command" in service:
            yield pytest.param(shlex.split(service["command"]), id=f"compose {name}")
    for file in sorted(DEPLOY.glob("*.service")):
        for line in file.read_text().splitlines():
            for found in re.findall(r"/opt/angelon/\.venv/bin/(angelon [\w -]+)", line if "Exec" in line else ""):
                yield pytest.param(found.split(), id=file.name)
    cmd = re.search(r"^CMD (\[.*\])", (DEPLOY / "Containerfile").read_text(), re.M)[1]
    yield pytest.param(yaml.safe_load(cmd), id="Containerfile")


@pytest.mark.parametrize("command", _commands())
def test_commands_are_commands_of_ours_with_options_they_have(command):
    program, name, *arguments = command
    assert program == "angelon"
    found = main.commands[name]
    if name == "backup":
        arguments = [*arguments, "file.tar.gz"]
    with click.Context(found) as context:
        found.parser = found.make_parser(context)
        found.parse_args(context, list(arguments))


def test_settings_that_are_named_are_settings():
    named = {name for file in DEPLOY.iterdir() for name in re.findall(r"ANGELON_([A-Z_]+)", file.read_text())}
    assert {"HOME", "BASE_URL", "DATABASE_URL", "SECRET_KEY", "TRUSTED_PROXIES"} <= named
    assert {name.lower() for name in named} <= Settings.model_fields.keys() | {"secret_key"}


def test_the_image_takes_the_files_that_the_build_needs():
    text = (DEPLOY / "Containerfile").read_text()
    for copied in re.findall(r"^COPY (.+) \S+$", text, re.M):
        for name in copied.split():
            assert (DEPLOY.parent / name).exists(), name


def test_the_image_has_the_versions_that_are_tested():
    def pinned(file):
        return dict(re.findall(r"^([a-z0-9-]+(?:\[\w+\])?)==(\S+)", file.read_text(), re.M))

    tested, shipped = pinned(DEPLOY.parent / "requirements.lock"), pinned(DEPLOY / "requirements.lock")
    assert shipped.items() <= tested.items()
    assert "pytest" not in shipped
    assert {"flask", "sqlmodel", "psycopg", "pyarrow"} <= shipped.keys()
