"""Signing up for a channel on a page of the shop's, why a message came, and the page where all of it is designed."""

import re

import pytest

from angelon.core.specs import Message, Store
from angelon.core.specs.stored import from_stored
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, StoreRow
from angelon.engine.feedback.preferences import Links
from angelon.web.customers import proofs
from angelon.web.customers.words import QUESTION_WORDS, SIGN_UP_WORDS, WHY_WORDS, WORDS, happened
from tests.engine.test_fallbacks import PHONE
from tests.engine.test_questions import shop  # noqa: F401
from tests.web.test_pages import text

FORM = {"number": "BK-7", "proof": "jo@example.org", "address": "+49 30 23125014", "agreed": "1"}
CONSENT = {"sms": "opted_in"}


@pytest.fixture(autouse=True)
def fresh(monkeypatch):
    monkeypatch.setattr(proofs, "AT_LEAST", 0)
    for limits in (proofs.by_asker, proofs.by_all):
        limits._left.clear()


def pages(bench, **changes):
    """The store with a sign-up page for SMS, which needs consent; `changes` are of the pages."""
    spec = {"sign_ups": [{"key": "by-sms", "channel": "sms", **changes.pop("page", {})}], **changes}
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = from_stored(Store, row.spec | {"pages": spec, "consent": CONSENT}).plain()
        specs.touch(session, row.id)
    bench.services.setups.forget()


def consents(bench):
    return [tuple(row) for row in bench.rows("SELECT address_key, channel, granted, words FROM consent ORDER BY id")]


@pytest.fixture
def ready(shop):  # noqa: F811
    """An order of a customer who has agreed to nothing, and a route that writes once they have."""
    pages(shop.bench)
    shop.publish(
        MessageRow, Message.model_validate({"key": "hello", "name": "Hello", "sms": {"en": {"text": "Welcome"}}})
    )
    shop.route(key="hello", name="Hello", send="hello", channel="sms", gateway="line", when=["permission.given"])
    shop.order()
    return shop


def test_who_agrees_is_written_to_at_once_with_the_words_as_proof(ready, client):
    page = client.get("/s/kites/by-sms?order=BK-7").get_data(as_text=True)
    assert 'value="BK-7"' in page
    done = client.post("/s/kites/by-sms", data=FORM, follow_redirects=True).get_data(as_text=True)
    assert "Thank you." in done
    ready.bench.plan()
    (given,) = consents(ready.bench)
    assert given[:3] == ("phone:+493023125014", "sms", True)
    assert "writes to me about my order by SMS" in given[3]
    sends = [
        tuple(row)
        for row in ready.bench.rows(
            "SELECT state, recipient FROM send WHERE message_id = (SELECT id FROM message WHERE key = 'hello')"
        )
    ]
    assert sends == [("scheduled", "+493023125014")]


@pytest.mark.parametrize("proof", ["jo@example.org", "JO@EXAMPLE.ORG ", "+493023125014"])
def test_an_order_is_shown_to_be_theirs_by_what_stands_in_it(ready, client, proof):
    client.post("/s/kites/by-sms", data=FORM | {"proof": proof})
    assert len(consents(ready.bench)) == 1


@pytest.mark.parametrize(
    "wrong",
    [{"proof": "else@example.org"}, {"number": "BK-8"}, {"number": "' OR 1=1 --"}, {"proof": "Berlin"}, {"proof": "%"}],
)
def test_who_can_not_show_it_gets_the_same_answer_and_nothing_is_kept(ready, client, wrong):
    right = client.post("/s/kites/by-sms", data=FORM)
    ready.bench.rows("SELECT 1")
    before = consents(ready.bench)
    answer = client.post("/s/kites/by-sms", data=FORM | wrong)
    assert (answer.status_code, answer.location) == (right.status_code, right.location)
    assert consents(ready.bench) == before


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ({"address": "nobody"}, "no number or address"),
        ({"agreed": ""}, "tick that you agree"),
        ({"number": ""}, "Fill in every field"),
    ],
)
def test_what_is_missing_is_said_and_what_was_typed_stays(ready, client, wrong, said):
    answer = client.post("/s/kites/by-sms", data=FORM | wrong)
    assert answer.status_code == 422
    page = answer.get_data(as_text=True)
    assert said in page
    assert "jo@example.org" in page
    assert consents(ready.bench) == []


def test_guesses_at_one_order_end_soon(ready, client):
    codes = [client.post("/s/kites/by-sms", data=FORM | {"proof": f"x{n}@example.org"}).status_code for n in range(8)]
    assert codes[:5] == [303] * 5
    assert set(codes[5:]) == {429}


def test_a_permission_for_one_message_is_used_up_by_it(shop, client):  # noqa: F811
    pages(shop.bench, page={"message": "ask"})
    shop.order()
    skipped = shop.bench.rows("SELECT reason FROM send WHERE state = 'skipped'")
    assert "has not agreed" in skipped[0][0] or "no such variable" in skipped[0][0]
    shop.later(seconds=1)
    client.post("/s/kites/by-sms", data=FORM)
    assert consents(shop.bench)[0][0] == "phone:+493023125014#notice:ask"
    shop.route(key="again", name="Again", send="ask", channel="sms", gateway="line", when=["permission.given"])
    shop.route(key="once-more", name="More", send="ask", channel="sms", gateway="line", when=["order.updated"])
    shop.bench.plan()
    shop.later(seconds=1)
    shop.deliver("d-2", "changed", id=1, buyer=PHONE)
    shop.bench.plan()
    rows = shop.bench.rows(
        "SELECT route.key, send.state, send.reason FROM send JOIN route ON route.id = send.route_id "
        "WHERE route.key IN ('again', 'once-more') ORDER BY send.rowid"
    )
    assert [(row[0], row[1]) for row in rows] == [("again", "scheduled"), ("once-more", "skipped")]
    assert "agreed to this message by sms once" in rows[1][2]


