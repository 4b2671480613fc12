"""Messages written, broken, mended, seen and sent, as a person does it."""

import re

import httpx
import pytest
from playwright.sync_api import expect


@pytest.fixture
def written(page):
    """A message of its own for each test, from a starting point, in English and German."""
    count = iter(range(100))

    def make(name, starter="order-received"):
        page.goto("/messages")
        form = page.locator("form", has=page.get_by_label("Text to start from"))
        form.get_by_label("Text to start from").select_option(starter)
        form.get_by_label("Another name").fill(name)
        form.get_by_role("button", name="Use this text").click()
        expect(page.get_by_role("heading", name=name)).to_be_visible()
        next(count)

    return make


def saved(page):
    expect(page.locator("[data-saved]")).to_have_text("draft saved just now")


def source_of(page, place):
    """What a field holds, as it is stored."""
    return page.locator(f"[data-place='{place}'] .cm-content").evaluate(
        "(e) => e.cmTile ? e.cmTile.view.state.doc.toString() : e.cmView.view.state.doc.toString()"
    )


def test_a_chip_can_not_be_broken_by_typing_and_deleting(page, written):
    written("Unbreakable")
    heading = page.get_by_label("Heading: text")
    heading.click()
    page.keyboard.press("Control+A")
    page.keyboard.type("Hi ")
    page.locator("[data-inserts] button", has_text="customer_name").click()
    page.keyboard.type(" there")
    assert source_of(page, "blocks.0.text") == "Hi {{ customer_name }} there"
    # the caret steps over it in one, and what is typed stands beside it
    page.keyboard.press("Home")
    for _ in range(4):
        page.keyboard.press("ArrowRight")
    page.keyboard.type("!")
    assert source_of(page, "blocks.0.text") == "Hi {{ customer_name }}! there"
    # one backspace takes all of it, undo brings all of it back
    page.keyboard.press("Backspace")
    page.keyboard.press("Backspace")
    assert source_of(page, "blocks.0.text") == "Hi  there"
    page.keyboard.press("Control+Z")
    assert source_of(page, "blocks.0.text").startswith("Hi {{ customer_name }}")
    # a selection that begins in the middle of a word and ends behind the chip takes it whole
    page.keyboard.press("Home")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Delete")
    assert "{{" not in source_of(page, "blocks.0.text")
    # even a change made from outside the keyboard can't split it
    page.keyboard.press("Control+A")
    page.keyboard.type("A ")
    page.locator("[data-inserts] button", has_text="order_number").click()
    split = page.locator("[data-place='blocks.0.text'] .cm-content").evaluate(
        "(e) => { const v = (e.cmTile ?? e.cmView).view; v.dispatch({changes: {from: 6, insert: 'x'}, userEvent: "
        "'input.type'}); return v.state.doc.toString() }"
    )
    assert split == "A {{ order_number }}x"
    saved(page)


def test_conditions_close_themselves_and_go_as_a_pair(page, written):
    written("Paired")
    text = page.get_by_label("Text: text").first
    text.click()
    page.keyboard.press("Control+A")
    page.keyboard.type("card {{if gift")
    expect(page.locator(".cm-tooltip-autocomplete")).to_be_visible()
    page.locator(".cm-tooltip-autocomplete li", has_text="if gift_note").click()
    expect(page.locator(".cm-tooltip-autocomplete")).to_be_hidden()
    expect(text).to_contain_text("if gift_note is there")  # both of the pair stand before more is typed
    page.keyboard.type("inside")
    assert source_of(page, "blocks.1.text") == "card {% if gift_note %}inside{% endif %}"
    expect(text).to_contain_text("if gift_note is there")
    expect(page.locator("[data-place='blocks.1.text'] .chip.unknown")).to_have_count(0)
    page.keyboard.press("End")
    page.keyboard.press("Backspace")
    assert source_of(page, "blocks.1.text") == "card inside"
    page.keyboard.press("Control+Z")
    assert source_of(page, "blocks.1.text") == "card {% if gift_note %}inside{% endif %}"
    saved(page)


