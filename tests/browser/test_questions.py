"""A question as a customer and as the shop: answered by SMS, chat, mail and on the page; late, and for the team."""

import re

import pytest
from playwright.sync_api import expect

from tests.browser.test_every_page import ALL_RULES, AXE_RUN, BY_THEME

CUSTOMERS = iter((0, 1, 3, 4, 6, 7))
"""Each order is another customer's, since a reply by SMS names no order; those in France are asked by chat."""


def outcome(running, number):
    sql = (
        'SELECT question.state, question.answer, question.way FROM question JOIN "order" ON '
        '"order".id = question.order_id WHERE "order".number = ? ORDER BY asked_at DESC LIMIT 1'
    )
    return next(iter(running.rows(sql, number)), None)


@pytest.fixture
def placed(page, running):
    """Places an order that is paid on delivery; gives its number and the text that its customer got."""
    running.change("UPDATE question SET state = 'withdrawn' WHERE state = 'open'")  # of the demo's own customers

    def place():
        page.goto("/standins")
        page.get_by_label("Customer").select_option(index=next(CUSTOMERS))
        page.get_by_label("Payment").select_option("on_delivery")
        page.get_by_role("button", name="Place the order").click()
        number = re.search(r"BK-\d+", page.locator(".toast, .flash, [role=status]").first.text_content())[0]
        came = 'SELECT route.key, send.state, send.reason FROM send JOIN route ON route.id = route_id JOIN "order" '
        came += 'ON "order".id = send.order_id WHERE "order".number = ?'
        try:
            running.wait_for(lambda: asked(running, number))
        except AssertionError as late:
            raise AssertionError(f"no question came for {number}: {running.rows(came, number)}") from late
        id_, text = asked(running, number)[0]
        ((to,),) = running.rows("SELECT recipient FROM send WHERE id = ?", id_)
        return number, to, "/a/" + text.rpartition("/a/")[2]

    return place


def asked(running, number):
    """Id and text of what was sent about an order with a link to its answers."""
    of_order = 'send.order_id IN (SELECT id FROM "order" WHERE number = :number)'
    return [(id_, one.text) for id_, one in running.said(of_order, number=number).items() if "/a/" in one.text]


def said_to(running, number):
    """The routes that have sent for an order."""
    sql = (
        'SELECT route.key FROM send JOIN route ON route.id = send.route_id JOIN "order" ON "order".id = send.order_id '
        "WHERE \"order\".number = ? AND send.state IN ('sent', 'delivered', 'read')"
    )
    return {row[0] for row in running.rows(sql, number)}


def test_a_yes_by_sms_in_own_words_leads_to_the_confirmation_once(page, running, placed):
    number, to, _ = placed()
    assert "order-received" not in said_to(running, number), "it waits for the answer"
    page.goto(f"/standins/handset?to={to.replace('+', '%2B')}")
    page.get_by_label("What the customer answers").fill("Yes please!")
    page.get_by_role("button", name="Answer").click()
    running.wait_for(lambda: outcome(running, number) == ("answered", "yes", "sms"))
    running.wait_for(lambda: said_to(running, number) >= {"wants-it", "wants-it-tag"})
    page.goto("/messages/shall-we-send/question?outcome=yes")
    expect(page.locator("#list")).to_contain_text(number)
    expect(page.locator("#list")).to_contain_text("by SMS")


def test_a_no_on_the_page_cancels_in_the_shop_and_a_later_yes_changes_nothing(page, running, placed):
    number, _, link = placed()
    page.goto(f"{link}?answer=yes&lang=en")
    expect(page.get_by_role("heading", level=1)).to_contain_text(number)
    assert outcome(running, number)[0] == "open", "opening the link answers nothing"
    page.get_by_role("button", name="No, cancel it").click()
    expect(page.get_by_role("status")).to_contain_text("We do not send it.")
    running.wait_for(lambda: "wants-it-not" in said_to(running, number))
    page.request.post(link, form={"answer": "yes"})
    assert outcome(running, number) == ("answered", "no", "page")
    page.goto("/standins/calls")
    expect(page.get_by_text(f"/orders/{number}/cancel").first).to_be_visible()


def test_a_chat_button_answers(page, running, placed):
    """Customers in France are asked by chat."""
    page.goto("/standins")
    page.get_by_label("Customer").select_option(label="Claire Béranger, Dieppe (fr)")
    page.get_by_label("Payment").select_option("on_delivery")
    page.get_by_role("button", name="Place the order").click()
    number = re.search(r"BK-\d+", page.locator(".toast, .flash, [role=status]").first.text_content())[0]
    running.wait_for(lambda: "pay-on-delivery-chat" in said_to(running, number))
    to = "SELECT recipient FROM send JOIN route ON route.id = route_id WHERE route.key = 'pay-on-delivery-chat'"
    page.goto(f"/standins/chat?to={running.rows(f'{to} ORDER BY send.id DESC LIMIT 1')[0][0].replace('+', '%2B')}")
    page.get_by_role("button", name="Oui, envoyez").last.click()
    running.wait_for(lambda: outcome(running, number) == ("answered", "yes", "chat"))
    running.wait_for(lambda: said_to(running, number) >= {"wants-it", "wants-it-tag"})


