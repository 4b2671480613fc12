"""From an empty folder to the first mail, by what is on the screen alone; every click and every field is counted."""

import base64
import hashlib
import hmac
import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest
from playwright.sync_api import expect

from angelon.cli.serving import free_port
from angelon.standins.box import Box
from angelon.standins.mailbox import Mailbox

MOST_INPUTS, MORE_BY_SMS = 29, 12
CURL = (
    "curl -X POST http://127.0.0.1:PORT/messages -H 'Authorization: Bearer tl-secret' "
    "-H 'Content-Type: application/json' "
    """-d '{"to":"+353209150000","from":"Lamps","text":"Hello"}'"""
)
BODY = {
    "type": "sale.new",
    "order_no": "HL-2001",
    "grand_total": "59.90",
    "currency": "EUR",
    "created": "2026-11-20T10:00:00+00:00",
    "customer": {"first_name": "Mika", "last_name": "Brandt", "email": "mika@example.net", "phone": "020 915 0123"},
    "items": [{"sku": "LAMP-1", "title": "Harbour lamp", "qty": 1, "unit_price": "59.90"}],
}


class Hands:
    """A person at the pages: counts what they click, choose and type."""

    def __init__(self, page):
        self.page, self.inputs = page, []

    def click(self, role, name, exact=False):
        self.press(self.page.get_by_role(role, name=name, exact=exact).first, name)

    def press(self, what, name):
        self.inputs.append(f"click {name}")
        what.click()

    def fill(self, label, text, exact=False):
        self.inputs.append(f"fill {label}")
        self.page.get_by_label(label, exact=exact).first.fill(text)

    def choose(self, label, option):
        self.inputs.append(f"choose {label}")
        self.page.get_by_label(label).first.select_option(label=option)


class Keys(Hands):
    """The same person without a mouse: to everything by Tab, and what is reached can be seen to be."""

    def reach(self, what):
        expect(what).to_be_visible()
        for _ in range(400):
            if what.evaluate("one => one === document.activeElement"):
                break
            self.page.keyboard.press("Tab")
        else:
            raise AssertionError(f"{what} is not reached by Tab")
        seen = "one => { const s = getComputedStyle(one); return s.outlineStyle !== 'none' || s.boxShadow !== 'none' }"
        assert what.evaluate(seen), f"nothing shows that {what} has the focus"

    def press(self, what, name):
        self.inputs.append(f"press {name}")
        self.reach(what)
        self.page.keyboard.press("Enter")

    def fill(self, label, text, exact=False):
        self.inputs.append(f"type {label}")
        self.reach(self.page.get_by_label(label, exact=exact).first)
        self.page.keyboard.press("Control+A")
        self.page.keyboard.type(text)

    def choose(self, label, option):
        self.inputs.append(f"choose {label}")
        select = self.page.get_by_label(label).first
        self.reach(select)
        self.page.keyboard.type(option[:12])
        expect(select.locator("option:checked")).to_have_text(option)


@pytest.fixture
def empty(tmp_path, postgresql):
    """`angelon serve` on an empty folder, or an empty database: its address."""
    port, own = free_port(), {"ANGELON_HOME": str(tmp_path / "home")}
    if postgresql:
        own |= {"ANGELON_DATABASE_URL": postgresql.create("empty"), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
    process = subprocess.Popen(
        [sys.executable, "-m", "angelon", "serve", "--port", str(port)],
        env={**os.environ, **own},
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )
    for line in process.stdout:
        if "ready" in line:
            break
    yield f"http://127.0.0.1:{port}"
    process.send_signal(signal.SIGTERM)
    assert process.wait(30) == 0


@pytest.fixture
def mail_server(tmp_path):
    """The person's own mail server."""
    (tmp_path / "mail").mkdir()
    server = Mailbox(Box(tmp_path / "mail"))
    server.start()
    server.box = Box(tmp_path / "mail")
    yield server
    server.stop()


@pytest.fixture
def provider():
    """An SMS provider that takes everything."""

    class Takes(BaseHTTPRequestHandler):
        def do_POST(self):
            server.got.append(self.rfile.read(int(self.headers["content-length"])))
            self.send_response(200)
            self.send_header("content-type", "application/json")
            self.end_headers()
            self.wfile.write(b'{"id": "tl-1"}')

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Takes)
    server.got, server.port = [], server.server_address[1]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def wait_for(look, seconds=20):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        found = look()
        if found:
            return found
        time.sleep(0.1)
    raise AssertionError("it did not come")


def store_sends(address, secret, body):
    """The store delivers, signed in its own way: base64 in a header of its own."""
    data = json.dumps(body).encode()
    signed = base64.b64encode(hmac.new(secret.encode(), data, hashlib.sha256).digest()).decode()
    headers = {"X-Harbour-Signature": signed, "content-type": "application/json"}
    return httpx.post(address, content=data, headers=headers).status_code


