"""Who may do what: the first owner, signing in, invitations, roles against every address, masks, and what is tried."""

import datetime as dt
import re

import pytest

from angelon.core.access import PARTS, PUBLIC, RANK, ROLES, may
from angelon.core.addresses import network_of
from angelon.core.masking import masked
from angelon.db.tables import StoreRow
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import accounts as operations
from angelon.web import services
from angelon.web.access.guard import OPEN
from angelon.web.access.views import tries
from angelon.web.app import create_app
from tests.web.test_pages import post, text

PASSWORD = "three green lanterns"


@pytest.fixture(autouse=True)
def fresh():
    tries._left.clear()


def account(bench, role="owner", email="nuala@example.com", name="Nuala"):
    kept = operations.hashed(PASSWORD, email)
    with bench.database.writing() as session:
        row = operations.create(session, email, name, kept, role, bench.clock.now())
        return row.id


def sign_in(client, email="nuala@example.com", password=PASSWORD, **more):
    return client.post("/sign-in", data={"email": email, "password": password, **more})


def other_browser(client):
    return client.application.test_client()


def public_name(bench):
    """The shop is reached under a name of its own."""
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = {**row.spec, "base_url": "https://angelon.example"}
        row.version += 1
    bench.services.setups.forget()
    return {"base_url": "https://angelon.example"}


def test_without_accounts_this_machine_does_all_and_elsewhere_nothing_is_shown(client, bench):
    assert client.get("/orders").status_code == 200
    there = public_name(bench)
    for address in ("/", "/orders", "/sources/shop/connect", "/settings/tokens", "/api"):
        led = client.get(address, **there)
        assert (led.status_code, led.headers["Location"]) == (302, "/sign-in/first"), address
    assert client.post("/sources", data={"name": "x"}, **there).status_code == 302
    assert client.get("/orders", headers={"X-Forwarded-For": "203.0.113.9"}).status_code == 302
    page = text(client.get("/sign-in/first", **there))
    assert "first-owner.code" in page
    given = {"name": "Nuala", "email": "nuala@example.com", "password": PASSWORD}
    refused = client.post("/sign-in/first", data={**given, "code": "0000"}, **there)
    assert refused.status_code == 422
    assert "That is not the code." in text(refused)
    code = (bench.home / "first-owner.code").read_text()
    assert (bench.home / "first-owner.code").stat().st_mode & 0o077 == 0
    made = client.post("/sign-in/first", data={**given, "code": code}, **there)
    assert made.headers["Location"] == "/accounts"
    assert not (bench.home / "first-owner.code").exists()
    assert client.post("/sign-in/first", data={**given, "email": "b@example.com"}).status_code == 422


def test_the_first_owner_may_come_by_an_invitation_that_was_made_on_the_machine(client, bench):
    there, installation = public_name(bench), bench.services.installation
    assert client.get("/sign-in/join/nonsense", **there).status_code == 404
    secret = operations.make_invitation(installation, "other@example.com", "developer", "this machine")
    own = {"name": "Nuala", "password": PASSWORD}
    refused = client.post(f"/sign-in/join/{secret}", data=own, **there)
    assert "The first one has to be an owner’s." in text(refused)
    secret = operations.make_invitation(installation, "nuala@example.com", "owner", "this machine")
    assert "nuala@example.com" in text(client.get(f"/sign-in/join/{secret}", **there))
    assert client.post(f"/sign-in/join/{secret}", data=own, **there).headers["Location"] == "/"
    assert client.get("/orders", **there).status_code == 200


def test_once_there_is_an_owner_everybody_signs_in_this_machine_too(client, bench):
    assert "Without accounts, everybody who works on" in text(client.get("/accounts", follow_redirects=True))
    client.post("/sign-in/first", data={"name": "Nuala", "email": "Nuala@Example.com", "password": PASSWORD})
    assert "From now on everybody signs in" in text(client.get("/accounts"))
    stranger = other_browser(client)
    assert stranger.get("/orders?words=a").headers["Location"] == "/sign-in?next=/orders%3Fwords%3Da"
    assert stranger.post("/messages", data={"name": "x"}).status_code == 401
    assert stranger.get("/healthz").status_code == 200
    assert post(stranger).status_code == 202  # deliveries are signed, not signed in
    back = sign_in(stranger, "NUALA@example.com", next="/orders?words=a")
    assert back.headers["Location"] == "/orders?words=a"
    assert stranger.get("/orders").status_code == 200
    stranger.post("/sign-in/out")
    assert stranger.get("/orders").status_code == 302


@pytest.mark.parametrize(
    "to", ["//evil.example", "https://evil.example", "/\\evil.example", "javascript:alert(1)", "/a\nb", "\\\\evil"]
)
def test_signing_in_leads_to_no_other_site(client, bench, to):
    account(bench)
    assert sign_in(client, next=to).headers["Location"] == "/"


