"""Four payloads and a fifth, each mapped in the browser by suggestions and a few corrections."""

import json
from pathlib import Path

import httpx
from playwright.sync_api import expect

PAYLOADS = Path(__file__).parents[1] / "payloads"
FIFTH = {
    "Bestellung": {
        "Nummer": "Z-9917",
        "Phase": "bezahlt",
        "Datum": "04.11.2026 10:15",
        "Summe": "74,40",
        "Waehrung": "EUR",
        "Interne_ID": "8812-33",
    },
    "Kunde": {
        "Vorname": "Mika",
        "Nachname": "Brandt",
        "Kontakt": [{"type": "email", "value": "mika@example.net"}, {"type": "tel", "value": "030 23125088"}],
        "Land": "DE",
        "Sprache": "de",
    },
    "Posten": [{"Bezeichnung": "Ash reel", "Menge": "2", "Einzelpreis": "31,00", "Art_Nr": "REE-ASH"}],
}


def bench_of(page, running, name, deliver):
    """A new source that takes anything, one delivery in it, and its bench."""
    page.goto("/sources")
    page.get_by_label("Name of the new source").fill(name)
    page.get_by_role("button", name="Connect a source").click()
    page.locator("[name='signing.scheme']").select_option("none")
    page.locator("[name='event_name.kind']").select_option("fixed")
    page.locator("[name='event_name.text']").fill("sale")
    page.locator("[name='delivery_id.text']").fill("")
    page.locator("[name=theirs]").first.fill("sale")
    page.locator("[name=ours]").first.select_option("order.created")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved. The next delivery is read this way.")).to_be_visible()
    key = page.url.split("/")[-2]
    deliver(key)
    page.goto(f"/sources/{key}/read")
    page.locator(".sure button").click()
    expect(page.locator(".sure")).to_have_count(0)
    return page.locator("#mapping")


def value(bench, mark):
    return bench.locator(f'.var[data-field="{mark}"] .var-head .value')


def correct(page, bench, mark, path):
    bench.locator(f'[data-open="{mark}"]').click()
    expect(bench.locator(".var.open")).to_have_attribute("data-field", mark)
    field = bench.locator(f"[data-path={json.dumps(path)}]")
    field.click()
    expect(bench.locator(f'[data-open="{mark}"]')).to_be_focused()  # the answer is there, and was painted
    expect(bench.locator(".var.open .steps code").first).not_to_be_empty()
    bench.locator(f'[data-open="{mark}"]').click()
    expect(bench.locator(".var.open")).to_have_count(0)


def write_path(page, bench, mark, path):
    bench.locator(f'[data-open="{mark}"]').click()
    expect(bench.locator(".var.open")).to_have_attribute("data-field", mark)
    bench.locator(".var.open [name=path]").first.fill(path)
    bench.locator(".var.open .otherwise button").first.click()
    expect(bench.locator(".var.open .steps code").first).to_contain_text(path)