def test_an_unknown_variable_is_marked_in_place_and_stops_publishing(page, written):
    written("Marked")
    page.get_by_label("Heading: text").fill("Hello {{ custmer_name }}")
    saved(page)
    expect(page.locator("[data-place='blocks.0.text'] .chip.unknown")).to_have_text("custmer_name")
    line = page.locator("[data-checks] .note-line", has_text="custmer_name")
    expect(line).to_contain_text("Did you mean customer_name?")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_role("alert").filter(has_text="Not published")).to_contain_text("custmer_name")
    # its link takes the caret to the field; mended there, it can be published, apart from the chat text that is not
    # approved
    page.locator("[data-checks] .note-line", has_text="custmer_name").get_by_role("link", name="Go there").click()
    expect(page.get_by_label("Heading: text")).to_be_focused()
    page.keyboard.press("Control+A")
    page.keyboard.type("Hello friend")
    saved(page)
    expect(page.locator("[data-checks]")).not_to_contain_text("custmer_name")


def test_publishing_is_blocked_until_each_chat_text_is_approved(page, running, written):
    written("Approved first")
    for locale in ("en", "de", "fr"):
        line = page.locator("[data-checks] .note-line", has_text=f"Chat, {locale}")
        expect(line).to_contain_text("Stops publishing")
        line.get_by_role("link", name="Go there").click()
        expect(page.get_by_role("button", name="Submit for review")).to_be_visible()
        page.get_by_role("button", name="Submit for review").click()
        expect(page.get_by_text("It is approved: it can be published.")).to_be_visible()
    expect(page.locator("[data-checks]")).not_to_contain_text("Stops publishing")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Revision 1 is live. No live route sends it yet, so nobody gets it.")).to_be_visible()
    # a change of the text needs a new approval; what is live stays
    page.goto("/messages/approved-first?channel=chat&locale=en")
    page.get_by_label("Body", exact=True).click()
    page.keyboard.press("Control+Home")
    page.keyboard.type("Well! ")
    saved(page)
    expect(page.locator("[data-checks] .note-line", has_text="Chat, en")).to_contain_text("not approved")


def test_a_rejected_chat_text_says_why(page, running, written):
    written("Rejected", "please-confirm")
    page.goto("/messages/rejected?channel=chat&locale=en")
    page.get_by_label("Body", exact=True).fill(
        "Deine Bestellung ist da und wir nähen die Bestellung für dich mit Liebe, {{ customer_name }}, bis dann"
    )
    saved(page)
    expect(page.locator("[data-samples] .chip")).to_have_text(["customer_name"])
    page.get_by_role("button", name="Submit for review").click()
    expect(page.get_by_role("alert").filter(has_text="It is rejected")).to_contain_text("It reads as German")
    expect(page.locator("[data-review]")).to_contain_text("Rejected")


def test_the_language_is_switched_and_the_preview_follows_the_typing(page, written):
    written("Followed")
    page.locator(".languages").get_by_role("link", name="fr", exact=True).click()
    expect(page.get_by_label("Subject", exact=True)).to_contain_text("Ta commande")
    preview = page.frame_locator("[data-preview]")
    expect(preview.locator("body")).to_contain_text("Merci,")
    page.get_by_label("Heading: text").fill("Bonjour du quai")
    expect(preview.locator("body")).to_contain_text("Bonjour du quai")
    page.get_by_role("button", name="Plain text", exact=True).click()
    expect(page.locator("[data-plain]")).to_contain_text("Bonjour du quai")
    page.get_by_role("button", name="Dark").click()
    expect(preview.locator(".ink").first).to_be_visible()
    colour = preview.locator(".ink div").first.evaluate("(e) => getComputedStyle(e).color")
    assert colour == "rgb(233, 230, 221)"
    # another language is added, and starts from what its readers would have got
    page.locator(".languages summary").click()
    page.get_by_label("Another language").fill("fr-CA")
    page.locator(".languages .drop").get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("fr-CA starts from the text in fr: translate it.")).to_be_visible()
    expect(page.get_by_label("Heading: text")).to_contain_text("Bonjour du quai")
    # nonsense is told, and nothing is lost
    page.locator(".languages summary").click()
    page.get_by_label("Another language").fill("franglais!")
    page.locator(".languages .drop").get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("“franglais!” is no language")


def test_nothing_is_lost_when_the_page_is_left_at_once(page, written):
    written("Left")
    page.get_by_label("Heading: text").fill("Written and gone")
    page.goto("/messages")
    for _ in range(10):  # what the page sent as it went may still be on its way
        page.goto("/messages/left")
        if page.get_by_label("Heading: text").inner_text() == "Written and gone":
            break
        page.wait_for_timeout(300)
    expect(page.get_by_label("Heading: text")).to_have_text("Written and gone")


