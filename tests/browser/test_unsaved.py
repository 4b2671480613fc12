"""What is typed and not saved is never lost silently: leaving a page asks first, and saving or sending does not."""

import pytest
from playwright.sync_api import expect

PAGES = {
    "/settings": "Name, as customers know it",
    "/gateways/mailroom": "User name",
    "/sources/webshop/connect": "Signature header",
    "/letterhead": "Header line",
    "/suppressions": "Why",
}


@pytest.fixture
def asked(page):
    """The questions that the browser has asked; each is answered by staying."""
    found = []

    def stay(dialog):
        found.append(dialog.type)
        dialog.dismiss()

    page.on("dialog", stay)
    return found


@pytest.mark.parametrize("address", PAGES)
def test_leaving_asks_where_something_was_typed(page, running, asked, address):
    page.goto(address)
    field = page.get_by_label(PAGES[address]).first
    field.click()
    page.get_by_role("navigation", name="Main").get_by_role("link", name="Overview").click()
    expect(page).to_have_url(f"{running.url}/")
    assert asked == [], "nothing was typed"
    page.goto(address)
    field.fill(f"{field.input_value()} more")
    page.get_by_role("navigation", name="Main").get_by_role("link", name="Overview").click(no_wait_after=True)
    page.wait_for_function("() => true")
    running.wait_for(lambda: asked or None)
    assert asked == ["beforeunload"]
    assert field.input_value().endswith(" more")
    page.evaluate("document.querySelectorAll('main form').forEach((form) => form.reset())")


def test_saving_does_not_ask_and_another_form_s_button_does(page, running, asked):
    page.goto("/settings")
    page.get_by_label("Website").fill("https://kites.example/new")
    page.get_by_role("button", name="Save").first.click()
    expect(page.get_by_label("Website")).to_have_value("https://kites.example/new")
    assert asked == []


def test_what_was_refused_is_asked_about_too(page, running, asked):
    page.goto("/settings")
    page.get_by_label("Website").fill("no address at all")
    page.get_by_role("button", name="Save").first.click()
    expect(page.get_by_role("alert")).to_contain_text("Not saved")
    page.get_by_role("navigation", name="Main").get_by_role("link", name="Overview").click(no_wait_after=True)
    running.wait_for(lambda: asked or None)
    expect(page.get_by_label("Website")).to_have_value("no address at all")