def test_wrong_passwords_lock_the_account_for_a_while_and_tell_nothing(client, bench):
    account(bench)
    wrong = [sign_in(client, password=f"wrong {n}") for n in range(5)]
    unknown = sign_in(client, "nobody@example.com")
    assert {one.status_code for one in (*wrong, unknown)} == {401}
    assert text(unknown).replace("nobody", "nuala") == text(wrong[0])
    assert sign_in(client).status_code == 401  # the right one, while it is locked
    later = bench.clock.now() + dt.timedelta(minutes=16)
    bench.clock.now = lambda: later
    assert sign_in(client).status_code == 302


def at(client, peer, **more):
    """Signs in from an address."""
    return client.post("/sign-in", data={"email": "nuala@example.com", **more}, environ_base={"REMOTE_ADDR": peer})


def test_one_stranger_locks_nobody_out_and_many_not_a_browser_that_is_known(client, bench):
    account(bench)
    home, work, stranger = client, other_browser(client), other_browser(client)
    assert at(home, "127.0.0.1", password=PASSWORD).status_code == 302
    for n in range(9):
        assert at(stranger, "127.0.0.9", password=f"guess {n}").status_code == 401
    assert at(stranger, "127.0.0.9", password=PASSWORD).status_code == 401, "has guessed it, and is held up"
    assert at(work, "127.0.0.7", password=PASSWORD).status_code == 302, "from elsewhere it is let in"
    home.post("/sign-in/out")
    for n in range(60):
        tries._left.clear()
        assert at(stranger, f"127.0.1.{n}", password=f"guess {n}").status_code == 401
    tries._left.clear()
    assert at(stranger, "127.0.2.1", password=PASSWORD).status_code == 401, "strangers together are held up"
    assert at(home, "127.0.0.1", password=PASSWORD).status_code == 302, "who was signed in before is not"


def test_wrong_tries_are_counted_for_all_processes_and_forgotten_after_a_day(client, bench):
    account(bench)
    for n in range(5):
        at(client, "127.0.0.9", password=f"guess {n}")
    other = create_app(services.make(bench.settings, bench.database, bench.clock)).test_client()
    other.application.config["WTF_CSRF_ENABLED"] = False
    assert at(other, "127.0.0.9", password=PASSWORD).status_code == 401
    assert bench.rows("SELECT count(*) FROM allowance") == [(2,)]
    later = bench.clock.now() + dt.timedelta(days=2)
    bench.clock.now = lambda: later
    Housekeeper(bench.database, bench.services.setups, bench.clock).look()
    assert bench.rows("SELECT count(*) FROM allowance") == [(0,)]


@pytest.mark.parametrize(
    ("address", "network"),
    [
        ("192.0.2.7", "192.0.2.7"),
        ("::ffff:192.0.2.7", "192.0.2.7"),
        ("2001:db8:1:2:3:4:5:6", "2001:db8:1:2::/64"),
        ("2001:db8:1:2::", "2001:db8:1:2::/64"),
        ("unix:", "unix:"),
    ],
)
def test_who_asks_is_an_address_or_the_network_of_a_household(address, network):
    assert network_of(address) == network


def test_too_many_tries_from_one_address_are_slowed_down(client, bench):
    answers = [sign_in(client, f"{n}@example.com") for n in range(12)]
    assert answers[-1].status_code == 429
    assert int(answers[-1].headers["Retry-After"]) >= 1


def test_a_session_is_new_when_somebody_signs_in_and_can_be_ended_from_elsewhere(client, bench):
    account(bench)
    client.get("/sign-in")
    planted = client.get_cookie("angelon")
    sign_in(client)
    assert planted is None or client.get_cookie("angelon").value != planted.value
    second = other_browser(client)
    sign_in(second)
    page = client.get("/account").get_data(as_text=True)
    (other,) = re.findall(r"/account/browsers/(\d+)/sign-out", page)
    client.post(f"/account/browsers/{other}/sign-out")
    assert second.get("/orders").status_code == 302
    assert client.get("/orders").status_code == 200
    sign_in(second)
    assert client.post("/account/password", data={"old": "x", "new": "another long one"}).status_code == 422
    client.post("/account/password", data={"old": PASSWORD, "new": "another long one"})
    assert second.get("/orders").status_code == 302
    assert client.get("/orders").status_code == 200
    long_after = bench.clock.now() + dt.timedelta(days=15)
    bench.clock.now = lambda: long_after
    assert client.get("/orders").status_code == 302