def test_a_failed_save_is_loud_and_tried_again(page, written):
    written("Loud")
    page.route("**/draft", lambda route: route.abort())
    page.get_by_label("Heading: text").fill("Still here")
    expect(page.locator(".loud")).to_contain_text("Not saved.")
    expect(page.locator(".loud")).to_contain_text("still on this page")
    page.unroute("**/draft")
    page.locator(".loud").get_by_role("button", name="Try again").click()
    saved(page)
    expect(page.locator(".loud")).to_have_count(0)
    page.reload()
    expect(page.get_by_label("Heading: text")).to_have_text("Still here")


def test_two_windows_can_not_overwrite_each_other_unnoticed(page, written):
    written("Twice")
    other = page.context.new_page()
    other.goto(page.url)
    other.get_by_label("Heading: text").fill("Theirs")
    saved(other)
    page.get_by_label("Heading: text").fill("Mine")
    expect(page.locator(".loud")).to_contain_text("changed in another window")
    page.locator(".loud").get_by_role("button", name="Keep mine").click()
    saved(page)
    other.reload()
    expect(other.get_by_label("Heading: text")).to_have_text("Mine")


def test_an_sms_shows_its_segments_and_what_makes_it_dear(page, written):
    written("Counted")
    page.goto("/messages/counted?channel=sms&locale=en")
    text = page.get_by_label("SMS text")
    text.fill("a" * 160)
    expect(page.locator("[data-meter]")).to_contain_text("1 segment in GSM-7, 0 left, 0.052 EUR")
    text.fill("a" * 161)
    expect(page.locator("[data-meter]")).to_contain_text("2 segments in GSM-7, 145 left, 0.104 EUR")
    text.fill("It’s here")
    expect(page.locator("[data-meter]")).to_contain_text("UCS-2 because of “’”")
    page.get_by_role("button", name="Write “'” instead").click()
    expect(page.locator("[data-meter]")).to_contain_text("GSM-7")
    assert source_of(page, "text") == "It's here"
    text.fill("b" * 500)
    expect(
        page.locator("[data-checks] .note-line").filter(has_text="SMS, en").filter(has_text="segments")
    ).to_contain_text("takes 4 segments")
    text.fill("{{ customer_name }}, hello")
    expect(page.locator(".spread")).to_contain_text("longest")
    expect(page.locator(".handset .said")).to_contain_text(", hello")


def test_blocks_are_added_moved_removed_and_brought_back(page, written):
    written("Built")
    preview = page.frame_locator("[data-preview]")
    page.locator("[data-add='columns']").click()
    page.get_by_label("Add to the left column").select_option("heading")
    page.locator(".sides").get_by_label("Heading: text").fill("On the left")
    page.get_by_label("Add to the right column").select_option("text")
    page.locator(".sides").get_by_label("Text: text").fill("**strong** right")
    expect(preview.locator("body")).to_contain_text("On the left")
    expect(preview.locator("strong", has_text="strong")).to_be_visible()
    page.locator("[data-add='button']").click()
    page.get_by_label("Button: text").fill("Go")
    page.get_by_label("Button: url").fill("shop.example/x")
    expect(page.locator("[data-checks]")).to_contain_text("no web address")
    page.get_by_label("Button: url").fill("https://elsewhere.example/x")
    expect(page.locator("[data-checks]")).to_contain_text("The link goes to elsewhere.example")
    page.get_by_label("Button: url").fill("https://shop.brackwater.example/x")
    expect(page.locator("[data-checks]")).not_to_contain_text("elsewhere.example")
    page.locator("[data-add='image']").click()
    page.get_by_label("Picture: src").fill("https://pictures.invalid/a.png")
    drawn = preview.locator("img[src^='/mail-picture']")
    expect(drawn).to_have_js_property("naturalWidth", 480)  # it can't be had here, and the drawing says so
    page.get_by_label("Picture from the library").select_option("library:letterhead/brackwater-kites.png")
    expect(page.locator("[data-checks] .note-line", has_text="no words for those who can’t see it")).to_be_visible()
    page.get_by_label("Remove Picture").focus()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Put it back").click()
    expect(page.get_by_label("Picture from the library")).to_be_visible()
    page.get_by_label("Move Heading down").first.focus()
    page.keyboard.press("Enter")
    saved(page)
    page.reload()
    expect(page.locator("[data-blocks] > .piece").nth(0)).to_have_class(re.compile("of-text"))


