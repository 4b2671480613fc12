"""The whole outcome in a real browser: from a store nobody here has seen to a mail in a customer's mailbox."""

import pytest
from playwright.sync_api import expect

from angelon.standins.box import Box
from angelon.standins.counter import Counter


@pytest.fixture
def shop_as_before(running):
    """Delivers where it did before, once the test is over."""
    counter = Counter(Box(running.home))
    before = counter.address, counter.secret
    yield
    counter.connect(*before)


@pytest.mark.usefixtures("shop_as_before")
def test_from_a_new_source_to_the_mail_in_the_mailbox(page, running):
    # a source is made, its address and secret copied
    page.goto("/sources")
    page.get_by_label("Name of the new source").fill("Pier shop")
    page.get_by_role("button", name="Connect a source").click()
    page.locator("[data-copy='#address']").click()
    address = page.evaluate("navigator.clipboard.readText()")
    assert address == f"{running.url}/in/pier-shop"
    page.locator("[data-copy='#secret-1']").click()
    secret = page.evaluate("navigator.clipboard.readText()")

    # the stand-in store is told where to deliver
    page.goto("/standins")
    page.locator("summary", has_text="Webhook").click()
    page.get_by_label("Webhook address").fill(address)
    page.get_by_label("Signing secret").fill(secret)
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("The test shop delivers there from now on.")).to_be_visible()

    # capture waits; a test order arrives live
    page.goto("/sources/pier-shop/capture")
    expect(page.get_by_text("Nothing has come in yet")).to_be_visible()
    counter = page.context.new_page()
    counter.goto("/standins")
    counter.get_by_role("button", name="Send a test order").click()
    expect(counter.get_by_text("order.placed delivered")).to_be_visible()
    expect(page.locator(".delivery.fresh")).to_contain_text("order.placed")
    expect(page.locator(".delivery.fresh .body")).to_contain_text("joerg.ahlers@example.org")
    counter.close()  # a page behind another is drawn once a second, and every click would wait for that

    # its name is given a meaning
    page.goto("/sources/pier-shop/connect")
    row = page.locator("tr", has_text="order.placed")
    row.get_by_label("What order.placed means").select_option("order.created")
    row.get_by_role("button", name="Map").click()
    expect(page.get_by_text("“order.placed” now means created.")).to_be_visible()

    # five fields are mapped by clicking, and what Angelon itself needs
    page.goto("/sources/pier-shop/read")
    bench = page.locator("#mapping")

    def choose(mark, path):
        bench.locator(f"[data-open='{mark}']").click()
        expect(bench.locator(".var.open")).to_have_attribute("data-field", mark)
        bench.locator(f'[data-path="{path}"]').click()
        expect(bench.locator(".var.open .steps code").first).to_have_text(path)

    def add_step(name, **given):
        bench.locator(".add-step > summary").click()
        kind = bench.locator(".step-kind", has=page.locator("strong", has_text=name)).filter(
            has=page.get_by_role("button", name=f"Add {name}", exact=True, include_hidden=True)
        )
        kind.locator("summary").click()
        for parameter, value in given.items():
            kind.locator(f"[name='p.{parameter}']").fill(value)
        kind.get_by_role("button", name=f"Add {name}", exact=True).click()
        expect(bench.locator(".var.open .steps code").last).to_contain_text(name)

    choose("reading.language", "$.language")
    choose("recipes.customer_name", "$.buyer.given_name")
    expect(bench.locator(".var.open .var-head .value")).to_have_text("Jörg")
    choose("recipes.order_number", "$.reference")
    choose("recipes.total", "$.amounts.total")
    expect(bench.locator(".var.open .var-head .value")).to_contain_text("135,50")
    choose("recipes.items", "$.lines")
    add_step("each", text="{{ quantity }} × {{ title }}")
    expect(bench.locator(".var.open .var-head .value")).to_have_text("1 × Heron 1.8 m delta und 2 × 50 m braided line")
    choose("recipes.expected_on", "$.placed_at")
    add_step("add_days", days="7")
    add_step("date", format="day")
    for part, path in {
        "reference": "$.id",
        "number": "$.reference",
        "email": "$.buyer.email",
        "name": "$.ship_to.name",
    }.items():
        choose(f"reading.{part}", path)

    # a bad path says so and changes nothing
    bench.locator(".otherwise [name=path]").first.fill("$.buyer[")
    bench.get_by_role("button", name="Add path").click()
    expect(page.locator(".toast.bad-news")).to_contain_text("is not a JSONPath")

    # what was mapped is a draft; undoing takes one edit back, and published it counts
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("changes are not live yet")
    expect(draft.locator("summary")).to_contain_text("What it does to 1 sample")
    draft.get_by_role("button", name="Undo name: $.ship_to.name").click()
    expect(draft.get_by_role("button", name="Undo email: $.buyer.email")).to_be_visible()
    choose("reading.name", "$.ship_to.name")
    draft.get_by_role("button", name="Publish the mapping").click()
    expect(page.get_by_text("Revision 1 of the mapping is live")).to_be_visible()
    expect(draft).to_have_count(0)

    # a mail is written with these variables; the preview follows the typing
    page.goto("/messages")
    page.get_by_label("Name of the new message").fill("Pier thanks")
    page.get_by_role("button", name="Write a message").click()
    preview = page.frame_locator("[data-preview]")
    page.get_by_label("Subject", exact=True).fill("Ahoy {{ customer_name }}, {{ order_number }}")
    expect(page.locator("[data-subject]")).to_contain_text("Ahoy ")
    page.get_by_label("Heading: text").fill("Hello ")
    page.locator("[data-inserts] button", has_text="customer_name").click()
    expect(page.get_by_label("Heading: text")).to_have_text("Hello customer_name")
    page.get_by_label("Text: text").fill("{{ items }} for {{ total }}, with you on {{ expected_on }}")
    expect(preview.locator("body")).to_contain_text("with you on")
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")

    # a broken text is told in a sentence and can't be published; mended, it can
    page.get_by_label("Text: text").click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text("{{ items }} for {{ total")
    page.wait_for_timeout(500)
    page.keyboard.press("Escape")  # closes the list of variables, which opens a moment after the typing
    expect(page.locator("[data-broken]")).to_contain_text("never closed")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Not published")).to_be_visible()
    page.get_by_label("Text: text").fill("{{ items }} for {{ total }}, with you on {{ expected_on }}")
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Revision 1 is live.")).to_be_visible()

    # a route says when it is sent, and is switched on
    page.goto("/routes")
    page.get_by_label("Name of the new route").fill("Pier received")
    page.get_by_role("button", name="Make a route").click()
    for slot, choice in (
        ("choose an event", "created order.created"),
        ("choose a source", "Pier shop"),
        ("choose a message", "Pier thanks"),
    ):
        page.locator(".slot summary", has_text=slot).click()
        page.locator(".slot[open] label", has_text=choice.split(" order.")[0]).first.locator("input").click()
        expect(page.locator(".slot summary", has_text=slot)).to_have_count(0)
    expect(
        page.get_by_role("heading", name="Rehearsal: 1 send would be sent").or_(
            page.get_by_role("heading", name="Rehearsal: nothing would be sent")
        )
    ).to_be_visible()
    page.get_by_role("button", name="Switch on").click()
    expect(page.get_by_text("The route is live. Only events from now on count")).to_be_visible()

    # another order is placed at the counter, and its mail is read in the mailbox
    before = len(running.mails())
    page.goto("/standins")
    page.get_by_label("Customer").select_option(label="Claire Béranger, Dieppe (fr)")
    page.get_by_label("Sandpiper pocket sled").fill("2")
    page.get_by_label("Ash reel").fill("1")
    page.get_by_role("button", name="Place the order").click()
    mail = running.wait_for(lambda: running.mails()[0] if len(running.mails()) > before else None)
    assert mail["to"] == "Claire Béranger <claire@example.org>"
    assert mail["subject"].startswith("Ahoy Claire, BK-")
    words = mail["text"].replace("\u00a0", " ")
    assert "2 × Sandpiper pocket sled and 1 × Ash reel for €86.50, with you on" in words
    page.goto("/standins")
    expect(page.locator(".letter header b")).to_contain_text("Ahoy Claire")
    expect(page.frame_locator(".letter iframe").locator("body")).to_contain_text("Hello Claire")

    # the send, its tries and the mail as sent are in the log
    page.goto("/sends?words=claire")
    page.locator("tr", has_text="Pier thanks").first.get_by_role("link", name="Pier thanks").click()
    expect(page.get_by_role("cell", name="The gateway accepted it")).to_be_visible()
    expect(page.frame_locator(".letter iframe").locator("body")).to_contain_text("2 × Sandpiper pocket sled")
    expect(page.get_by_text("first for BK-")).to_be_visible()
