"""Every form that asks for a name, found on the pages: names that are empty, long, of any script, or markup."""

import re

import pytest
from lxml import html as markup

PAGES = [
    *("/sources", "/messages", "/routes", "/gateways", "/segments", "/senders", "/settings", "/settings/team"),
    *("/settings/rules", "/library", "/sources/shop/read", "/sources/shop/connect", "/sources/shop", "/letterhead"),
    *("/messages/received", "/gateways/mailroom", "/routes/received", "/sources/shop/capture"),
]
KINDS = ("name", "title", "label", "role")
"""Fields that are a name that a person makes up."""
NAMES = {
    "empty": "",
    "spaces": "   ",
    "long": "N" * 101,
    "very long": "n" * 100_000,
    "umlaut": "Größe",
    "kites": "凧の店",
    "arabic": "طائرة ورقية",
    "picture": "🪁",
    "markup": "<b id=wild>Name</b>",
    "template": "{{ 7*7 }}",
    "nul": "Na\x00me",
    "line": "One\nTwo",
    "slash": "../a/b?c#d",
}
BAD = ("empty", "spaces", "long", "very long", "nul")


def forms(client):
    """The forms with a name to type, as (page, action, the values they start with, the field)."""
    seen = {}
    for page in PAGES:
        answer = client.get(page, follow_redirects=True)
        if answer.status_code == 404:
            continue
        tree = markup.fromstring(answer.get_data(as_text=True), base_url=page)
        for form in tree.forms:
            if (form.method or "GET").upper() != "POST":
                continue
            for field in form.inputs:
                if field.name in KINDS and field.get("type", "text") == "text" and not field.get("readonly"):
                    values = {name: value for name, value in form.form_values() if name}
                    action = form.action or page
                    seen.setdefault((action, field.name), (page, action, values, field.name))
    return list(seen.values())


def words(answer):
    tree = markup.fromstring(answer.get_data(as_text=True))
    return re.sub(r"\s+", " ", tree.text_content())


@pytest.mark.parametrize("case", NAMES)
def test_every_form_takes_or_refuses_any_name_in_words(client, bench, case):
    name = NAMES[case]
    found = forms(client)
    assert len(found) > 12, [one[1] for one in found]
    for page, action, values, field in found:
        answer = client.post(action, data={**values, field: name}, follow_redirects=True)
        where = f"{action} from {page}"
        assert answer.status_code < 500, where
        text = answer.get_data(as_text=True)
        assert "<b id=wild>" not in text, where
        assert "Traceback" not in text, where
        assert "pydantic" not in text, where
        if answer.is_json:
            assert answer.json.get("detail") or answer.status_code == 200, where
            continue
        if case in BAD and answer.status_code == 200:
            tree = markup.fromstring(text)
            problems = tree.xpath('//*[@role="alert"] | //*[contains(@class, "problem")] | //*[@aria-invalid]')
            assert problems, f"{where} says nothing of the name"
    for path in PAGES if case in ("markup", "kites", "template") else ():
        assert client.get(path, follow_redirects=True).status_code < 500, f"{path} afterwards"