def test_a_page_that_is_not_there_says_nothing(client, bench):
    assert client.get("/s/kites/by-pigeon").status_code == 404
    assert client.get("/s/other/by-sms").status_code == 404


def test_every_mail_says_why_it_came_where_the_shop_wants_it(shop, client):  # noqa: F811
    pages(shop.bench, why=True)
    shop.route(key="received", send="thanks")
    shop.order()
    shop.dispatch()
    mail = shop.ways["email"].mails[0].data.decode()
    link = re.search(r"https://shop\.example(/w/[0-9a-z-]+)", mail.replace("=\r\n", ""))[1]
    page = client.get(link).get_data(as_text=True)
    assert "Why you got this message" in page
    assert "about your order BK-7" in page
    assert "the order was placed" in page
    assert "j…@example.org" in page
    assert "jo@example.org" not in page
    assert client.get(link[:-1] + ("0" if link[-1] != "0" else "1")).status_code == 404


def test_the_links_of_different_pages_do_not_open_each_other(shop, client):  # noqa: F811
    shop.order()
    live = shop.bench.services.setups.get(shop.bench.store_id)
    links = Links(shop.bench.vault, "https://x.example")
    send, question = (shop.bench.rows(f"SELECT id FROM {table}")[0][0] for table in ("send", "question"))
    ends = {"w": links.why_token(send), "a": links.question(live, question)["token"]}
    assert {kind: client.get(f"/{kind}/{end}").status_code for kind, end in ends.items()} == {"w": 200, "a": 200}
    assert client.get(f"/a/{ends['w']}").status_code == 404
    assert client.get(f"/w/{ends['a']}").status_code == 404
    assert client.get(f"/p/{ends['a']}").status_code == 404


def test_notice_and_footer_are_written_by_language_and_seen_on_every_page(shop, client):  # noqa: F811
    shop.order()
    form = {"locale": "en", "notice": "We are away", "footer": "Three Ropewalk"}
    assert (
        client.post(
            "/customer-pages", data=form | {"edits": shop.bench.rows("SELECT edits FROM store")[0][0]}
        ).status_code
        == 302
    )
    assert "We are away" in text(client.get("/customer-pages"))
    for which in ("question-ask", "preferences", "why"):
        seen = client.get(f"/customer-pages/preview/{which}")
        if which == "why" and seen.status_code == 404:
            continue  # nothing was sent yet
        assert "We are away" in seen.get_data(as_text=True)
        assert "Three Ropewalk" in seen.get_data(as_text=True)
        assert "frame-ancestors 'self'" in seen.headers["Content-Security-Policy"]


def test_a_sign_up_page_is_made_with_its_code_and_removed(bench, client):
    made = client.post("/customer-pages/sign-ups", data={"name": "By SMS", "channel": "sms"}, follow_redirects=True)
    page = made.get_data(as_text=True)
    assert "/s/kites/by-sms" in page
    assert "<svg" in page
    again = client.post("/customer-pages/sign-ups", data={"name": "by sms", "channel": "sms"}, follow_redirects=True)
    assert "already" in text(again)
    assert client.get("/s/kites/by-sms").status_code == 200
    client.post("/customer-pages/sign-ups/by-sms/remove")
    assert client.get("/s/kites/by-sms").status_code == 404


def test_a_draft_is_seen_in_the_pictures_alone_until_it_is_published_and_an_older_one_comes_back(bench, client):
    def say(notice, act):
        edits = bench.rows("SELECT edits FROM store")[0][0]
        client.post("/customer-pages", data={"locale": "en", "notice": notice, "act": act, "edits": edits})

    pages(bench)
    say("First", "publish")
    say("Second", "draft")
    seen = [
        client.get(path).get_data(as_text=True) for path in ("/customer-pages/preview/preferences", "/s/kites/by-sms")
    ]
    assert ["Second" in page for page in seen] == [True, False]
    assert "First" in seen[1]
    say("Second", "publish")
    assert "Second" in client.get("/s/kites/by-sms").get_data(as_text=True)
    page = client.get("/customer-pages").get_data(as_text=True)
    older = re.search(r"/customer-pages/revisions/(\d+)", page)[1]
    client.post(f"/customer-pages/revisions/{older}")
    assert "Second" in client.get("/s/kites/by-sms").get_data(as_text=True)
    assert "First" in client.get("/customer-pages/preview/preferences").get_data(as_text=True)
    client.post("/customer-pages/discard")
    assert "Second" in client.get("/customer-pages/preview/preferences").get_data(as_text=True)


def test_two_people_do_not_overwrite_each_other_s_texts(bench, client):
    answer = client.post("/customer-pages", data={"locale": "en", "notice": "Mine", "edits": "99"})
    assert answer.status_code == 409


def test_every_page_speaks_the_same_languages():
    assert list(WORDS) == list(QUESTION_WORDS) == list(SIGN_UP_WORDS) == list(WHY_WORDS)
    assert happened("order.paid", "de-AT") == "die Bestellung wurde bezahlt"
    assert happened("own.event", "xx") == "something about the order has changed"
