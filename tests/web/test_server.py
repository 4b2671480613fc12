"""The door as a process: bodies that never come, names that are not ours, ports that are taken, processes that are left
behind.
"""

import asyncio
import json
import os
import re
import signal
import socket
import stat
import subprocess
import sys
import threading
import time
import weakref
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from angelon.cli.serving import free_port
from angelon.db.access.secrets import Vault
from angelon.engine.feedback.preferences import Links
from angelon.engine.notifications import Listener, Notifier
from angelon.settings import BadSettings, Settings, private_folder
from angelon.web.origins import Proxies
from angelon.web.server import RsgiServer
from tests import made
from tests.conftest import bench_in


class Web:
    """`angelon web` on a bench's data folder."""

    def __init__(self, bench, port=None, **environment):
        self.port = port or free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        env = {
            **os.environ,
            "ANGELON_HOME": str(bench.home),
            "ANGELON_SECRET_KEY": "a-key-for-tests-only",
            **environment,
        }
        self.process = subprocess.Popen(
            [sys.executable, "-m", "angelon", "web", "--port", str(self.port)],
            env=env,
            stderr=subprocess.DEVNULL,
            text=True,
        )

    def up(self):
        until = time.monotonic() + 60
        while time.monotonic() < until:
            try:
                if httpx.get(f"{self.url}/healthz", timeout=1).status_code == 200:
                    return self
            except httpx.HTTPError:
                time.sleep(0.1)
        raise AssertionError("it did not start")

    def stop(self):
        self.process.terminate()
        self.process.wait(15)


def _half_a_request(port):
    """What the server says to a body that does not come, and after how many seconds."""
    began = time.monotonic()
    (one,) = half_open(port, 1)
    one.settimeout(30)
    with one:
        return one.recv(200), time.monotonic() - began


@pytest.fixture(scope="module")
def web(tmp_path_factory, migrated):
    """One server for the tests that leave it as it was; its bench is `web.bench`."""
    with bench_in(tmp_path_factory.mktemp("web") / "home", made.bundle(), migrated) as bench:
        running = Web(bench).up()
        running.bench = bench
        with ThreadPoolExecutor(1) as beside:
            running.unfinished = beside.submit(_half_a_request, running.port)
            yield running
        running.stop()


def events(web):
    return web.bench.rows("SELECT count(*) FROM event")[0][0]


def order(web, number):
    return httpx.post(
        f"{web.url}/in/shop",
        content=made.body(id=number),
        headers={"Content-Type": "application/json", "Store-Event": "placed", "Store-Delivery": f"d{number}"},
        timeout=20,
    )


def half_open(port, number, head=b"POST /in/shop HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000\r\n\r\n12345"):
    sockets = []
    for _ in range(number):
        one = socket.create_connection(("127.0.0.1", port))
        one.sendall(head)
        sockets.append(one)
    return sockets


def test_half_sent_requests_hold_up_nobody(web):
    before = events(web)
    sockets = (
        half_open(web.port, 80)
        + half_open(web.port, 20, b"POST /sources HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 99999\r\n\r\n{")
        + half_open(web.port, 20, b"GET / HTTP/1.1\r\nHo")
    )
    try:
        for number in range(100, 105):
            began = time.monotonic()
            assert order(web, number).status_code == 202
            assert httpx.get(f"{web.url}/", timeout=20).status_code == 200
            assert time.monotonic() - began < 15
    finally:
        for one in sockets:
            one.close()
    assert events(web) - before == 5