def test_saved_is_said_only_when_nothing_is_left_to_keep(page, written):
    written("Overtaken")
    held = []
    page.route("**/draft", lambda route: held.append(route))
    page.get_by_label("Subject").click()
    page.keyboard.type("One ")
    expect(page.locator("[data-saved]")).to_have_text("writing…")
    page.wait_for_timeout(400)  # longer than the rest after which it is sent
    assert len(held) == 1
    page.keyboard.type("two ")
    held[0].continue_()
    page.wait_for_timeout(400)
    expect(page.locator("[data-saved]")).to_have_text("writing…")
    assert len(held) == 2
    held[1].continue_()
    saved(page)
    # and whoever leaves with a save under way finds what was written last
    page.keyboard.type("three ")
    page.wait_for_timeout(400)
    page.keyboard.type("four ")
    held[2].continue_()
    page.unroute("**/draft")
    page.goto("/messages")
    page.go_back()
    expect(page.get_by_label("Subject")).to_contain_text("One two three four")


def test_a_page_of_one_s_own_is_cleaned_on_import(page, written, tmp_path):
    written("Own page")
    file = tmp_path / "mail.html"
    file.write_text(
        "<!doctype html><html><head><style>p { color: #0e5a55 }</style></head><body "
        "onload='x()'><script>alert(1)</script><p>Hello {{ customer_name }}</p></body></html>"
    )
    with page.expect_file_chooser() as chosen:
        page.get_by_role("button", name="Use a page of your own").click()
    chosen.value.set_files(file)
    expect(page.locator(".toast")).to_contain_text("Removed from it: “onload”, which runs a script, a script")
    saved(page)
    expect(page.frame_locator("[data-preview]").locator("p")).to_contain_text("Hello")
    assert "script" not in source_of(page, "html")
    page.get_by_role("button", name="Back to blocks").click()
    expect(page.get_by_label("Heading: text")).to_be_visible()


def test_a_test_goes_through_the_real_gateway_and_says_how_it_went(page, running, written):
    page.goto("/sources/webshop/read")  # an event that has all the values, whatever came in meanwhile
    sample = page.locator("[data-sample-id]").get_attribute("data-sample-id")
    written("Tried")
    page.goto(f"/messages/tried?sample={sample}")
    page.get_by_label("Heading: text").fill("Only a draft")
    page.get_by_label("Somebody of the team").select_option(label="Nuala at the workshop")
    page.get_by_role("button", name="Send a test").click()
    expect(page.locator("[data-tried]")).to_contain_text("The gateway accepted it.")
    mail = running.wait_for(lambda: running.mails("nuala@brackwater.example"))[0]
    assert "Only a draft" in mail["text"]
    assert mail["headers"]["X-Test"] == "yes"
    page.locator("[data-tried]").get_by_role("link", name="Open it").click()
    expect(page.locator(".tag", has_text="test")).to_be_visible()
    page.goto(f"/messages/tried?channel=email&sample={sample}")
    page.get_by_label("Address", exact=True).fill("nobody at all")
    page.get_by_role("button", name="Send a test").click()
    expect(page.locator("[data-tried]")).to_contain_text("is no email address")


def test_a_letterhead_is_tried_on_any_message_from_its_page(page, running):
    page.goto("/letterhead")
    page.get_by_label("Message", exact=True).select_option(label="Order received")
    page.get_by_label("Address", exact=True).fill("Nobody at all")
    page.get_by_role("button", name="Send a test").click()
    expect(page.locator("[data-tried]")).to_contain_text("is no email address")
    page.get_by_label("Address", exact=True).fill("printer@brackwater.example")
    page.get_by_label("Footer").fill("Not saved yet")
    page.get_by_role("button", name="Send a test").click()
    expect(page.locator("[data-tried]")).to_contain_text("Not sent: save the letterhead first.")
    expect(page.get_by_label("Footer")).to_have_value("Not saved yet")
    page.reload()
    page.get_by_label("Message", exact=True).select_option(label="Order received")
    page.get_by_label("Address", exact=True).fill("printer@brackwater.example")
    page.get_by_role("button", name="Send a test").click()
    expect(page.locator("[data-tried]")).to_contain_text("The gateway accepted it.")
    mail = running.wait_for(lambda: running.mails("printer@brackwater.example"))[0]
    assert mail["headers"]["X-Test"] == "yes"
    assert "We start sewing" in mail["text"]


