"""Right values to the right person, once: holes, lists of orders, drafts of a mapping, names and signatures, doubles,
orders under way, languages, and what customers answer. Each as a person does it.
"""

import hashlib
import hmac
import json

import httpx
from playwright.sync_api import expect

from angelon.core.specs import Message, Route, Source

ORDER = {
    "id": "A-1",
    "status": "open",
    "total": "24.50",
    "currency": "EUR",
    "created_at": "2026-11-20T10:00:00+00:00",
    "customer": {"name": "Mika Brandt", "email": "mika@example.net", "language": "en", "country": "DE"},
    "lines": [{"sku": "REE-ASH", "title": "Ash reel", "quantity": 1, "price": "24.50"}],
}


def order(**changes):
    return ORDER | changes


READING = {part: f"$.{part}" for part in ("status", "total", "currency", "lines")}
READING |= {part: f"$.customer.{part}" for part in ("name", "email", "country", "language")}
READING |= {"reference": "$.id", "placed_at": "$.created_at"}


def source(running, name, mapped=True, **given):
    """A source of unsigned deliveries, each a new order, mapped or not yet; gives its key."""
    made = {"key": name.lower(), "name": name, "signing": {"scheme": "none"}, "event_name": {"fixed": "sale"}}
    made |= {"event_names": {"sale": "order.created"}} | given
    if mapped:
        made |= {"reading": READING, "line": {"name": "$.title", "quantity": "$.quantity", "price": "$.price"}}
    running.has(Source.model_validate(made))
    return made["key"]


def deliver(running, key, body, **headers):
    answer = httpx.post(
        f"{running.url}/in/{key}", content=json.dumps(body), headers={**headers, "content-type": "application/json"}
    )
    return answer.status_code


def mapped(page, key):
    """Takes what is sure, and puts it live."""
    page.goto(f"/sources/{key}/read")
    page.locator(".sure button").click()
    expect(page.locator(".sure")).to_have_count(0)
    page.get_by_role("region", name="Draft").get_by_role("button", name="Publish the mapping").click()
    expect(page.get_by_text("of the mapping is live")).to_be_visible()


def message(page, name, subject, text):
    """A message that is live, or refused; the page stays open."""
    page.goto("/messages")
    page.get_by_label("Name of the new message").fill(name)
    page.get_by_role("button", name="Write a message").click()
    page.get_by_label("Subject", exact=True).fill(subject)
    page.get_by_label("Heading: text").fill("Hello")
    page.get_by_label("Text: text").fill(text)
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")
    page.get_by_role("button", name="Publish").click()


def slip(running, name, subject, text="Thank you."):
    """A message in English that is live; gives its key."""
    blocks = [{"kind": "heading", "text": "Hello"}, {"kind": "text", "text": text}]
    email = {"en": {"subject": subject, "blocks": blocks}}
    made = Message.model_validate({"key": name.lower().replace(" ", "-"), "name": name, "email": email})
    running.has(made)
    return made.key


def live_route(running, name, source_key, send, when="order.created", **given):
    """A route that is switched on."""
    made = {"key": name.lower().replace(" ", "-"), "name": name, "when": [when], "sources": [source_key], "send": send}
    running.has(Route.model_validate({**made, "gateway": "mailroom", **given}))


def route(page, name, source_name, message_name, when="created"):
    """A route; its page stays open, and it is off."""
    page.goto("/routes")
    page.get_by_label("Name of the new route").fill(name)
    page.get_by_role("button", name="Make a route").click()
    for slot, choice in (
        ("choose an event", when),
        ("choose a source", source_name),
        ("choose a message", message_name),
    ):
        page.locator(".slot summary", has_text=slot).click()
        page.locator(".slot[open] label", has_text=choice).first.locator("input").click()
        expect(page.locator(".slot summary", has_text=slot)).to_have_count(0)


