"""A question as its customer and its shop see it: the page behind the link, the message's page, the order's page."""

import csv
import io
import json
import re

import pytest

from angelon.core.questions import EVENTS
from angelon.core.specs import Message
from angelon.db.log import questions
from angelon.db.setup import specs
from angelon.db.tables import MessageRow
from angelon.engine.feedback.answers import Questions
from angelon.engine.feedback.preferences import Links
from angelon.handlers import _ABOUT_QUESTIONS
from angelon.web.customers import guesses
from tests.engine.test_questions import ANSWERS, asked, follow, give, routes, send_it, shop  # noqa: F401
from tests.web.test_pages import text


@pytest.fixture(autouse=True)
def fresh():
    for limits in (guesses.by_asker, guesses.by_all):
        limits._left.clear()


@pytest.fixture
def link(shop, client):  # noqa: F811
    """The path of one customer's question, which was sent."""
    shop.order(lines=[{"sku": "HER-180", "title": "Heron <b>", "quantity": 1, "price": "119.00"}])
    send_it(shop)
    shop.later(minutes=1)
    follow(shop)
    return shop.ways["sms"].mails[0].values["text"].rpartition(" ")[2].removeprefix("https://shop.example")


def test_opening_the_link_answers_nothing_and_a_button_does_once(shop, link, client):  # noqa: F811
    page = client.get(f"{link}?answer=yes").get_data(as_text=True)
    assert "Shall we send it?" in page
    assert "Heron &lt;b&gt;" in page
    assert 'value="yes" class="main"' in page.replace("\n", " ")
    assert asked(shop)[0][0] == "open"
    answered = client.post(link, data={"answer": "yes"}, follow_redirects=True).get_data(as_text=True)
    assert "Thank you. You answered: Yes, send it." in answered
    assert "<button" not in answered
    client.post(link, data={"answer": "yes"})
    shop.bench.plan()
    assert (asked(shop)[0][:3], routes(shop)) == (("answered", "yes", "page"), ["yes"])


def test_a_change_of_mind_is_told_that_the_first_answer_counts(shop, link, client):  # noqa: F811
    client.post(link, data={"answer": "no"})
    shop.later(seconds=1)
    said = client.post(link, data={"answer": "yes"}, follow_redirects=True).get_data(as_text=True)
    assert "You answered before: No, cancel it. That counts." in said
    assert "mailto:hello@example.com" in said
    shop.bench.plan()
    assert routes(shop) == ["no", "late"]


def test_who_is_too_late_is_told_so_and_reaches_the_shop(shop, link, client):  # noqa: F811
    shop.later(hours=49)
    page = client.get(link).get_data(as_text=True)
    assert "The time to answer was over on" in page
    assert "<button" not in page
    assert client.post(link, data={"answer": "yes"}).status_code == 303
    follow(shop)
    assert (asked(shop)[0][0], routes(shop)) == ("no_answer", ["silent", "late"])


@pytest.mark.parametrize("path", ["/a/nobody-000000000000", "/a/0-0", "/a/%F0", "/a/" + "x" * 3000, "/a/…-…"])
def test_a_forged_link_opens_nothing_and_says_nothing_of_an_order(client, bench, path):
    answer = client.get(path)
    assert answer.status_code == 404
    assert "no longer valid" in answer.get_data(as_text=True)


def test_the_link_of_a_test_leads_to_nobody_s_question(client, bench):
    made = Links(bench.vault, "https://shop.example").question(bench.services.setups.get(bench.store_id), None)
    assert "This is a test" in client.get(made["link"].removeprefix("https://shop.example")).get_data(as_text=True)


def test_the_proof_of_one_question_opens_no_other(shop, link, client):  # noqa: F811
    shop.order(2, reference="BK-8")
    first, second = (row[0] for row in shop.bench.rows("SELECT id FROM question ORDER BY asked_at"))
    proof = link.rpartition("-")[2]
    assert client.get(f"/a/{second[3:]}-{proof}").status_code == 404
    assert client.get(f"/a/{first[3:]}-{proof}").status_code == 200


def test_guesses_are_slowed_down_and_the_customer_is_not(shop, link, client):  # noqa: F811
    seen = {client.get(f"/a/{number:019}-{number:012}").status_code for number in range(80)}
    assert seen == {404, 429}
    assert client.get(link).status_code == 200


def test_an_answer_that_is_none_changes_nothing(shop, link, client):  # noqa: F811
    assert client.post(link, data={"answer": "maybe"}).status_code == 422
    assert client.post(link).status_code == 422
    assert asked(shop)[0][0] == "open"


def test_the_page_is_small_and_needs_no_script(shop, link, client):  # noqa: F811
    page = client.get(link)
    style = client.get("/static/css/customer.css").data
    assert len(page.data) + len(style) < 50_000
    assert b"<script" not in page.data
    assert b'content="noindex"' in page.data
    assert page.headers["Referrer-Policy"] == "same-origin"
    assert b'name="referrer" content="same-origin"' in page.data, "its own POST has an Origin, others hear nothing"


