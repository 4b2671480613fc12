"""What is typed and not saved is never lost silently: leaving a page asks first, and saving or sending does not."""

import pytest
from playwright.sync_api import expect

from tests.browser.test_every_page import PAGES as EVERY_PAGE

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


EVERY_FIELD = """() => {
  const asks = () => { const leaving = new Event("beforeunload", {cancelable: true}); window.dispatchEvent(leaving);
    return leaving.defaultPrevented; };
  const found = {fields: 0, missed: [], unasked: []};
  if (asks()) return {...found, missed: ["it asks before anything was typed"]};
  const alone = "[data-edit], [data-try], [data-sends-itself]";
  const at_once = ["message", "sentence", "segment", "start"].map((one) => `[data-behaviour=${one}]`).join();
  for (const form of document.querySelectorAll("main form[method=post]")) {
    if (form.matches(alone) || form.closest(at_once)) continue;
    for (const field of form.elements) {
      if (!field.name || field.disabled || field.type === "hidden" || field.type === "file"
        || ["submit", "button"].includes(field.type) || field.tagName === "FIELDSET" || field.readOnly) continue;
      const kept = {value: field.value, checked: field.checked};
      if (["checkbox", "radio"].includes(field.type)) {
        if (field.type === "radio" && field.checked) continue;
        field.checked = !field.checked;
      } else if (field.tagName === "SELECT") {
        const other = [...field.options].find((one) => !one.selected && !one.disabled);
        if (!other) continue;
        field.value = other.value;
        if (field.value === kept.value) continue;
      } else if (field.type === "number") field.value = String(Number(field.value || 0) + 1);
      else if (field.type === "color") field.value = field.value === "#123456" ? "#654321" : "#123456";
      else if (field.type === "date") field.value = field.value === "2026-01-02" ? "2026-01-03" : "2026-01-02";
      else if (field.type === "time") field.value = field.value === "01:02" ? "01:03" : "01:02";
      else if (field.type === "datetime-local") field.value = "2026-01-02T03:04";
      else field.value = `${field.value} more`;
      found.fields += 1;
      if (!asks()) found.missed.push(`${form.getAttribute("action") || ""} ${field.name}`);
      const others = [...document.querySelectorAll("main form[method=post]")].filter((one) => one !== form
        && !one.matches(alone) && !one.closest(at_once) && !one.closest("[data-behaviour]"));
      if (others.length) {  // another form is sent: what was typed in this one is asked about
        const sending = new Event("submit", {bubbles: true, cancelable: true});
        others[0].dispatchEvent(sending);
        if (!sending.defaultPrevented && !asks()) found.unasked.push(`${field.name} beside ${others[0].action}`);
        window.dispatchEvent(new Event("pageshow"));
      }
      if (["checkbox", "radio"].includes(field.type)) field.form.reset();
      else field.value = kept.value;
    }
    form.reset();
  }
  return found;
}"""


def test_every_field_of_every_page_is_asked_about(page):
    """Each field of each form that a button saves: changed, leaving asks, and so does the button of another form."""
    fields, wrong = 0, []
    for address in EVERY_PAGE:
        if address.startswith(("/where/", "/invoice/", "/s/")):
            continue  # customers' pages: they have no scripts
        page.goto(address)
        found = page.evaluate(EVERY_FIELD)
        fields += found["fields"]
        wrong += [f"{address}: {one}" for one in found["missed"] + found["unasked"]]
    assert wrong == [], "\n".join(wrong)
    assert fields > 300