def switch_on(page):
    page.get_by_role("button", name="Switch on").click()
    expect(page.get_by_text("The route is live.")).to_be_visible()


def order_page(page, running, number):
    ((id_,),) = running.wait_for(lambda: running.rows('SELECT id FROM "order" WHERE number = ?', number))
    page.goto(f"/orders/{id_}")


def comes(page, words):
    """Waits for words on a page that follows what happens, or is opened again until then."""
    for _ in range(30):
        if words in page.locator("main").inner_text():
            return
        page.wait_for_timeout(500)
        page.reload()
    raise AssertionError(f"“{words}” does not come: {page.locator('main').inner_text()}")


def test_a_value_that_is_missing_holds_the_send_and_says_which(page, running):
    key = source(running, "Holes")
    assert deliver(running, key, order(id="H-1")) == 202
    message(page, "Holes slip", "Order {{ order.nmber }}", "Your total is {{ order.total }}.")
    expect(page.get_by_text("Not published: An order has no field “nmber”. Did you mean order.number?")).to_be_visible()
    page.get_by_label("Subject", exact=True).click()
    page.keyboard.press("Control+a")
    page.keyboard.press("Delete")
    page.get_by_label("Subject", exact=True).fill("Order {{ order.number }}")
    expect(page.locator("[data-subject]")).to_have_text("Order H-1")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Revision 1 is live.")).to_be_visible()
    route(page, "Holes route", "Holes", "Holes slip")
    switch_on(page)
    body = order(id="H-2")
    del body["total"]
    assert deliver(running, key, body) == 202
    order_page(page, running, "H-2")
    comes(page, "order.total has no value for this order")
    assert not [mail for mail in running.mails() if "H-2" in mail["subject"]]


def test_a_list_of_orders_is_split_before_it_is_mapped(page, running):
    key = source(running, "Batches", mapped=False)
    several = [order(id="B-1"), order(id="B-2"), order(id="B-3")]
    assert deliver(running, key, several) == 202
    page.goto(f"/sources/{key}/read")
    expect(page.get_by_text("This looks like a list of orders")).to_be_visible()
    page.get_by_role("button", name="Split them").click()
    expect(page.get_by_text("This looks like a list of orders")).to_have_count(0)
    sure = page.locator(".sure-list")
    expect(sure).to_contain_text("email $.customer.email mika@example.net")
    mapped(page, key)
    several = [order(id="B-7"), order(id="B-8")]
    assert deliver(running, key, several) == 202
    order_page(page, running, "B-8")
    expect(page.get_by_role("heading", name="B-8")).to_be_visible()


def test_unmapping_what_a_live_text_needs_is_asked_about(page, running):
    key = source(running, "Drafts")
    assert deliver(running, key, order(id="D-1")) == 202
    slip(running, "Drafts slip", "Order {{ order.number }}", "For {{ order.total }}.")
    page.goto(f"/sources/{key}/read?open=reading.total")
    bench = page.locator("#mapping")
    bench.get_by_role("button", name="Remove $.total").click()
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("order.total is no longer mapped, and is used in")
    expect(draft.get_by_role("link", name="Drafts slip")).to_be_visible()
    draft.get_by_role("button", name="Publish the mapping").click()
    expect(page.get_by_role("heading", name="Not live yet")).to_be_visible()
    page.go_back()
    draft.get_by_role("button", name="Undo").click()
    expect(draft).to_have_count(0)
    expect(bench.locator('.var[data-field="reading.total"] .value')).to_contain_text("24.50")