def test_an_invitation_is_taken_up_once_and_gives_its_role(client, bench):
    account(bench)
    sign_in(client)
    page = client.post("/accounts/invite", data={"email": "tomas@example.com", "role": "writer"})
    link = re.search(r"http://localhost(/sign-in/join/[\w-]+)", page.get_data(as_text=True))[1]
    assert "<strong>Kites</strong>" in page.get_data(as_text=True)  # the shop's name stands above it
    assert link not in client.get("/accounts").get_data(as_text=True)
    guest = other_browser(client)
    assert "invites tomas@example.com as writer" in text(guest.get(link))
    short = guest.post(link, data={"name": "Tomas", "password": "short"})
    assert short.status_code == 422
    assert "has 5 characters" in text(short)
    guest.post(link, data={"name": "Tomas", "password": PASSWORD})
    assert guest.get("/messages").status_code == 200
    assert guest.get(link).status_code == 404
    assert guest.get("/sources").status_code == 403
    assert "Your role, writer, may not see this" in text(guest.get("/sources"))
    assert "Sources" not in re.search(r'<nav class="rail".*?</nav>', guest.get("/").get_data(as_text=True), re.S)[0]
    guest.post("/messages", data={"name": "By Tomas"})
    assert bench.rows("""SELECT actor FROM "change" WHERE kind = 'message'""") == [("Tomas",)]
    assert "joined" in text(client.get("/changes?kind=account"))


def test_an_error_shows_a_stranger_nothing_of_the_shop(client, bench):
    account(bench)
    for page in (client.get("/sign-in/join/nonsense"), client.post("/orders"), client.get("/no-such-page")):
        assert page.status_code in (401, 404, 405), page.status_code
        assert "Suppressions" not in text(page), "the menu"
        assert "Kites" not in text(page)
    sign_in(client)
    missing = client.get("/sends/999999999")
    assert missing.status_code == 404
    assert "Suppressions" in text(missing), "who is signed in keeps the menu"


def test_a_role_counts_at_once_and_the_last_owner_stays(client, bench):
    nuala = account(bench)
    tomas = account(bench, "developer", "tomas@example.com", "Tomas")
    sign_in(client)
    guest = other_browser(client)
    sign_in(guest, "tomas@example.com")
    assert guest.get("/sources").status_code == 200
    told = client.post(f"/accounts/{nuala}", data={"role": "viewer"}, follow_redirects=True)
    assert "Nuala is the only owner." in text(told)
    client.post(f"/accounts/{tomas}", data={"role": "viewer"})
    assert guest.get("/sources").status_code == 403
    client.post(f"/accounts/{tomas}", data={"act": "disable"})
    assert guest.get("/orders").status_code == 302
    assert sign_in(guest, "tomas@example.com").status_code == 401
    client.post(f"/accounts/{tomas}", data={"act": "enable"})
    assert sign_in(guest, "tomas@example.com").status_code == 302
    assert "only owner" in text(client.post(f"/accounts/{nuala}", data={"act": "disable"}, follow_redirects=True))


@pytest.mark.parametrize("role", ROLES)
def test_every_address_is_for_the_roles_that_the_table_says(client, bench, role):
    account(bench)
    account(bench, role, f"{role}@example.com", role)
    sign_in(client, f"{role}@example.com")
    seen = 0
    for rule in client.application.url_map.iter_rules():
        part = rule.endpoint.split(".")[0]
        assert part in PARTS or part in PUBLIC or part in OPEN, f"{rule.endpoint} has no row in core/access.py"
        if part not in PARTS or rule.endpoint.endswith((".live", ".password", ".end_browser")):
            continue
        values = {name: "1" if type(one).__name__ == "RowId" else "x" for name, one in rule._converters.items()}
        path = rule.build(values)[1]
        for method in rule.methods & {"GET", "POST"}:
            answer = client.open(path, method=method, buffered=True)
            forbidden = answer.status_code == 403 and "Your role" in text(answer)
            assert forbidden is not may(role, part, method == "POST"), (rule.endpoint, method, answer.status_code)
            seen += 1
    assert seen > 150


def test_what_each_role_may_a_higher_one_may_too():
    for part in PARTS:
        for changing in (False, True):
            allowed = [RANK[role] for role in ROLES if may(role, part, changing)]
            assert sorted(allowed) == list(range(min(allowed), 4))
    assert not may("owner", "a_part_without_a_row", False)
    assert not may("nobody", "orders", False)


def test_a_watcher_sees_no_contact_details(client, bench):
    post(client)
    bench.plan()
    account(bench, "owner")
    account(bench, "viewer", "w@example.com", "W")
    sign_in(client)
    assert "joerg@example.org" in client.get("/orders/1").get_data(as_text=True)
    guest = other_browser(client)
    sign_in(guest, "w@example.com")
    for address in ("/orders", "/orders/1", "/sends", "/messages/received", "/"):
        page = guest.get(address).get_data(as_text=True)
        assert "joerg@example.org" not in page, address
        assert "@example" not in page, address
    assert "j…@…" in guest.get("/orders/1").get_data(as_text=True)
    assert 'class="looks-only"' in guest.get("/orders/1").get_data(as_text=True)
    assert 'class="looks-only"' not in client.get("/orders/1").get_data(as_text=True)


@pytest.mark.parametrize(
    ("said", "shown"),
    [
        ("to joe.b+x@mail.example.org.", "to j…@…."),
        ("+353 20 915 1234 rang", "+…34 rang"),
        ("1 + 2 and BK-2041 at 10:30", "1 + 2 and BK-2041 at 10:30"),
        ("a@b", "a@b"),
    ],
)
def test_masks(said, shown):
    assert masked(said) == shown
