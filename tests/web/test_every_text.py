"""A message at a glance, and each of its texts sent to somebody of the team."""

import pytest

from angelon.core.specs import Message
from angelon.db.tables import MessageRow
from tests.engine.test_fallbacks import TEAM, Shop
from tests.web.test_pages import text

TEXTS = {
    "key": "news",
    "name": "All at once",
    "email": {
        "en": {"subject": "Thanks {{ customer_name }}", "blocks": [{"kind": "text", "text": "Hello"}]},
        "de": {"subject": "Danke {{ nobody_knows }}", "blocks": [{"kind": "text", "text": "Hallo"}]},
    },
    "sms": {"en": {"text": "Order of {{ customer_name }}"}},
}


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(team=[TEAM[0] | {"phone": "+353209150001"}])
    shop.publish(MessageRow, Message.model_validate(TEXTS))
    shop.order()
    return shop


def test_each_text_is_shown_as_it_would_go_and_says_what_is_wrong(shop, client):
    page = text(client.get("/messages/news/all"))
    assert "3 texts" in page
    assert "Thanks Jo" in page
    assert "Order of Jo" in page
    assert "1 segment" in page
    assert "nobody_knows" in page


def test_all_of_them_go_to_somebody_of_the_team_and_what_can_not_be_made_is_said(shop, client):
    said = text(client.post("/messages/news/all", data={"who": "Nuala"}, follow_redirects=True))
    assert "2 tests are on the way" in said
    assert "Not sent: email, de" in said
    rows = shop.bench.rows("SELECT channel, recipient, test FROM send WHERE test ORDER BY channel")
    assert [tuple(row) for row in rows] == [
        ("email", "nuala@kites.example", True),
        ("sms", "+353209150001", True),
    ]


def test_without_an_address_nothing_goes(shop, client):
    said = text(client.post("/messages/news/all", data={}, follow_redirects=True))
    assert "Choose somebody of the team" in said
    only = text(client.post("/messages/news/all", data={"sms": "+353 20 915 7000"}, follow_redirects=True))
    assert "1 test is on the way" in only