def test_a_kind_of_one_s_own_and_a_signature_come_from_the_delivery_itself(page, running):
    page.goto("/sources")
    page.get_by_label("Name of the new source").fill("Repairs")
    page.get_by_role("button", name="Connect a source").click()
    page.locator("[data-copy='#secret-1']").click()
    secret = page.evaluate("navigator.clipboard.readText()")
    body = json.dumps({"event": "hint.agreed", **order(id="R-1")}).encode()
    signature = "v1:" + hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()

    def send():
        headers = {"X-Harbour-Sign": signature, "content-type": "application/json"}
        return httpx.post(f"{running.url}/in/repairs", content=body, headers=headers).status_code

    page.goto("/sources/repairs/capture")
    expect(page.get_by_text("Nothing has come in yet")).to_be_visible()
    assert send() == 401
    refused = page.locator("#refused")
    expect(refused).to_contain_text("X-Harbour-Sign")
    expect(refused).to_contain_text("It matches this source’s secret.")
    refused.get_by_role("button", name="Use this header").click()
    expect(page.get_by_text("The signature is now read from")).to_be_visible()
    page.goto("/sources/repairs/connect")
    page.locator("[name='event_name.kind']").select_option("path")
    page.locator("[name='event_name.text']").fill("$.event")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved. The next delivery is read this way.")).to_be_visible()
    assert send() == 202
    page.goto("/sources/repairs/connect")
    row = page.locator("tr", has_text="hint.agreed")
    row.get_by_label("Or your own event type for hint.agreed").fill("repair.agreed")
    row.get_by_role("button", name="Map").click()
    expect(page.get_by_text("“hint.agreed” now means repair agreed.")).to_be_visible()
    page.goto("/sources/repairs/capture")
    expect(page.locator("[data-deliveries] summary strong").first).to_have_text("repair agreed")


def test_two_routes_that_tell_the_same_say_truly_which_one_speaks_and_only_that_does(page, running):
    key = source(running, "Doubles")
    assert deliver(running, key, order(id="T-1")) == 202
    said = slip(running, "Doubles slip", "Order {{ order.number }} twice")
    live_route(running, "First voice", key, said)
    route(page, "Second voice", "Doubles", "Doubles slip")
    switch_on(page)
    expect(page.locator("#sentence")).to_contain_text("“First voice” does and the other is skipped")
    page.goto("/routes/first-voice")
    expect(page.locator("#sentence")).to_contain_text("this route does and the other is skipped")
    assert deliver(running, key, order(id="T-2")) == 202
    running.wait_for(lambda: [mail for mail in running.mails() if "Order T-2 twice" in mail["subject"]])
    order_page(page, running, "T-2")
    expect(page.get_by_text("The route “First voice” already tells").first).to_be_visible()
    assert len([mail for mail in running.mails() if "Order T-2 twice" in mail["subject"]]) == 1


def test_an_order_under_way_is_left_out_where_only_new_ones_are_meant(page, running):
    names = {"sale": "order.created", "done": "parcel.delivered"}
    key = source(running, "Newcomers", event_name={"path": "$.happened"}, event_names=names)
    assert deliver(running, key, order(id="N-1", happened="sale")) == 202
    slip(running, "Newcomers slip", "Order {{ order.number }} came")
    route(page, "Newcomers route", "Newcomers", "Newcomers slip", "delivered")
    page.locator(".slot summary", has_text="delivered").click()
    expect(page.get_by_label("only for orders placed since")).to_be_checked()
    page.keyboard.press("Escape")
    switch_on(page)
    assert deliver(running, key, order(id="N-1", happened="done")) == 202
    order_page(page, running, "N-1")
    comes(page, "and it is for orders placed since")