def test_the_page_speaks_the_order_s_language_and_can_be_switched(shop, client):  # noqa: F811
    spec = json.loads(json.dumps(dict(shop_message())))
    spec["question"]["title"] = {"en": "Shall we?", "de": "Sollen wir?"}
    spec["question"]["answers"][0]["words"] = {"en": "Yes, send it", "de": "Ja, los"}
    shop.publish(MessageRow, Message.model_validate(spec))
    shop.order()
    send_it(shop)
    path = shop.ways["sms"].mails[0].values["text"].rpartition(" ")[2].removeprefix("https://shop.example")
    german = client.get(path).get_data(as_text=True)
    assert "Sollen wir?" in german
    assert "Ja, los" in german
    assert "No, cancel it" in german, "what has no words in a language is said in the main one"
    english = client.get(f"{path}?lang=en").get_data(as_text=True)
    assert "Shall we?" in english
    assert '<html lang="en"' in english


def shop_message():
    from tests.engine.test_questions import ASK

    return ASK


def test_the_message_s_page_shows_outcomes_and_what_follows(shop, link, client):  # noqa: F811
    give(shop, "yes")
    page = text(client.get("/messages/ask/question"))
    assert "1 asked" in page
    assert "On yes" in page
    assert "BK-7" in page
    assert "on the page" in page
    only = text(client.get("/messages/ask/question?outcome=no"))
    assert "None with this outcome." in only
    rows = list(csv.DictReader(io.StringIO(client.get("/messages/ask/question/all.csv").get_data(as_text=True))))
    assert [(row["order"], row["outcome"], row["by"]) for row in rows] == [("BK-7", "yes", "page")]


def test_an_outcome_is_rehearsed_on_the_newest_order_and_nothing_is_sent(shop, link, client, bench):  # noqa: F811
    before = bench.rows("SELECT count(*) FROM send")[0][0]
    page = text(client.get("/messages/ask/question?as=no"))
    assert "nothing is sent" in page
    assert re.search(r"On no\s+would send\s+email to jo@example.org", page)
    assert re.search(r"On yes\s+does not send", page)
    silent = text(client.get("/messages/ask/question?as=no_answer"))
    assert re.search(r"On silence\s+would send", silent)
    assert "nothing is sent" not in text(client.get("/messages/ask/question?as=maybe"))
    assert (bench.rows("SELECT count(*) FROM send")[0][0], asked(shop)[0][0]) == (before, "open")


def form(**changes):
    made = {
        "locale": "en",
        "title": "Shall we send it?",
        "open_hours": "24",
        "withdraw_on": ["order.cancelled", "order.paid"],
        **{"answers.0.key": "yes", "answers.0.means": "yes", "answers.0.words": "Yes", "answers.0.also": "sure, fine"},
        **{"answers.1.key": "no", "answers.1.means": "no", "answers.1.words": "No", "answers.1.thanks": "A pity."},
        **{"answers.2.key": "", "answers.2.means": "other", "answers.2.words": ""},
    }
    return made | changes


def draft(bench, key="ask"):
    with bench.database.reading() as session:
        return specs.message(session, bench.store_id, key).spec


def test_the_question_is_edited_in_one_language_and_the_others_stay(shop, bench, client):  # noqa: F811
    changed = form(
        **{"locale": "de", "answers.0.words": "Ja", "answers.2.words": "Später bitte", "title": "Sollen wir?"}
    )
    assert client.post("/messages/ask/question", data=changed).status_code == 302
    question = draft(bench).question
    assert question.title == {"en": "Shall we send it?", "de": "Sollen wir?"}
    assert question.answers[0].words == {"en": "Yes, send it", "de": "Ja"}
    assert question.answers[0].also == ["sure", "fine"]
    assert (question.answers[2].key, question.answers[2].words) == ("spater", {"de": "Später bitte"})
    assert (question.open_hours, question.withdraw_on) == (24, ["order.cancelled", "order.paid"])


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"open_hours": "soon"}, "has to be a number of hours"),
        ({"open_hours": "0"}, "at least 1"),
        ({"answers.1.key": "yes"}, "two answers with the same key"),
        ({"answers.0.key": "open"}, "means something else"),
    ],
)
def test_what_can_not_be_kept_is_said_and_what_was_typed_stays(shop, client, changes, said):  # noqa: F811
    answer = client.post("/messages/ask/question", data=form(**{"title": "Typed just now", **changes}))
    assert answer.status_code == 422
    page = answer.get_data(as_text=True)
    assert said in page
    assert "Typed just now" in page
    assert all(f'value="{typed}"' in page for typed in changes.values())


def test_two_windows_do_not_overwrite_each_other(shop, bench, client):  # noqa: F811
    client.post("/messages/ask/question", data=form())
    answer = client.post("/messages/ask/question", data=form(known="2020-01-01T00:00:00+00:00", title="Mine"))
    assert answer.status_code == 409
    assert "Mine" in answer.get_data(as_text=True)
    assert draft(bench).question.title["en"] == "Shall we send it?"