def test_a_reader_that_takes_its_time_holds_its_own_answer_only(web):
    slow = []
    for _ in range(80):
        one = socket.create_connection(("127.0.0.1", web.port))
        one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1024)
        one.sendall(b"GET /static/vendor/bulma.min.css HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
        slow.append(one)
    assert httpx.get(f"{web.url}/", timeout=20).status_code == 200
    assert order(web, 200).status_code == 202
    for one in slow:
        one.close()


def test_head_requests_for_the_live_page_use_nothing_up(web):
    for _ in range(40):
        assert httpx.head(f"{web.url}/sources/shop/live", timeout=20).status_code == 200
    with httpx.stream("GET", f"{web.url}/sources/shop/live", timeout=20) as answer:
        assert next(answer.iter_text()).startswith("retry: 1500")


def test_an_address_is_decoded_once_whatever_letters_it_has(web):
    """A page that is not there is that, and not a fault of ours; what was encoded twice stays encoded once."""
    for path in ("/events/%F0%A3%97%A6%25x", "/guide/%E2%80%AE", "/orders/%ff"):
        assert httpx.get(f"{web.url}{path}").status_code == 404, path
    assert httpx.get(f"{web.url}/gu%69de").status_code in (200, 302)
    assert httpx.get(f"{web.url}/gu%2569de").status_code == 404


def test_bodies_of_any_kind_and_size_are_answered(web):
    post = lambda **more: httpx.post(f"{web.url}/in/shop", timeout=10, **more)  # noqa: E731
    assert post(content=iter([b"x" * 1000] * 20), headers={"Content-Type": "application/json"}).status_code == 400
    assert post(content=b"x" * 17_000_000).status_code == 413
    assert httpx.post(f"{web.url}/sources", content=b"x" * 22_000_000, timeout=10).status_code == 413
    raw = socket.create_connection(("127.0.0.1", web.port))
    raw.sendall(b"POST /in/shop HTTP/1.1\r\nHost: x\r\nContent-Length: \xc2\xb2\r\n\r\n")
    assert b" 400 " in raw.recv(100)
    for text in ("a" + "[b]" * 10_000 + "=1", "a[²]=1", "a[" + "9" * 5000 + "]=1", "a[0]=1&a[1]=2"):
        answer = post(
            content=text.encode(),
            headers={"Content-Type": "application/x-www-form-urlencoded", "Store-Event": "placed"},
        )
        assert answer.status_code == 202, (text[:40], answer.text)
    counted = httpx.get(f"{web.url}/metrics").text
    (number,) = re.findall(r'angelon_deliveries_total\{source="shop",status="202"\} (\d+)', counted)
    assert int(number) >= 4
    assert "angelon_delivery_seconds_count" in counted


def test_a_second_one_on_a_taken_port_is_refused_with_a_sentence_and_gets_nothing(web, tmp_path):
    from click.testing import CliRunner

    from angelon.cli.main import main

    for command in ("web", "serve", "demo"):
        env = {"ANGELON_HOME": str(tmp_path / "other")}
        done = CliRunner().invoke(main, [command, "--port", str(web.port)], env=env)
        assert done.exit_code == 1
        assert f"Port {web.port} is taken" in done.output
        assert not (tmp_path / "other").exists(), "before anything starts"
    before = events(web)
    assert [order(web, number).status_code for number in range(300, 304)] == [202] * 4
    assert events(web) - before == 4


def test_nothing_goes_on_answering_when_the_server_is_killed(bench):
    web = Web(bench).up()
    assert httpx.get(f"{web.url}/readyz").json()["process"]
    web.process.send_signal(signal.SIGKILL)
    web.process.wait(10)
    until = time.monotonic() + 10
    while time.monotonic() < until:
        try:
            httpx.get(f"{web.url}/healthz", timeout=1)
        except httpx.HTTPError:
            return
        time.sleep(0.2)
    raise AssertionError("an orphan goes on answering")


def test_a_page_under_a_foreign_name_is_refused_and_so_is_a_foreign_page_s_form(client, bench):
    assert client.get("/", headers={"Host": "evil.example"}).status_code == 421
    assert "ANGELON_BASE_URL" in client.get("/sources/shop/connect", headers={"Host": "evil.example:8080"}).get_data(
        as_text=True
    )
    for host in ("127.0.0.1:8080", "localhost", "[::1]:8080"):
        assert client.get("/", headers={"Host": host}).status_code == 200
    for headers in (
        {"Origin": "http://evil.example"},
        {"Origin": "null"},
        {"Sec-Fetch-Site": "cross-site"},
        {"Host": "evil.example", "Origin": "http://evil.example"},
    ):
        assert client.post("/suppressions", data={"addresses": "jo@example.org"}, headers=headers).status_code in (
            403,
            421,
        )
    assert bench.rows("SELECT count(*) FROM suppression") == [(0,)]
    assert (
        client.post(
            "/suppressions",
            data={"addresses": "jo@example.org"},
            headers={"Origin": "http://localhost", "Sec-Fetch-Site": "same-origin"},
        ).status_code
        == 302
    )
    for path in ("/healthz", "/in/shop"):
        assert client.open(
            path,
            method="GET" if path == "/healthz" else "POST",
            data=made.body(),
            content_type="application/json",
            headers={"Host": "shop.example"},
        ).status_code in (200, 202)


def test_the_base_url_s_name_is_ours(bench):
    from angelon.web.app import create_app

    bench.services.settings = Settings(
        home=bench.home, secret_key="a-key-for-tests-only", base_url="https://angelon.shop.example"
    )
    client = create_app(bench.services).test_client()
    assert client.get("/healthz").status_code == 200
    assert client.get("/", headers={"Host": "angelon.shop.example"}).status_code != 421


@pytest.mark.parametrize(
    ("peer", "forwarded", "sender"),
    [
        ("9.9.9.9", "1.1.1.1", "9.9.9.9"),
        ("10.0.0.1", "1.1.1.1", "1.1.1.1"),
        ("10.0.0.1", "6.6.6.6, 1.1.1.1, 10.0.0.2", "1.1.1.1"),
        ("10.0.0.1", "", "10.0.0.1"),
        ("10.0.0.1", "nonsense", "nonsense"),
        ("10.0.0.1", "10.0.0.3", "10.0.0.1"),
    ],
)
def test_only_trusted_proxies_are_believed(peer, forwarded, sender):
    assert Proxies(Settings(trusted_proxies="10.0.0.0/8, ::1").proxies()).sender(peer, forwarded) == sender


def test_a_malformed_proxy_setting_is_named(monkeypatch):
    from angelon import settings

    monkeypatch.setenv("ANGELON_TRUSTED_PROXIES", "my-proxy")
    with pytest.raises(BadSettings, match="ANGELON_TRUSTED_PROXIES has to be addresses or networks"):
        settings.load()


def test_the_data_folder_and_its_files_are_their_owner_s_alone(web):
    home = web.bench.home
    home.chmod(0o755)
    for file in home.iterdir():
        if file.is_file():
            file.chmod(0o644)
    private_folder(home)
    (home / "later.txt").touch()
    assert stat.S_IMODE(home.stat().st_mode) == 0o700
    for name in ("angelon.db", "angelon.db-wal", "run.json"):
        assert stat.S_IMODE((home / name).stat().st_mode) & 0o077 == 0, name


def test_two_processes_that_start_at_once_agree_on_one_key(tmp_path):
    keys = []
    threads = [threading.Thread(target=lambda: keys.append(Settings(home=tmp_path / "home").key())) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(keys)) == 1
    assert len(keys[0]) >= 40
    assert stat.S_IMODE((tmp_path / "home" / "secret.key").stat().st_mode) == 0o600
    assert [file.name for file in (tmp_path / "home").iterdir()] == ["secret.key"]


def test_what_stands_among_the_sockets_and_is_none_is_left_alone(tmp_path):
    ear = Listener(tmp_path)
    victim = tmp_path / "victim"
    victim.mkdir()
    (victim / "precious").write_text("x")
    (tmp_path / "wake" / "link").symlink_to(victim / "precious")
    (tmp_path / "wake" / "file").write_text("x")
    Notifier(tmp_path).notify()
    assert (victim / "precious").exists()
    assert {file.name for file in (tmp_path / "wake").iterdir()} >= {"link", "file"}
    assert ear.wait(1)
    ear.close()


def test_a_long_path_has_its_sockets_too(tmp_path):
    home = tmp_path / ("x" * 60) / ("y" * 60)
    home.mkdir(parents=True)
    ear = Listener(home)
    Notifier(home).notify()
    assert ear.wait(1)
    ear.close()
    assert list((home / "wake").iterdir()) == []


def test_a_full_disk_and_a_locked_database_are_answered_503_with_retry_after(bench, client, monkeypatch):
    import sqlite3

    from sqlalchemy.exc import OperationalError

    from angelon.db.log import events

    for code, after in ((13, "60"), (5, "5")):

        def fail(*_, code=code):
            error = sqlite3.OperationalError("no")
            error.sqlite_errorcode = code
            raise OperationalError("INSERT", {}, error)

        monkeypatch.setattr(events, "add", fail)
        answer = client.post(
            "/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"}
        )
        assert (answer.status_code, answer.headers["Retry-After"], answer.mimetype) == (
            503,
            after,
            "application/problem+json",
        )
        assert "nothing was stored" in answer.json["hint"]
    monkeypatch.undo()
    assert (
        client.post(
            "/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"}
        ).status_code
        == 202
    )