def test_a_changed_letterhead_is_seen_on_every_message_before_it_is_kept(page):
    page.goto("/letterhead")
    sheet = page.frame_locator("[data-sheet='order-received']")
    other = page.frame_locator("[data-sheet='packed']")
    expect(sheet.locator("body")).to_contain_text("We start sewing")
    page.get_by_label("Footer").fill("Written by the sea")
    expect(sheet.locator("body")).to_contain_text("Written by the sea")
    expect(other.locator("body")).to_contain_text("Written by the sea")
    page.get_by_label("Accent, as text").fill("#e8d9a0")
    expect(page.locator("[data-judged]")).to_contain_text("Contrast of the accent on the body 1.")
    assert page.locator("[data-judged] .wait").count() == 1
    page.get_by_label("Accent, as text").fill("#12")
    expect(page.locator("[data-judged] .bad")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Footer")).to_contain_text("Answer this mail")


def test_revisions_are_compared_and_brought_back(page, written):
    page.goto("/messages/packed")
    page.get_by_label("Subject", exact=True).fill("Order {{ order_number }} is in its box")
    saved(page)
    page.get_by_role("link", name="What changed").click()
    row = page.locator(".compared tr", has_text="subject")
    expect(row.locator("del")).to_have_text("packed")
    expect(row.locator("ins")).to_contain_text("box")
    page.get_by_role("button", name="Make it the draft").click()
    expect(page.get_by_text("The draft says what revision 1 said.")).to_be_visible()
    expect(page.get_by_label("Subject", exact=True)).to_contain_text("is packed")
    page.get_by_role("button", name="Discard the draft").click()


def test_another_system_is_called_from_a_text_written_on_the_page(page, running, written):
    """A gateway for the system, the request with chips, what a wrong body says, the call itself, and its log."""
    page.goto("/sources/webshop/read")
    sample = page.locator("[data-sample-id]").get_attribute("data-sample-id")
    port = httpx.get(f"{running.url}/gateways/shop-api").text.split("127.0.0.1:")[1].split("/")[0]
    page.goto("/gateways")
    page.get_by_label("Name of the new gateway").fill("Warehouse")
    page.get_by_label("What it is").select_option(label="another system (HTTP calls)")
    page.get_by_role("button", name="Set up a gateway").click()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("The address is empty.")).to_be_visible()
    page.get_by_label("Address that every request starts with").fill(f"http://127.0.0.1:{port}/system")
    page.get_by_label("Authentication").select_option(label="none")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("The next try uses it.")).to_be_visible()
    written("Reserve it")
    page.goto(f"/messages/reserve-it?channel=call&sample={sample}")
    page.get_by_role("button", name="Write it").click()
    page.get_by_label("Path").click()
    page.keyboard.type("/stock/")
    page.locator("[data-inserts] button", has_text="order_number").click()
    page.get_by_label("Body", exact=True).fill('{"total": ')
    page.locator("[data-inserts] button", has_text="total").first.click()
    assert source_of(page, "body") == '{"total": {{ total | plain | json }}'
    expect(page.locator("[data-broken]")).to_contain_text("no JSON")
    page.get_by_label("Body", exact=True).press("Control+End")
    page.keyboard.type("}")
    expect(page.locator("[data-request]")).to_contain_text('{"total": "')
    page.get_by_label("Headers, one on a line").fill("no header")
    expect(page.get_by_text("is no header: write Name: value")).to_be_visible()
    page.get_by_label("Headers, one on a line").fill("X-Shop: kites")
    saved(page)
    gateway = page.locator("select[name=gateway]")
    gateway.select_option(label="Warehouse")
    page.get_by_role("button", name="Call now").click()
    expect(page.locator("[data-tried]")).to_contain_text("token")  # the system wants to know who is calling
    gateway.select_option(label="Shop API")
    page.get_by_role("button", name="Call now").click()
    expect(page.locator("[data-tried]")).to_contain_text("accepted it")
    page.goto("/standins/calls")
    expect(page.locator("#post table")).to_contain_text("/stock/BK-")
