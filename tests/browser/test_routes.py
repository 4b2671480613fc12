"""Routes in a real browser: made by keyboard alone, rehearsed, changed knowing what that does, and asked why."""

from playwright.sync_api import expect


def ready(page, address):
    page.goto(address)
    expect(page.locator("[data-behaviour]").first).to_have_attribute("data-started", "")


def focus_row(page, word):
    """Goes down the sentence by `j` to a part, and opens it."""
    for _ in range(14):
        page.keyboard.press("j")
        if page.evaluate("document.activeElement.closest('.part')?.querySelector('.word')?.textContent") == word:
            page.keyboard.press("Enter")
            expect(page.locator(".slot[open]")).to_have_count(1)
            return
    raise AssertionError(f"no part “{word}”")


def tab_to(page, label):
    """Tabs on until what is called so has the focus."""
    for _ in range(90):
        page.keyboard.press("Tab")
        named = page.evaluate(
            "(() => { const a = document.activeElement; return a.getAttribute('aria-label') || "
            "a.closest('label')?.textContent.trim() || a.textContent.trim(); })()"
        )
        if named and named.startswith(label):
            return
    raise AssertionError(f"nothing called “{label}”")


def pick(page, mark, words):
    """Types the words of an option; again where the machine was so slow that the list took them for several."""
    chosen = page.locator(f"[data-mark='{mark}']")
    for _ in range(3):
        chosen.focus()
        page.keyboard.type(words)
        if chosen.evaluate("(list) => list.selectedOptions[0].textContent") == words:
            return
        page.wait_for_timeout(1200)
    raise AssertionError(f"“{words}” could not be chosen by its words")


def test_a_route_with_a_condition_and_a_delay_is_made_by_keyboard_alone_and_switched_on(page):
    page.goto("/routes")
    page.locator("#name").focus()
    page.keyboard.type("Thanks for a big one")
    page.keyboard.press("Enter")
    page.wait_for_url("**/routes/thanks-for-a-big-one")
    expect(page.locator("#sentence")).to_have_attribute("data-started", "")
    summaries = page.locator(".slot > summary")

    focus_row(page, "When")
    tab_to(page, "created")
    page.keyboard.press("Space")
    expect(summaries.nth(0)).to_have_text("created")
    page.keyboard.press("Escape")
    focus_row(page, "From")
    tab_to(page, "Webshop")
    page.keyboard.press("Space")
    expect(summaries.nth(1)).to_have_text("Webshop")
    page.keyboard.press("Escape")

    focus_row(page, "If")
    tab_to(page, "Add a condition")
    page.keyboard.press("Enter")
    expect(page.locator(".compare")).to_have_count(1)
    pick(page, "g.0-of", "total")
    expect(summaries.nth(2)).to_contain_text("total is")
    pick(page, "g.0-op", "is at least")
    expect(summaries.nth(2)).to_contain_text("total is at least")
    page.locator("[data-mark='g.0-value']").focus()
    page.keyboard.type("1")
    page.keyboard.press("Tab")
    expect(summaries.nth(2)).to_have_text("total is at least 1")
    expect(page.locator(".compare .state.good")).to_have_count(1)
    page.keyboard.press("Escape")

    focus_row(page, "Send")
    page.locator(".slot[open] [name=send][value=delivered-thanks]").focus()  # the arrows go from one to the next
    page.keyboard.press("Space")
    expect(summaries.nth(3)).to_have_text("Delivered, thank you")
    page.keyboard.press("Escape")
    focus_row(page, "Timing")
    tab_to(page, "How long")
    page.keyboard.type("45")
    page.keyboard.press("Tab")
    expect(page.locator("summary", has_text="minutes after the event")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("heading", name="Rehearsal: 1 send would be sent")).to_be_visible()
    expect(page.locator(".axis")).to_be_visible()
    page.keyboard.press("Control+Enter")
    expect(page.get_by_text("The route is live. Only events from now on count")).to_be_visible()
    page.get_by_role("button", name="Switch off").click()


def test_what_is_being_written_stays_while_an_earlier_choice_is_kept(page):
    page.goto("/routes")
    page.locator("#name").fill("Written over")
    page.keyboard.press("Enter")
    page.wait_for_url("**/routes/written-over")
    expect(page.locator("#sentence")).to_have_attribute("data-started", "")
    held = []
    page.route("**/routes/written-over", lambda route: held.append(route))
    page.locator(".slot > summary").nth(4).click()
    page.get_by_label("the owner").check()
    page.wait_for_timeout(200)
    page.get_by_label("Fixed addresses, one a line: name, address").click()
    page.keyboard.type("Loft, loft@kites.example")
    held[0].continue_()
    page.wait_for_timeout(600)
    expect(page.get_by_label("Fixed addresses, one a line: name, address")).to_have_value("Loft, loft@kites.example")
    page.keyboard.press("Tab")
    page.wait_for_timeout(200)
    held[1].continue_()
    expect(page.locator(".slot > summary").nth(4)).to_have_text("the customer, the owner and Loft")
    page.unroute("**/routes/written-over")
    page.reload()
    expect(page.locator(".slot > summary").nth(4)).to_have_text("the customer, the owner and Loft")