def test_a_message_gets_a_question_to_begin_with_and_loses_it(shop, bench, client):  # noqa: F811
    client.post("/messages/thanks/question/start")
    assert [one.key for one in draft(bench, "thanks").question.answers] == ["yes", "no"]
    client.post("/messages/thanks/question/remove")
    assert draft(bench, "thanks").question is None


def test_what_follows_is_made_ready_and_off(shop, bench, client):  # noqa: F811
    made = client.post(
        "/messages/ask/question/then", data={"outcome": "no_answer", "send": "told", "whom": "role:owner"}
    )
    with bench.database.reading() as session:
        row = next(one for one in specs.routes(session, bench.store_id) if made.location.endswith(one.key))
    route = row.spec
    assert (route.when, route.sources, row.on) == (["question.expired"], ["shop"], False)
    assert (route.send, route.to[0].kind, route.to[0].who) == ("told", "role", "owner")
    assert route.only_if.of[0].of == "question.ask"
    page = text(client.get("/messages/ask/question"))
    assert "No answer: told" in page
    refused = client.post(
        "/messages/ask/question/then", data={"outcome": "open", "send": "told"}, follow_redirects=True
    )
    assert "no outcome of the question" in text(refused)


def test_the_team_notes_an_answer_and_withdraws_a_question(shop, link, client, bench):  # noqa: F811
    order = bench.rows("SELECT order_id FROM question")[0][0]
    id_ = bench.rows("SELECT id FROM question")[0][0]
    assert "Note an answer:" in text(client.get(f"/orders/{order}"))
    client.post(f"/orders/{order}/questions/{id_}", data={"answer": "yes"})
    bench.plan()
    assert (asked(shop)[0][:3], routes(shop)) == (("answered", "yes", "team"), ["yes"])
    page = text(client.get(f"/orders/{order}"))
    assert "noted by this machine" in page
    again = client.post(f"/orders/{order}/questions/{id_}", data={"act": "withdraw"}, follow_redirects=True)
    assert "no longer open" in text(again)
    shop.order(2, reference="BK-8")
    other = bench.rows("SELECT id, order_id FROM question WHERE state = 'open'")[0]
    client.post(f"/orders/{other[1]}/questions/{other[0]}", data={"act": "withdraw"})
    assert [row[0] for row in asked(shop)] == ["answered", "withdrawn"]


def test_the_overview_tells_of_replies_and_silence(shop, link, client, bench):  # noqa: F811
    with bench.database.connection() as connection:
        row = questions.all_open(connection)[0]
        questions.change(connection, row.id, unmatched="when?")
    assert "A reply to read" in text(client.get("/"))
    shop.later(hours=49)
    Questions(bench.database, bench.services.setups, bench.clock).run_due()
    page = text(client.get("/"))
    assert "1 without an answer" in page
    assert "A reply to read" not in page


def test_handlers_know_the_same_events():
    assert EVENTS == _ABOUT_QUESTIONS


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"answers": ANSWERS[:1]}, "needs two answers"),
        ({"title": {}}, "itself is not written"),
        ({"title": {"en": "For {{ customer_name }}?"}}, "knows the order and the shop only"),
        ({"title": {"en": "{{ order.nmber }}"}}, "no field “nmber”"),
        ({"answers": [ANSWERS[0] | {"also": ["Stop"]}, ANSWERS[1]]}, "wants no more messages"),
        ({"answers": [ANSWERS[0], ANSWERS[1] | {"also": ["yes send it"]}]}, "is an answer twice"),
    ],
)
def test_publishing_says_what_is_wrong_with_a_question(shop, client, bench, changes, said):  # noqa: F811
    spec = json.loads(json.dumps(shop_message()))
    spec["question"] |= changes
    with bench.database.writing() as session:
        specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(spec), bench.clock.now())
    page = text(client.post("/messages/ask/publish", follow_redirects=True))
    assert "Not published" in page
    assert said in page


def test_publishing_says_where_a_text_has_no_way_to_answer(shop, client, bench):  # noqa: F811
    spec = json.loads(json.dumps(shop_message()))
    spec["sms"]["en"]["text"] = "Shall we?"
    spec["email"]["en"]["blocks"] = [{"kind": "text", "text": "Shall we?"}]
    with bench.database.writing() as session:
        specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(spec), bench.clock.now())
    page = text(client.get("/messages/ask?channel=email"))
    assert "The mail has no way to answer." in page
    assert "The SMS does not say how to answer." in page


def test_what_an_answer_notes_is_kept_as_typed_where_it_is_refused(shop, bench, client):  # noqa: F811
    refused = client.post("/messages/ask/question", data=form(**{"answers.0.marks": "vip"}))
    assert refused.status_code == 422
    assert "“vip” says nothing to note" in text(refused)
    assert ">vip<" in refused.get_data(as_text=True)
    assert client.post("/messages/ask/question", data=form(**{"answers.0.marks": "+vip"})).status_code == 302
    assert draft(bench).question.answers[0].marks.tags == {"vip": True}