def test_one_delivery_that_the_database_refuses_keeps_no_other_from_being_stored(bench, monkeypatch):
    from angelon.db.log import events

    real = events.add
    monkeypatch.setattr(
        events,
        "add",
        lambda connection, deliveries: (
            1 // 0 if any(d.events[0].delivery_key == "d:d3" for d in deliveries) else real(connection, deliveries)
        ),
    )
    statuses = {}

    def deliver(number):
        try:
            statuses[number] = bench.deliver(
                made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d{number}"
            ).status
        except ZeroDivisionError:
            statuses[number] = 500

    threads = [threading.Thread(target=deliver, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert statuses == {number: 500 if number == 3 else 202 for number in range(8)}


@pytest.mark.parametrize(
    ("damage", "said"),
    [
        (lambda home: (home / "angelon.db").write_bytes(b"SQLite format 3\x00" + b"\xff" * 4000), "can't be used"),
        (lambda home: (home / "angelon.db").write_bytes(b"no database at all" * 100), "can't be used"),
        (lambda home: home.rmdir() or home.write_text("a file"), "can't be used"),
    ],
)
def test_a_damaged_data_folder_is_a_sentence(tmp_path, damage, said):
    home = tmp_path / "home"
    home.mkdir()
    damage(home)
    from click.testing import CliRunner

    from angelon.cli.main import main

    done = CliRunner().invoke(main, ["export"], env={"ANGELON_HOME": str(home)})
    assert done.exit_code == 1
    assert said in done.output
    assert done.output.startswith("Error: ")


@pytest.mark.parametrize(
    "text",
    [
        "{" * 3000,
        "- " * 50_000,
        "a: " + "9" * 100_000,
        "store: " + "[" * 3000,
        "\x00",
        "a: !!python/object:os.system x",
        json.dumps({"angelon": 1, "store": {"key": "x" * 5000}}),
    ],
)
def test_a_hostile_bundle_is_a_sentence(tmp_path, text):
    (tmp_path / "bundle.yaml").write_text(text)
    from click.testing import CliRunner

    from angelon.cli.main import main

    done = CliRunner().invoke(
        main, ["apply", str(tmp_path / "bundle.yaml")], env={"ANGELON_HOME": str(tmp_path / "home")}
    )
    assert done.exit_code == 1
    assert done.output.startswith("Error: ")


def test_a_page_that_fails_in_its_middle_lets_go_of_its_connection():
    """Even where somebody keeps the error: whoever reads must not wait for the rest for ever."""
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, daemon=True).start()

    class Stream:
        async def send_bytes(self, piece):
            sent.append(piece)

    class Protocol:
        def response_stream(self, status, headers):
            made = Stream()
            streams.append(weakref.ref(made))
            return made

    def pieces():
        yield b"begun"
        failed = RuntimeError("in the middle")
        kept.append(failed)
        raise failed

    sent, kept, streams = [], [], []
    server = RsgiServer(None, None, None, None, None)
    server.__rsgi_init__(loop)
    server._write(200, [], pieces(), Protocol())
    loop.call_soon_threadsafe(loop.stop)
    assert sent == [b"begun"]
    assert kept[0].__traceback__ is not None
    assert streams[0]() is None, "the stream is still held"


def test_a_body_that_does_not_come_is_waited_for_no_longer_than_its_time(web):
    """It was begun with the server, while the tests above went on."""
    answer, took = web.unfinished.result(30)
    assert b" 408 " in answer
    assert 8 < took < 20


def test_guesses_are_turned_away_before_a_thread_is_taken_and_an_own_link_is_opened(web):
    ways = ("/a/{0:019}-{0:012}", "/w/{0:019}-{0:012}", "/p/{0:040}")
    own = Links(Vault("a-key-for-tests-only")).why_token("sd-0000000000000000000")
    with httpx.Client(base_url=web.url, headers={"angelon.let_in": "1", "angelon-let-in": "1"}) as client:
        assert client.get("/a/0000-0000").status_code == 404
        answers = [client.get(ways[number % 3].format(number)) for number in range(90)]
        assert {answer.status_code for answer in answers[-15:]} <= {429, 404}
        refused = [answer for answer in answers if answer.status_code == 429]
        assert len(refused) > 10
        assert int(refused[-1].headers["retry-after"]) >= 1
        assert "Wait a moment" in refused[-1].text
        assert client.get(f"/w/{own}").status_code == 404, "its send is gone, but who holds a link is never refused"
        assert client.get("/").status_code == 200