def test_a_change_is_seen_on_past_orders_before_it_is_live_and_a_check_stops_it(page):
    ready(page, "/routes/order-cancelled")
    page.get_by_role("button", name="Save as a check").click()
    expect(page.get_by_text("The result is as expected.")).to_be_visible()
    ready(page, "/routes/order-cancelled")
    page.locator("summary", has_text="at once").click()
    page.get_by_label("How long").fill("90")
    page.keyboard.press("Tab")
    expect(page.locator("summary", has_text="90 minutes after the event")).to_be_visible()
    page.get_by_role("link", name="What this change does").click()
    expect(page.locator(".tallies")).to_contain_text("± changed")
    expect(page.get_by_role("heading", name="What differs")).to_be_visible()
    expect(page.locator("tr[data-row]").first).to_contain_text("± time")
    page.goto("/routes/order-cancelled")
    page.get_by_role("button", name="Make the draft live").click()
    expect(page.get_by_role("heading", name="Not live yet")).to_be_visible()
    expect(page.locator(".differs")).to_contain_text("due 1 hour 30 minutes after the event")
    page.get_by_role("link", name="Back to fix it").click()
    page.get_by_role("button", name="Discard the draft").click()
    expect(page.locator("summary", has_text="at once")).to_be_visible()


def test_why_a_customer_heard_nothing_is_on_the_order_s_page(page):
    page.goto("/orders?words=BK-22")  # the web shop's: another source's order may be the newest, by the hour of the day
    page.locator("tr[data-row] a").first.click()
    table = page.locator("section", has=page.get_by_role("heading", name="Every route and its reason"))
    expect(table.locator("tr[data-row]").first).to_be_visible()
    table.locator("summary", has_text="off").click()  # many routes: those that are off are folded
    expect(table.locator("details").get_by_role("link", name="Packed", exact=True)).to_be_visible()
    collect = table.locator("tr", has=page.get_by_role("link", name="Ready to collect"))
    expect(collect).to_contain_text("It does not listen to")


def test_a_route_is_run_by_hand_on_ticked_orders(page, running):
    page.goto("/orders?words=BK-22")
    boxes = page.locator("input[name=order]")
    boxes.nth(0).check()
    boxes.nth(1).check()
    page.get_by_role("button", name="Send to those ticked").click()
    page.get_by_label("What").select_option("order-received")
    page.get_by_role("button", name="Show what would be sent").click()
    expect(page.get_by_text("0 messages would go out for 2 orders. Nothing has been sent yet.")).to_be_visible()
    page.locator("input[name=again]").first.check()
    page.get_by_role("button", name="Preview again").click()
    expect(page.locator(".letter")).to_be_visible()
    page.get_by_role("button", name="Send 1 message").click()
    expect(page.get_by_text("1 of 1 send settled")).to_be_visible()
    expect(page.locator("tr", has_text="sent").first).to_be_visible()


def test_a_message_is_sent_for_an_order_without_a_route(page, running):
    page.goto("/orders?words=BK-22")
    page.locator("input[name=order]").nth(2).check()
    page.get_by_role("button", name="Send to those ticked").click()
    page.get_by_label("What").select_option(label="Order received, by email")
    page.get_by_role("button", name="Show what would be sent").click()
    expect(page.get_by_text("1 message would go out for 1 order. Nothing has been sent yet.")).to_be_visible()
    page.get_by_label("customer name").fill("Robin of the pier")
    page.get_by_label("Copy to").fill("tomas@brackwater.example")
    page.get_by_role("button", name="Preview with these").click()
    expect(page.frame_locator(".letter iframe").get_by_text("Robin of the pier").first).to_be_visible()
    page.get_by_role("button", name="Send 1 message").click()
    expect(page.get_by_text("1 of 1 send settled")).to_be_visible()
    mails = page.request.get("/standins/mail.json?limit=5").json()
    assert any("Robin of the pier" in mail["subject"] for mail in mails)


def test_a_segment_shows_at_once_whom_it_takes_in(page):
    ready(page, "/segments/regulars")
    page.locator("[data-mark='g.0-value']").fill("1")
    page.keyboard.press("Tab")
    expect(page.get_by_text("its customer is in it")).to_be_visible()
    page.locator("[data-mark='g.0-value']").fill("9999")
    page.keyboard.press("Tab")
    expect(page.get_by_text("its customer is not in it")).to_be_visible()
    page.locator("[data-mark='g.0-value']").fill("2")
    page.keyboard.press("Tab")
    expect(page.locator("h1 + p")).to_contain_text("at least 2")
