"""Other ways in, as a person uses them: a stall that is asked, a table of orders, vouchers, a mail."""

import re

from playwright.sync_api import expect


def test_a_stall_that_calls_nobody_is_asked_and_its_customer_hears(page, running):
    page.goto("/standins/stall")
    page.get_by_role("button", name="Sell", exact=True).click()
    told = page.locator(".toast, .flash, [role=status]", has_text="is in the stall’s book").first.text_content()
    number = re.search(r"ST-\d+", told)[0]
    page.goto("/sources/market-stall/fetch")
    expect(page.get_by_text("All pages were read").or_(page.get_by_text("The first request goes out"))).to_be_visible()
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_role("heading", name="What the first request brought")).to_be_visible()
    expect(page.get_by_text("Nothing of it was stored")).to_be_visible()
    page.get_by_role("button", name="Fetch now").click()
    running.wait_for(lambda: running.rows('SELECT id FROM "order" WHERE number = ?', number))
    mail = running.wait_for(
        lambda: [m for m in page.request.get("/standins/mail.json?limit=20").json() if number in m["subject"]]
    )
    assert mail
    page.goto("/sources/market-stall/fetch")
    expect(page.locator("table tr", has_text="stored").first).to_be_visible()


def test_a_table_of_orders_is_previewed_and_imported(page, running):
    page.goto("/sources/market-stall/files")
    rows = "no,state,written,changed,sum,money\nCSV-1,new,2020-01-01,2020-01-01,12.00,EUR\n,new,,,,\n"
    file = {"name": "old orders.csv", "mimeType": "text/csv", "buffer": rows.encode()}
    page.locator("input[type=file]").set_input_files(file)
    page.get_by_role("button", name="Preview").click()
    expect(page.locator("tr", has_text="CSV-1")).to_contain_text("new")
    expect(page.get_by_text("It has no order reference or number")).to_be_visible()
    page.get_by_label("send no messages").check()
    page.get_by_role("button", name="Import the orders").click()
    expect(page.get_by_role("heading", name="imported", exact=True)).to_be_visible()
    expect(page.get_by_role("link", name="Download them to correct")).to_be_visible()
    with page.expect_download() as loaded:
        page.get_by_role("link", name="Download with the results").click()
    assert "CSV-1,new" in loaded.value.path().read_text()
    assert running.rows("SELECT status FROM \"order\" WHERE number = 'CSV-1'")[0][0] == "new"


def test_a_voucher_is_given_out_once_to_a_customer(page, running):
    page.goto("/tables")
    page.get_by_label("Name").fill("Vouchers")
    codes = {"name": "codes.csv", "mimeType": "text/csv", "buffer": b"Code\nKITE-77\nKITE-78\n"}
    page.locator("input[type=file]").set_input_files(codes)
    page.get_by_label("each row is given out once").check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Vouchers")).to_be_visible()

    page.goto("/messages")
    page.get_by_label("Name of the new message").fill("A voucher")
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile("/messages/a-voucher"))
    texts = page.locator(".cm-content")
    expect(texts.first).to_be_visible()  # the page is alive
    page.locator("[data-gives]").select_option("vouchers")
    for place, said in ((0, "Your voucher {{ given.code }}"), (2, "A gift from the workshop")):
        texts.nth(place).click()
        page.keyboard.insert_text(said)
    running.wait_for(
        lambda: [one for (one,) in running.rows("SELECT draft FROM message WHERE key = 'a-voucher'") if "gift" in one]
    )
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Not live yet")).to_have_count(0)
    running.wait_for(lambda: running.rows("SELECT id FROM message WHERE key = 'a-voucher' AND live_id IS NOT NULL"))

    page.goto("/orders?words=BK-22")
    page.locator("input[name=order]").nth(1).check()
    page.get_by_role("button", name="Send to those ticked").click()
    page.get_by_label("What").select_option(label="A voucher, by email")
    page.get_by_role("button", name="Show what would be sent").click()
    expect(page.get_by_text("Your voucher (code)")).to_be_visible()
    page.get_by_role("button", name="Send 1 message").click()
    expect(page.get_by_text("1 of 1 send settled")).to_be_visible()
    mails = page.request.get("/standins/mail.json?limit=5").json()
    assert any("Your voucher KITE-77" in mail["subject"] for mail in mails)
    page.goto("/tables/vouchers")
    expect(page.locator("tr", has_text="KITE-77")).to_be_visible()


def test_a_refund_that_only_a_mail_reports_becomes_an_event_of_its_order(page, running):
    number = running.rows("SELECT number FROM \"order\" WHERE number LIKE 'BK-%' ORDER BY id DESC LIMIT 1")[0][0]
    page.goto("/standins/stall")
    page.get_by_label("Order", exact=True).fill(number)
    page.get_by_role("button", name="Write that it is refunded").click()
    expect(page.get_by_text("It was taken.")).to_be_visible()
    running.wait_for(
        lambda: running.rows(
            'SELECT e.id FROM event e JOIN "order" o ON o.id = e.order_id JOIN source s ON s.id = e.source_id'
            " WHERE o.number = ? AND s.key = 'payment-office'",
            number,
        )
    )
    page.goto("/sources/payment-office/mail")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text('"order": "BK-2050"')).to_be_visible()