def test_any_store_s_payload_is_mapped(page, running):
    def emitted(name):
        def deliver(key):
            assert running.cli("emit", key, str(PAYLOADS / f"{name}.http")).startswith("20")

        return deliver

    # a web shop's new order
    bench = bench_of(page, running, "Quay shop", emitted("webshop-order-created"))
    for mark, shown in {
        "reading.reference": "90071992547",
        "reading.number": "BK-2041",
        "reading.status": "paid",
        "reading.total": "135,50",
        "reading.name": "Jörg Ahlers",
        "reading.email": "joerg.ahlers@example.org",
        "reading.phone": "+493023125014",
        "reading.country": "DE",
        "reading.language": "de",
        "reading.customer_id": "5512",
        "reading.lines": "2 items",
        "line.name": "Heron 1.8 m delta",
        "line.quantity": "1",
        "recipes.order_number": "BK-2041",
        "recipes.items": "1 × Heron 1.8 m delta und 2 × 50 m braided line",
        "recipes.gift_note": "Alles Gute",
    }.items():
        expect(value(bench, mark)).to_contain_text(shown)
    correct(page, bench, "recipes.customer_name", "$.buyer.given_name")
    expect(value(bench, "recipes.customer_name")).to_have_text("Jörg")

    # the same shop's update, with a parcel
    bench = bench_of(page, running, "Quay shop later", emitted("webshop-order-updated"))
    for mark, shown in {
        "reading.changed_at": "5",
        "reading.parcels": "1 item",
        "parcel.carrier": "Gannet Post",
        "parcel.number": "RR123456785IE",
        "parcel.expected_on": "9",
    }.items():
        expect(value(bench, mark)).to_contain_text(shown)

    # a marketplace's form
    bench = bench_of(page, running, "Fair stall", emitted("fairground-order"))
    for mark, shown in {
        "reading.reference": "F-77-300912",
        "reading.status": "WAITING_FOR_CONFIRMATION",
        "reading.total": "64.90",
        "reading.name": "Ελένη Μαρή",
        "reading.email": "eleni@example.net",
        "reading.phone": "+302130001234",
        "reading.country": "GR",
        "reading.placed_at": "3",
        "reading.lines": "2 items",
        "line.name": "Sandpiper pocket sled",
    }.items():
        expect(value(bench, mark)).to_contain_text(shown)

    # a CloudEvent with contacts in a list
    bench = bench_of(page, running, "Bench work", emitted("workbench-cloudevent"))
    for mark, shown in {
        "reading.number": "WB-17",
        "reading.name": "Aoife Ní Bhriain",
        "reading.email": "aoife@example.com",
        "reading.phone": "+353209151234",
        "reading.lines": "1 item",
        "line.name": "Guillemot",
    }.items():
        expect(value(bench, mark)).to_contain_text(shown)
    correct(page, bench, "reading.status", "$.data.order.status.now")
    expect(value(bench, "reading.status")).to_contain_text("ready_for_collection")

    # one that nobody here has seen before
    def fifth(key):
        assert httpx.post(f"{running.url}/in/{key}", json=FIFTH).status_code == 202

    bench = bench_of(page, running, "Hafenladen", fifth)
    for mark, shown in {
        "reading.total": "74,40",
        "reading.currency": "EUR",
        "reading.name": "Mika Brandt",
        "reading.email": "mika@example.net",
        "reading.country": "DE",
        "reading.language": "de",
        "reading.lines": "1 item",
        "line.name": "Ash reel",
        "line.price": "31,00",
        "recipes.items": "2 × Ash reel",
    }.items():
        expect(value(bench, mark)).to_contain_text(shown)
    correct(page, bench, "reading.reference", "$.Bestellung.Interne_ID")
    correct(page, bench, "reading.status", "$.Bestellung.Phase")
    expect(value(bench, "reading.status")).to_have_text("bezahlt")
    expect(value(bench, "reading.number")).to_have_text("Z-9917")
    write_path(page, bench, "reading.customer_id", "$['Bestellung'].Interne_ID")
    expect(value(bench, "reading.customer_id")).to_have_text("8812-33")
    expect(value(bench, "reading.phone")).to_contain_text("+493023125088")


def test_on_a_phone_a_field_is_chosen_and_then_what_it_is(page, running):
    page.set_viewport_size({"width": 380, "height": 780})
    page.goto("/sources/fairground/read")
    page.locator('[data-path="$.cod"]').click()
    expect(page.get_by_text("Name the new variable, or click the one")).to_be_visible()
    page.locator('[data-open="reading.customer_id"]').click()
    expect(page.locator('.var[data-field="reading.customer_id"] .var-head .value')).to_have_text("0")
    page.get_by_role("button", name="Discard").first.click()


def test_a_variable_is_found_by_its_name_its_field_or_its_value(page, running):
    page.goto("/sources/webshop/read")
    find = page.get_by_label("Find a variable")
    shown = page.locator(".var:visible")
    whole = shown.count()
    find.fill("$.buyer.given")
    expect(shown).to_have_count(1)
    expect(shown.first).to_contain_text("customer_name")
    page.locator(".var-head:visible").first.click()
    expect(page.locator(".var.open")).to_be_visible()
    expect(find).to_have_value("$.buyer.given")
    expect(shown).to_have_count(1)
    find.fill("")
    expect(shown).to_have_count(whole)
