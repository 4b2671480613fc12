"""Optional mails: their link, their headers (RFC 8058), the page behind them, and that what is chosen there holds."""

import email
import email.policy
import re
from urllib.parse import urlsplit

import pytest

from angelon.core.messages.channels import compiled_part
from angelon.core.messages.leaving import LINK
from angelon.core.specs import Message, Route, Store
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.web.customers import guesses
from angelon.web.customers.words import WORDS as PAGE_WORDS
from tests import made
from tests.web.test_pages import post, text


@pytest.fixture(autouse=True)
def fresh():
    for limits in (guesses.by_asker, guesses.by_all):
        limits._left.clear()


def publish(bench, **changes):
    now = bench.clock.now()
    with bench.database.writing() as session:
        spec = made.message().model_dump(mode="json") | {"purpose": "optional", "title": {"en": "Order news"}} | changes
        row = specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(spec), now)
        specs.publish(session, row, now)
    bench.services.setups.forget()


def dispatcher(bench, base="https://angelon.example"):
    return Dispatcher("t", bench.database, bench.services.setups, bench.vault, bench.clock, base_url=base)


@pytest.fixture
def sent(bench, mailbox, client):
    """One optional mail, as it came into the mailbox, and the path of its link."""
    publish(bench)
    post(client)
    bench.plan()
    dispatcher(bench).run_batch(8)
    (row,) = bench.box.mails()
    mail = email.message_from_bytes(row.raw, policy=email.policy.default)
    link = mail["List-Unsubscribe"].strip().strip("<>")
    return mail, urlsplit(link).path


