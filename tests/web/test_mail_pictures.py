"""Pictures of mails from elsewhere: fetched by the server through the guard, shown or explained, never passed on."""

import http.server
import threading

import pytest

from angelon.db.tables import StoreRow
from angelon.web import mail_pictures

PNG = b"\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x02\x00\x00\x00" + b"\x00" * 60


@pytest.fixture
def site():
    asked = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            asked.append(self.path)
            body = {"/a.png": PNG, "/big": PNG + b"x" * 4_000_000}.get(self.path, b"<script>alert(1)</script>")
            self.send_response(200)
            self.send_header("Content-Type", "image/png")
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}", asked
    server.shutdown()


@pytest.fixture
def allowed(bench):
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = {**row.spec, "private_hosts": ["127.0.0.1"]}
        row.version += 1
    bench.services.setups.forget()
    mail_pictures._pictures = mail_pictures.Pictures()


def test_a_picture_is_fetched_once_and_shown(client, site, allowed):
    base, asked = site
    for _ in range(2):
        answer = client.get("/mail-picture", query_string={"src": f"{base}/a.png"})
        assert (answer.status_code, answer.mimetype, answer.data) == (200, "image/png", PNG)
    assert asked == ["/a.png"]


def test_what_is_inside_the_house_is_not_fetched(client, site):
    base, asked = site
    answer = client.get("/mail-picture", query_string={"src": f"{base}/a.png"})
    assert answer.mimetype == "image/svg+xml"
    assert "is not fetched from" in answer.get_data(as_text=True)
    assert asked == []


@pytest.mark.parametrize(
    ("path", "why"), [("/page", "is no PNG"), ("/big", "larger than 3.0 MB"), (None, "is no web address")]
)
def test_what_is_no_picture_is_drawn_with_why(client, site, allowed, path, why):
    base, _ = site
    src = base + path if path else "javascript:alert(1)"
    answer = client.get("/mail-picture", query_string={"src": src})
    said = " ".join(answer.get_data(as_text=True).replace('</tspan><tspan x="16" dy="1.5em">', " ").split())
    assert answer.mimetype == "image/svg+xml"
    assert why in said
    assert "<script" not in said
    assert "sandbox" in answer.headers["Content-Security-Policy"]


def test_no_other_site_has_pictures_fetched(client, site, allowed):
    base, asked = site
    query = {"src": f"{base}/a.png"}
    assert client.get("/mail-picture", query_string=query, headers={"Sec-Fetch-Site": "cross-site"}).status_code == 403
    assert asked == []
