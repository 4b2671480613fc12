"""Files for the buyer alone: so many times, until a day, revocable, resumable; nobody else finds any."""

import datetime as dt
import re
import threading

import pytest

from angelon.core.messages.attachments import LibraryFile
from angelon.core.specs import Message, Route
from angelon.db.log import downloads
from angelon.db.setup import files
from angelon.db.tables import MessageRow, RouteRow
from angelon.engine.feedback.preferences import Links
from tests import made
from tests.engine.test_fallbacks import Shop
from tests.web.test_route_pages import text

PDF = b"%PDF-1.7\n" + bytes(range(256)) * 40
EVIL = b"<html><script>alert(1)</script>"


@pytest.fixture
def shop(bench, mailbox, client):
    shop = Shop(bench)
    shop.store(base_url="https://shop.example")
    with bench.database.writing() as session:
        for name, kind, data in (("book.pdf", "application/pdf", PDF), ("page.html", "text/html", EVIL)):
            file = LibraryFile(0, "books", name, kind, len(data))
            files.put(session, bench.store_id, file, data, bench.clock.now())
    text_ = {"subject": "Your book", "blocks": [{"kind": "text", "text": "Here: {{ download.link }}"}]}
    spec = {"key": "book", "name": "Book", "locale": "en", "email": {"en": text_}, "download": {"times": 3, "days": 7},
            "attachments": [{"kind": "library", "shelf": "books", "required": True}]}  # fmt: skip
    shop.publish(MessageRow, Message.model_validate(spec))
    route = {"key": "book", "name": "Book", "when": ["order.created"], "sources": ["shop"], "send": "book",
             "channel": "email", "gateway": "mailroom", "guards": {"even_if_notified": True}}  # fmt: skip
    shop.publish(RouteRow, Route.model_validate(route))
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)
    of_route = "SELECT s.* FROM send s JOIN route r ON r.id = s.route_id WHERE r.key = 'book'"
    shop.send = bench.rows(of_route)[0]
    shop.link = (
        Links(bench.vault, "https://shop.example")
        .download(bench.services.setups.get(bench.store_id), shop.send.id)
        .removeprefix("https://shop.example")
    )
    return shop


def offered(shop):
    return shop.bench.rows("SELECT * FROM download")[0]


def take(client, shop, file=0):
    return client.post(shop.link, data={"file": str(file)})


def test_the_mail_has_the_link_and_none_of_the_files(shop):
    assert shop.send.state == "sent"
    (raw,) = [one.raw for one in shop.bench.box.mails(5) if b"Your book" in one.raw]
    assert shop.link.encode()[:20] in raw.replace(b"=\r\n", b"")
    assert b"book.pdf" not in raw


def test_the_page_counts_nothing_and_a_button_does(shop, client):
    for _ in range(3):  # as what looks at links before their reader does
        page = text(client.get(shop.link))
    assert "book.pdf" in page
    assert "Downloads left: 3" in page
    led = take(client, shop)
    assert led.status_code == 303
    assert offered(shop).left == 2
    got = client.get(led.location)
    assert got.data == PDF
    assert got.headers["Content-Type"] == "application/pdf"
    assert got.headers["Content-Disposition"].startswith("attachment; filename=book.pdf")
    assert "Set-Cookie" not in got.headers
    assert offered(shop).left == 2


def test_a_download_that_broke_off_goes_on_and_counts_once(shop, client):
    led = take(client, shop).location
    part = client.get(led, headers={"Range": "bytes=1000-"})
    assert part.status_code == 206
    assert part.data == PDF[1000:]
    assert part.headers["Content-Range"] == f"bytes 1000-{len(PDF) - 1}/{len(PDF)}"
    assert client.get(led, headers={"Range": "bytes=99999999-"}).status_code == 416
    assert offered(shop).left == 2


def test_what_a_file_is_its_content_says_and_a_page_is_only_bytes(shop, client):
    got = client.get(take(client, shop, 1).location)
    assert got.headers["Content-Type"] == "application/octet-stream"
    assert got.headers["X-Content-Type-Options"] == "nosniff"
    assert "sandbox" in got.headers["Content-Security-Policy"]


def test_so_many_times_and_no_more_even_at_once(shop, client):
    codes = []

    def press():
        with shop.bench.database.connection() as connection:
            codes.append(downloads.count(connection, shop.send.id, shop.bench.clock.now()))

    threads = [threading.Thread(target=press) for _ in range(8)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert sorted(codes) == [False] * 5 + [True] * 3
    used = take(client, shop)
    assert used.status_code == 410
    assert "All downloads have been used" in text(used)


def test_after_its_day_and_after_an_hour_nothing_opens(shop, client):
    led = take(client, shop).location
    shop.later(hours=2)
    assert client.get(led).status_code == 404
    shop.later(days=8)
    page = client.get(shop.link)
    assert "The time for this download is over" in text(page)
    assert take(client, shop).status_code == 410


def test_it_is_ended_at_once_and_allowed_again(shop, client):
    led = take(client, shop).location
    page = text(client.get(f"/sends/{shop.send.id}"))
    assert "2 downloads left" in page
    assert "downloaded 1 time" in page
    client.post(f"/sends/{shop.send.id}/downloads", data={"act": "end"})
    assert client.get(led).status_code == 404
    assert take(client, shop).status_code == 410
    client.post(f"/sends/{shop.send.id}/downloads", data={"act": "allow"})
    assert take(client, shop).status_code == 303
    assert client.post("/sends/sd-none/downloads", data={"act": "end"}).status_code == 404


def test_guesses_walks_and_other_links_find_nothing(shop, client):
    token = shop.link.removeprefix("/d/")
    led = take(client, shop).location
    ticket = led.rpartition("/")[2]
    follow = Links(shop.bench.vault, "").follow_token(1)
    why = Links(shop.bench.vault, "").why_token(shop.send.id)
    for wrong in (
        f"/d/{token[:-1]}x", f"/d/{follow}", f"/d/{why}", "/d/", f"/d/{token}/1/{ticket}",
        f"/d/{token}/0/{ticket[:-1]}x",
        f"/d/{token}/..%2f..%2fetc%2fpasswd/{ticket}", f"/d/{token}/-1/{ticket}",
        f"/d/{token}/0/{int(shop.now.timestamp()) + 10**6:x}-{ticket.partition('-')[2]}",
    ):  # fmt: skip
        assert client.get(wrong).status_code in (404, 308, 405), wrong
    for file in ("2", "-1", "x", "", "999999999999999999999"):
        assert client.post(shop.link, data={"file": file}).status_code == 404
    assert re.search(r"books|library|\.\./", text(client.get(shop.link))) is None


def test_a_retry_offers_them_once_and_a_file_that_is_gone_counts_nothing(shop, client):
    with shop.bench.database.connection() as connection:
        later = shop.now + dt.timedelta(days=99)
        downloads.offer(connection, shop.send.id, shop.bench.store_id, [], 99, later)
        connection.exec_driver_sql("DELETE FROM file WHERE name = 'book.pdf'")
    assert offered(shop).left == 3
    gone = take(client, shop)
    assert gone.status_code == 503
    assert "did not count" in text(gone)
    assert offered(shop).left == 3


def test_who_is_erased_has_no_downloads_left(shop, client):
    person = shop.bench.rows("SELECT * FROM contact")[0]
    client.post(f"/people/{person.id}/erase", data={"typed": person.email})
    assert shop.bench.rows("SELECT * FROM download") == []
    assert client.get(shop.link).status_code == 404