def test_an_optional_mail_has_the_reader_s_own_link_and_a_needed_one_has_none(bench, sent, client, mailbox):
    mail, path = sent
    assert mail["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    page, plain = (mail.get_body((kind,)).get_content() for kind in ("html", "plain"))
    for part in (page, plain):
        assert f"https://angelon.example{path}" in part
        assert LINK not in part
    assert "Benachrichtigungen auswählen" in page, "in the reader's language"
    assert "joerg" not in path, "nobody reads an address in it"
    publish(bench, purpose="needed")
    bench.deliver(made.body(id=2, reference="BK-8"), store_delivery="d-2")
    bench.plan()
    dispatcher(bench).run_batch(8)
    needed = email.message_from_bytes(bench.box.mails()[0].raw, policy=email.policy.default)
    assert needed["List-Unsubscribe"] is None
    assert "/p/" not in needed.get_body(("html",)).get_content()


def test_the_page_is_in_the_shop_s_dress_and_changes_nothing_when_it_is_opened(sent, client, bench):
    _, path = sent
    opened = client.get(path)
    page = opened.get_data(as_text=True)
    assert opened.status_code == 200
    assert "Deine Benachrichtigungen von Kites" in page
    assert "j…@example.org" in page
    assert "joerg@" not in page
    assert re.search(r'value="received"\s+checked', page)
    assert "Order news" in page
    assert bench.rows("SELECT * FROM suppression") == []


def test_one_click_leaves_at_once_and_a_needed_mail_still_comes(sent, client, bench):
    _, path = sent
    done = client.post(path, data={"List-Unsubscribe": "One-Click"})
    assert (done.status_code, done.mimetype) == (200, "text/plain")
    assert bench.rows("SELECT address_key, scope, origin FROM suppression") == [
        ("email:joerg@example.org", "optional", "one-click")
    ]
    assert bench.rows("SELECT channel, granted, given_at FROM consent") == [
        ("email", 0, "the page of their preferences")
    ]
    bench.deliver(made.body(id=2, reference="BK-8"), store_delivery="d-2")
    bench.plan()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send WHERE state != 'sent'")
    assert state == "skipped"
    assert "must not be written to: left by their mail program." in reason
    publish(bench, purpose="needed")
    bench.deliver(made.body(id=3, reference="BK-9"), store_delivery="d-3")
    bench.plan()
    assert bench.rows("SELECT count(*) FROM send WHERE state = 'scheduled'") == [(1,)]


def test_what_was_planned_before_somebody_left_does_not_go_out(client, bench, mailbox):
    publish(bench)
    post(client)
    bench.plan()
    with bench.database.writing() as session:
        from angelon.db.people import suppressions

        suppressions.add(
            session, bench.store_id, "email:joerg@example.org", "left.", bench.clock.now(), "notice:received", "left"
        )
    dispatcher(bench).run_batch(8)
    assert [state for (state,) in bench.rows("SELECT state FROM send")] == ["skipped"]


def test_one_notice_is_unticked_and_ticked_again(sent, client, bench):
    _, path = sent
    now = bench.clock.now()
    with bench.database.writing() as session:
        spec = made.message(key="ask", name="Ask how it went", purpose="optional")
        row = specs.save_draft(session, MessageRow, bench.store_id, spec, now)
        specs.publish(session, row, now)
        route = specs.save_draft(
            session, RouteRow, bench.store_id, Route.model_validate(made.route(key="ask", send="ask").model_dump()), now
        )
        specs.publish(session, route, now)
        specs.switch(session, route, True, now)
    bench.services.setups.forget()
    done = client.post(path, data={"wanted": ["received", "nothing-of-ours"]})
    assert "Gespeichert." in text(done)
    assert bench.rows("SELECT scope, origin FROM suppression") == [("notice:ask", "left")]
    client.post(path, data={"wanted": ["ask", "received"]})
    assert bench.rows("SELECT scope FROM suppression") == []
    none = client.post(path, data={"none": "1", "wanted": ["ask"]})
    assert "Du bekommst nichts davon mehr" in text(none)
    assert bench.rows("SELECT scope FROM suppression") == [("optional",)]
    client.post(path, data={"wanted": ["ask"]})
    assert bench.rows("SELECT scope FROM suppression") == [("notice:received",)]
    assert bench.rows("SELECT count(*) FROM consent") == [(4,)], "each with its proof"


def test_what_the_shop_or_a_mail_server_said_is_not_taken_back_by_a_reader(sent, client, bench):
    _, path = sent
    client.post("/suppressions", data={"addresses": "joerg@example.org", "why": "he rang", "scope": "optional"})
    client.post(path, data={"wanted": ["received"]})
    assert bench.rows("SELECT why, origin FROM suppression") == [("he rang", "person")]


def test_a_link_that_is_none_of_ours_opens_nothing(client, sent):
    _, path = sent
    for wrong in ("/p/abc", path[:-3], path + "x", "/p/" + "A" * 3000):
        answer = client.get(wrong)
        assert answer.status_code == 404, wrong
        assert "Kites" not in answer.get_data(as_text=True)
        assert client.post(wrong, data={"none": "1"}).status_code == 404


def test_without_a_public_address_an_optional_mail_is_held_and_says_so(client, bench, mailbox):
    publish(bench)
    post(client)
    bench.plan()
    dispatcher(bench, "").run_batch(8)
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "held"
    assert "no public address" in reason


def test_every_kind_of_mail_has_the_link_once_in_every_part():
    shop = made.store()
    for spec in (
        {"subject": "a", "blocks": [{"kind": "text", "text": "x"}]},
        {"subject": "a", "html": "<html><body><p>x</p></body></html>"},
        {"subject": "a", "html": "<p>x</p>", "text": "x"},
        {"subject": "a", "text": "x", "text_only": True},
    ):
        message = Message.model_validate({"key": "m", "name": "M", "purpose": "optional", "email": {"en": spec}})
        mail = compiled_part(message, "email", "en", Store.model_validate(shop.model_dump())).render({})
        assert mail.text.count(LINK) == 1, spec
        assert mail.html.count(LINK) == (0 if spec.get("text_only") else 1), spec
        assert LINK not in mail.for_reader("https://x.example/p/1").text


def test_every_language_says_all_of_it():
    assert all(all(one) and "{shop}" in one.title and "{address}" in one.about for one in PAGE_WORDS.values())
