"""The morning: what failed in the night is mended by one action; a wrong address is corrected where it is seen."""

import re

from playwright.sync_api import expect

REASON = "554 5.7.1 <{to}>: relay access denied"


def fail(running, number):
    """As if a mail server had refused so many mails."""
    newest = "SELECT id FROM send WHERE state = 'sent' AND channel = 'email' AND NOT test ORDER BY id DESC LIMIT ?"
    ids = [id_ for (id_,) in running.rows(newest, number)]
    marks = ", ".join("?" * len(ids))
    failed = f"UPDATE send SET state = 'failed', reason = replace(?, '{{to}}', recipient) WHERE id IN ({marks})"
    running.change(failed, REASON, *ids)
    return ids


def states(running, ids):
    marks = ", ".join("?" * len(ids))
    return {state for (state,) in running.rows(f"SELECT state FROM send WHERE id IN ({marks})", *ids)}


def test_twenty_failed_sends_are_mended_by_one_action(page, running):
    ids = fail(running, 20)
    page.goto("/sends")
    causes = page.get_by_role("region", name="What needs attention")
    causes.get_by_role("link", name="20 × 554 5.7.1 <…>: relay access denied").click()
    expect(page.locator("#list tbody tr")).to_have_count(20)
    bulk = page.locator("#bulk")
    expect(bulk).to_be_hidden()
    page.get_by_label("Tick all shown").check()
    expect(bulk).to_contain_text("20 ticked")
    bulk.get_by_role("button", name="Send again").click()
    expect(page.locator(".toast")).to_contain_text("20 sends are on the way again.")
    running.wait_for(lambda: states(running, ids) <= {"sent", "delivered", "read"}, 40)
    page.goto("/sends")
    expect(page.get_by_text("relay access denied")).to_have_count(0)


def test_a_wrong_address_is_corrected_on_the_send_s_page(page, running):
    (failed,) = fail(running, 1)
    page.goto(f"/sends/{failed}")
    page.get_by_text("Correct the address").click()
    page.get_by_label("goes to").fill("nobody at all")
    page.get_by_role("button", name="Correct it").click()
    expect(page.get_by_text("is no email address")).to_be_visible()
    expect(page.get_by_label("goes to")).to_have_value("nobody at all")
    page.get_by_label("goes to").fill("moved.house@example.org")
    page.get_by_role("button", name="Correct it").click()
    expect(page.get_by_text(re.compile("ha(s|ve) the address moved.house@example.org now"))).to_be_visible()
    running.wait_for(lambda: states(running, [failed]) <= {"sent", "delivered", "read"})


def test_ticks_stay_while_the_list_comes_anew(page, running):
    page.goto("/sends")
    first = page.locator("input[name=send]").first
    chosen = first.get_attribute("value")
    first.check()
    page.locator("h1").click()  # away from the list, which is fetched again now and then
    page.evaluate("document.activeElement.blur()")
    page.wait_for_timeout(3500)
    expect(page.locator(f"input[name=send][value='{chosen}']")).to_be_checked()
    expect(page.locator("#bulk")).to_contain_text("1 ticked")


# ---- the three questions of the morning: what is broken, what did this customer get, why did that one get nothing


def test_what_is_broken_is_told_by_its_cause_on_the_first_page(page, running):
    fail(running, 6)
    page.goto("/")
    row = page.get_by_role("row", name=re.compile(r"relay access denied"))
    expect(row).to_contain_text(re.compile(r"Failed: \d+ sends"))
    row.get_by_role("link", name="See them").click()
    expect(page.locator("#list tbody tr").first).to_contain_text("relay access denied")


def test_what_a_customer_got_is_found_by_the_box_without_the_mouse(page, running):
    page.goto("/gateways")
    page.keyboard.press("/")
    page.keyboard.type("aoife")
    answers = page.locator("#find-answers")
    expect(answers.get_by_role("heading", name="People")).to_be_visible()
    person = answers.locator("section", has=page.get_by_role("heading", name="People")).get_by_role("link").first
    for _ in range(12):
        page.keyboard.press("ArrowDown")
        if person.evaluate("link => link === document.activeElement"):
            break
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/people/\d+$"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("Aoife")
    expect(page.get_by_role("heading", name="Sends")).to_be_visible()
    expect(page.locator("main").get_by_text("Order received").first).to_be_visible()


def test_why_a_customer_got_nothing_stands_on_the_order_route_by_route(page, running):
    held = "SELECT o.number FROM send s JOIN \"order\" o ON o.id = s.order_id WHERE s.state = 'held' ORDER BY s.id"
    number = running.rows(held)[0][0]
    page.goto("/")
    page.get_by_label("Search orders, people, sends and messages").fill(number)
    page.keyboard.press("Enter")  # the page, as without a script
    page.locator("main").get_by_role("link", name=re.compile(f"^{number} ")).first.click()
    routes = page.locator("section", has=page.get_by_role("heading", name="Every route and its reason"))
    expect(routes.get_by_role("row", name=re.compile("^Order received held")).first).to_contain_text(
        "The order has no usable email"
    )
    expect(routes.get_by_role("row").first).to_be_visible()


def test_the_oldest_send_is_reached_by_the_keyboard(page, running):
    page.goto("/sends?span=all&channel=email")
    ((number,),) = running.rows("SELECT count(*) FROM send WHERE channel = 'email'")
    ((oldest,),) = running.rows("SELECT id FROM send WHERE channel = 'email' ORDER BY created_at, id LIMIT 1")
    for _ in range(number // 50 + 2):
        further = page.get_by_role("link", name="Older sends")
        if not further.count():
            break
        further.focus()
        with page.expect_navigation():
            page.keyboard.press("Enter")
    expect(page.locator(f"a[href='/sends/{oldest}']").first).to_be_visible()


def test_the_list_is_live_and_does_not_move_under_who_reads_further_down(page, running):
    page.goto("/sends?span=all")
    first = page.locator("#list tbody tr").first
    expect(page.locator("#list")).to_have_attribute("data-started", "")

    def renamed(name):
        newest = "(SELECT id FROM send ORDER BY created_at DESC, id DESC LIMIT 1)"
        running.change(f"UPDATE send SET recipient_name = ? WHERE id = {newest}", name)

    page.wait_for_timeout(1500)  # the stream has begun
    renamed("Newly Named")
    expect(first).to_contain_text("Newly Named")
    page.mouse.wheel(0, 900)
    page.wait_for_function("scrollY > 300")
    renamed("Named Again")
    button = page.get_by_role("button", name="There is something newer: show it")
    expect(button).to_be_visible()
    expect(first).to_contain_text("Newly Named")
    button.click()
    expect(first).to_contain_text("Named Again")
    expect(button).to_be_hidden()


def test_what_is_ticked_in_a_list_that_changes_stays_ticked(page, running):
    page.goto("/orders")
    expect(page.locator("#list")).to_have_attribute("data-started", "")
    row = page.locator("#list tbody tr").first
    row.get_by_role("checkbox").check()
    page.locator("h1").click()
    page.wait_for_timeout(1500)  # the stream has begun
    newest = '(SELECT id FROM "order" ORDER BY last_event_at DESC, id DESC LIMIT 1)'
    running.change(f"UPDATE \"order\" SET total = '77.77 changed' WHERE id = {newest}")
    button = page.get_by_role("button", name="There is something newer: show it")
    expect(button).to_be_visible(timeout=15000)
    expect(row.get_by_role("checkbox")).to_be_checked()
    button.click()
    expect(row).to_contain_text("77.77 changed")
