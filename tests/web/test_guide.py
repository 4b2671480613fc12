"""The guide: the same pages in the application and in the documentation, every picture and word in its place."""

import dataclasses
import json
import re
from pathlib import Path

import pytest
import yaml
from click.testing import CliRunner

from angelon import handlers
from angelon.cli.main import main
from angelon.core.specs.bundle import plain_bundle, read_bundle
from angelon.core.specs.carrier import Carrier
from angelon.web.guide.views import PAGES, guide, page_for

DOCS = Path(__file__).parents[2] / "docs"
KEYS = [page.key for page in guide()]


def test_the_documentation_has_the_same_pages():
    ours = {file.name: file.read_text() for file in PAGES.glob("*.md")}
    theirs = {file.name: file.read_text() for file in (DOCS / "guide").glob("*.md")}
    assert ours == theirs, "cp src/angelon/web/guide/pages/*.md docs/guide/"
    assert len(ours) == 15


@pytest.mark.parametrize("key", KEYS)
def test_a_page_is_shown_with_its_pictures(client, key):
    page = client.get(f"/guide/{key}")
    assert page.status_code == 200
    shown = page.get_data(as_text=True)
    for picture in re.findall(r'src="(/guide/pictures/[^"]+)"', shown):
        assert client.get(picture).status_code == 200, picture
    assert "../screenshots" not in shown
    assert 'aria-current="page"' in shown


def test_a_page_of_the_application_leads_to_its_own_page_of_the_guide(client):
    for path, key in (
        ("/sources", "connect"),
        ("/sources/shop/read", "map"),
        ("/messages/received", "write"),
        ("/routes/received", "route"),
        ("/sends", "fix"),
        ("/handlers", "handlers"),
        ("/settings/team", "production"),
        ("/suppressions", "deliver"),
    ):
        assert page_for(path) == f"/guide/{key}"
        assert f'href="/guide/{key}"' in client.get(path, follow_redirects=True).get_data(as_text=True)
    assert client.get("/guide/nothing").status_code == 404
    assert client.get("/guide/pictures/..%2f..%2fsecret.png").status_code == 404


def test_every_command_and_the_bundle_that_the_guide_shows_are_real():
    shown = "".join(file.read_text() for file in PAGES.glob("*.md"))
    for name in set(re.findall(r"`angelon ([a-z]+)", shown)):
        assert name in main.commands, name
    example = re.search(r"```yaml\n(angelon: .*?)```", shown, re.S)[1]
    assert read_bundle(example).live == ["order-received"]
    assert yaml.safe_load(example)["angelon"] == 2
    carriers = re.search(r"```yaml\n(carriers:.*?)```", shown, re.S)[1]
    assert [Carrier.model_validate(one).key for one in plain_bundle(carriers)["carriers"]] == ["gannet-post"]


def test_the_schema_that_ships_is_the_one_that_counts():
    printed = CliRunner().invoke(main, ["schema"]).output
    assert json.loads((DOCS / "bundle.schema.json").read_text()) == json.loads(printed), (
        "angelon schema > docs/bundle.schema.json"
    )


def test_the_page_on_handlers_names_all_that_an_author_may_use():
    shown = (PAGES / "11-handlers.md").read_text()
    for name in handlers.__all__:
        assert f"`{name}" in shown, name
    for kind in (handlers.Event, handlers.Order, handlers.Person):
        for field in dataclasses.fields(kind):
            assert f"`{field.name}`" in shown, f"{kind.__name__}.{field.name}"
    for name in vars(handlers.Outbox):
        assert name.startswith("_") or f"outbox.{name}(" in shown, name