def test_a_language_is_listed_where_its_text_is_written_and_the_others_are_told_when_one_changes(page, running):
    key = source(running, "Tongues")
    italian = {**ORDER["customer"], "language": "it", "country": "IT"}
    assert deliver(running, key, order(id="L-1", customer=italian)) == 202
    live_route(running, "Tongues route", key, slip(running, "Tongues slip", "Order {{ order.number }}"))
    page.goto("/messages/tongues-slip")
    page.get_by_label("Add or take out a language").click()
    page.get_by_label("Another language").fill("it")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("does not list it among its languages, so nobody gets this text.")).to_be_visible()
    page.get_by_label("Subject", exact=True).fill("Ordine {{ order.number }}")
    page.get_by_label("Text: text").fill("Grazie.")
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")
    page.get_by_role("button", name="Add it to the shop’s languages").click()
    expect(page.get_by_text("The shop uses it from now on")).to_be_visible()
    expect(page.get_by_text("does not list it")).to_have_count(0)
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Revision 2 is live.")).to_be_visible()
    assert deliver(running, key, order(id="L-2", customer=italian)) == 202
    mail = running.wait_for(lambda: next((m for m in running.mails() if "L-2" in m["subject"]), None))
    assert mail["subject"] == "Ordine L-2"

    page.goto("/messages/tongues-slip?channel=email&locale=en")
    page.get_by_label("Text: text").fill("Thank you, and good winds.")
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")
    page.goto("/messages/tongues-slip?channel=email&locale=it")
    expect(page.get_by_text("The text in en was changed after this one.")).to_be_visible()
    page.get_by_role("button", name="Mark as up to date").click()
    expect(page.get_by_text("The text in it counts as up to date.")).to_be_visible()
    expect(page.get_by_text("was changed after this one")).to_have_count(0)


def test_who_answers_no_is_not_thanked(page, running):
    slip(running, "Answered slip", "Glad to hear, {{ order.number }}")
    route(page, "Answered route", "Webshop", "Answered slip", "the customer answered")
    page.locator(".slot summary", has_text="always").click()
    page.get_by_role("button", name="Add a condition").click()
    page.locator("[data-mark='g.0-of']").select_option("history.answer")
    page.locator("[data-mark='g.0-op']").select_option("is_not")
    page.locator("[data-mark='g.0-value']").fill("Change something")
    page.keyboard.press("Tab")
    expect(page.locator(".slot summary", has_text="answer is not “Change something”")).to_be_visible()
    switch_on(page)

    page.goto("/standins")
    page.get_by_label("Customer").select_option(label="Aoife Ní Bhriain, Kinsale (en)")
    page.get_by_label("Ash reel").fill("1")
    before = len(httpx.get(f"{running.url}/standins/chat.json").json())
    page.get_by_role("button", name="Place the order").click()
    running.wait_for(lambda: len(httpx.get(f"{running.url}/standins/chat.json").json()) > before or None)
    page.goto("/standins/chat")
    page.get_by_role("button", name="Change something").click()
    expect(page.get_by_text("answered “Change something”")).to_be_visible()
    page.goto("/sends?channel=chat")
    page.locator("#list tbody tr a").first.click()
    expect(page.get_by_role("heading", name="What the customer answered")).to_be_visible()
    expect(page.get_by_text("“Change something”")).to_be_visible()
    page.locator("a[href^='/orders/']").first.click()
    expect(page.get_by_text("the customer answered: “Change something”")).to_be_visible()
    comes(page, "answer is not “Change something” does not hold")
    assert not [mail for mail in running.mails() if mail["subject"].startswith("Glad to hear")]


def test_products_are_ticked_from_those_that_were_sold(page):
    page.goto("/routes/order-received")
    expect(page.locator("#sentence")).to_have_attribute("data-started", "")
    page.locator(".slot summary", has_text="always").click()
    page.get_by_role("button", name="Add a condition").click()
    page.locator("[data-mark='g.0-of']").select_option("order.lines")
    page.locator("[data-mark='g.0-item']").select_option("sku")
    page.locator("[data-mark='g.0-op']").select_option("one_of")
    page.locator(".seen-values summary").click()
    page.locator(".seen-values label", has_text="Heron 1.8 m delta").locator("input").check()
    expect(page.locator("[data-mark='g.0-values']")).to_have_value("HER-180")
    expect(page.locator(".slot summary", has_text="sku is one of HER-180")).to_be_visible()
    page.get_by_role("button", name="Remove the condition").click()
    expect(page.locator(".slot summary", has_text="always")).to_be_visible()