@pytest.mark.parametrize("person", [Hands, Keys])
def test_from_an_empty_folder_to_the_first_mail(browser, empty, mail_server, provider, person):
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=empty, permissions=["clipboard-read", "clipboard-write"]
    )
    context.set_default_timeout(10_000)
    page = context.new_page()
    hands = person(page)

    page.goto("/")
    hands.fill("Name of the shop", "Harbour Lamps")
    hands.choose("Country", "Ireland")
    hands.fill("Where customers may write to", "hello@lamps.example")
    hands.click("button", "Start")
    expect(page.get_by_text("The steps below lead to its first mail.")).to_be_visible()

    # connect, receive: the signature's form is taken from the delivery that was refused
    hands.click("link", "Connect a source")
    hands.fill("Name of the new source", "Webshop")
    hands.click("button", "Connect a source")
    hands.click("button", "Copy", exact=True)
    address = page.evaluate("navigator.clipboard.readText()")
    hands.press(page.locator("[data-copy='#secret-1']"), "Copy")
    secret = page.evaluate("navigator.clipboard.readText()")
    hands.click("link", "Watch for the first delivery")
    expect(page.get_by_text("Nothing has come in yet")).to_be_visible()
    assert store_sends(address, secret, BODY) == 401
    hands.click("button", "Use this header")
    expect(page.get_by_text("The signature is now read from")).to_be_visible()
    assert store_sends(address, secret, BODY) == 202

    # map; where the name of the event stands is guessed, and what it means
    hands.click("link", "Map it")
    expect(page.get_by_text("“sale.new”, which means")).to_be_visible()
    expect(page.get_by_label("What sale.new means")).to_have_value("order.created")
    hands.click("button", "Use this name")
    expect(page.get_by_text("Event names are read from $.type now. 1 kept delivery was read so.")).to_be_visible()
    hands.click("button", re.compile("^Accept all"))
    expect(page.locator(".sure")).to_have_count(0)
    hands.click("button", "Publish the mapping")
    expect(page.get_by_text("of the mapping is live")).to_be_visible()

    # the mail server, with a code to the sender
    hands.click("link", "Set up a gateway")
    hands.fill("Name of the new gateway", "Mailroom")
    hands.click("button", "Set up a gateway")
    hands.fill("Host", "127.0.0.1")
    hands.fill("Port", str(mail_server.port))
    hands.click("button", "Save", exact=True)
    expect(page.get_by_text("Saved. The next try uses it.")).to_be_visible()
    hands.click("button", "Send a code")
    expect(page.get_by_text("A code is on its way to hello@lamps.example.")).to_be_visible()
    code = re.search(rb"Subject: (\d{6})", wait_for(mail_server.box.mails)[0].raw)[1].decode()
    hands.fill("The code", code)
    hands.click("button", "Verify")
    expect(page.get_by_text("hello@lamps.example is verified.")).to_be_visible()

    # write
    hands.click("link", "Write a message")
    hands.click("button", "Use this text")
    expect(page.locator("[data-behaviour='message']")).to_have_attribute("data-started", "")
    hands.click("button", "Publish")
    expect(page.get_by_text("Revision 1 is live.")).to_be_visible()

    # switch on, by the route that the message's page offers
    expect(page.get_by_text("no route sends it by email yet")).to_be_visible()
    hands.click("button", "Switch this route on")
    expect(page.get_by_text("The route is live.")).to_be_visible()

    assert store_sends(address, secret, BODY | {"order_no": "HL-2002"}) == 202
    mail = wait_for(lambda: next((one for one in mail_server.box.mails() if b"HL-2002" in one.raw), None))
    assert (mail.mail_from, mail.rcpt_to) == ("hello@lamps.example", "mika@example.net")
    hands.click("link", "Overview")
    expect(page.get_by_role("heading", name="From the first delivery to the first mail")).to_be_visible()
    assert len(hands.inputs) <= MOST_INPUTS, hands.inputs

    # by SMS, too
    so_far = len(hands.inputs)
    hands.click("link", "Gateways")
    hands.fill("Name of the new gateway", "Text line")
    hands.choose("What it is", "an SMS provider (HTTP)")
    hands.click("button", "Set up a gateway")
    hands.fill("An example as a curl command", CURL.replace("PORT", str(provider.port)))
    hands.click("button", "Fill in the request")
    hands.click("button", "Save and try the connection")
    expect(page.get_by_text("The address can be reached.")).to_be_visible()
    hands.click("link", "Send a test of Order received")
    hands.fill("Number", "+353 20 915 0001", exact=True)
    hands.click("button", "Send a test")
    expect(page.get_by_text("The gateway accepted it.")).to_be_visible()
    hands.click("button", "Switch this route on")
    expect(page.get_by_text("The route is live.")).to_be_visible()
    assert store_sends(address, secret, BODY | {"order_no": "HL-2003"}) == 202
    found = wait_for(lambda: next((one for one in provider.got if b"HL-2003" in one), None))
    assert json.loads(found)["to"] == "+353209150123"
    assert len(hands.inputs) - so_far <= MORE_BY_SMS, hands.inputs[so_far:]
    context.close()