def test_a_reply_that_is_no_answer_is_read_and_noted_by_the_team(page, running, placed):
    number, to, _ = placed()
    page.goto(f"/standins/handset?to={to.replace('+', '%2B')}")
    page.get_by_label("What the customer answers").fill("When does it come?")
    page.get_by_role("button", name="Answer").click()
    running.wait_for(lambda: running.rows("SELECT 1 FROM question WHERE unmatched = ?", "When does it come?"))
    page.goto("/")
    page.get_by_role("link", name="See it").first.click()
    page.locator("#list").get_by_role("link", name=number).click()
    expect(page.locator("#questions")).to_contain_text("Replied “When does it come?”")
    page.locator("#questions").get_by_role("button", name="Yes, send it").click()
    expect(page.locator("#questions")).to_contain_text("noted by")
    running.wait_for(lambda: "wants-it" in said_to(running, number))


def test_who_says_nothing_is_told_to_the_shop_and_is_too_late_afterwards(page, running, placed):
    number, _, link = placed()
    running.wait_for(lambda: running.rows("SELECT 1 FROM question WHERE state = 'open' AND delivered"))
    ended = "UPDATE question SET ends_at = asked_at, look_at = asked_at WHERE state = 'open'"
    running.change(ended)
    running.wait_for(lambda: outcome(running, number)[0] == "no_answer")
    running.wait_for(lambda: "silent" in said_to(running, number))
    page.goto(f"{link}?lang=en")
    expect(page.get_by_role("status")).to_contain_text("The time to answer was over")
    expect(page.get_by_role("link", name="Write to us")).to_be_visible()


def test_an_order_that_was_cancelled_meanwhile_needs_no_answer_in_whichever_language(page, running, placed):
    number, to, link = placed()
    page.goto("/standins")
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name=number))
    row.get_by_role("button", name="Cancel").click()
    running.wait_for(lambda: outcome(running, number)[0] == "withdrawn")
    for language, said in (("en", "This question is closed"), ("de", "Diese Frage ist geschlossen")):
        page.goto(f"{link}?answer=yes&lang={language}")
        expect(page.get_by_role("status")).to_contain_text(said)
        expect(page.locator("main button")).to_have_count(0)
    page.goto(f"/standins/handset?to={to.replace('+', '%2B')}")
    page.get_by_label("What the customer answers").fill("Yes")
    page.get_by_role("button", name="Answer").click()
    page.request.post(link, form={"answer": "yes"})
    assert outcome(running, number)[:2] == ("withdrawn", "")
    assert said_to(running, number).isdisjoint({"wants-it", "wants-it-tag"})


def behave(page, fault):
    """Sets how the SMS provider behaves: its form sends itself."""
    page.goto("/standins/handset")
    with page.expect_navigation():
        page.get_by_label("How the provider behaves").select_option(fault)


def test_where_no_sms_gets_through_the_mail_asks_and_its_button_answers(page, running, placed):
    behave(page, "refuse")
    try:
        page.goto("/standins")
        page.get_by_label("Customer").select_option(index=next(CUSTOMERS))
        page.get_by_label("Payment").select_option("on_delivery")
        page.get_by_role("button", name="Place the order").click()
        number = re.search(r"BK-\d+", page.locator(".toast, .flash, [role=status]").first.text_content())[0]
        running.wait_for(lambda: "pay-on-delivery" in said_to(running, number), 30)
    finally:
        behave(page, "none")
    page.goto("/standins")
    page.locator("#post").get_by_text(number).first.click()
    by_mail = re.compile(r"(/a/[0-9a-z-]+\?answer=no)")
    body = running.wait_for(lambda: next((t for _, t in asked(running, number) if by_mail.search(t)), ""))
    page.goto(by_mail.search(body)[1])
    expect(page.locator("button.main")).to_have_text(re.compile("No|Nein|Non"))
    page.locator("button.main").press("Enter")
    expect(page.get_by_role("status")).to_be_visible()
    assert outcome(running, number) == ("answered", "no", "page")


@pytest.mark.parametrize(("scheme", "width"), [("light", 1280), ("dark", 380)])
def test_a_customer_s_page_can_be_read_by_everybody_without_script(browser, running, looked_at, scheme, width):
    text = next(one.text for one in reversed(running.said("question_id IS NOT NULL").values()) if "/a/" in one.text)
    link = "/a/" + text.rpartition("/a/")[2]
    looked_at.faults.clear()
    looked_at.emulate_media(color_scheme=scheme)
    looked_at.set_viewport_size({"width": width, "height": 800})
    for address in (link, "/s/brackwater-kites/by-sms"):
        looked_at.goto(address)
        found = looked_at.evaluate(AXE_RUN, [ALL_RULES if scheme == "light" else BY_THEME, True])["violations"]
        assert [f"{v['id']}: {v['nodes'][0]['html'][:160]}" for v in found] == []
        assert looked_at.evaluate("document.documentElement.scrollWidth - innerWidth") <= 0
        assert looked_at.evaluate("document.scripts.length") == 0
    assert looked_at.faults == []


def test_signing_up_from_the_thank_you_page(page, running):
    page.goto("/standins")
    page.get_by_label("Customer").select_option(index=1)
    page.get_by_role("button", name="Place the order").click()
    page.locator("a[title*='once they have ordered']").first.click()
    page.get_by_role("link", name="Write to me by SMS").click()
    page.get_by_label(re.compile("postcode")).fill("P17 X000")
    page.get_by_label("Mobile number").fill("020 915 7777")
    page.get_by_label(re.compile("I agree")).check()
    page.get_by_role("button", name="Agree").click()
    expect(page.get_by_role("status")).to_contain_text("Thank you.")
    running.wait_for(lambda: running.rows("SELECT 1 FROM consent WHERE address_key = 'phone:+353209157777'"))
    words = running.rows("SELECT words FROM consent WHERE address_key = 'phone:+353209157777'")[0][0]
    assert "Brackwater Kites writes to me about my order by SMS" in words
