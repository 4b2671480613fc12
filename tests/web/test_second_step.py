"""The second step of signing in, and signing in by an identity provider: the real protocol against the stand-in."""

import re
import time
from email import message_from_bytes
from urllib.parse import parse_qs, urlsplit

import httpx
import pyotp
import pytest

from angelon.engine.operations import accounts as operations
from angelon.engine.operations import second_step
from angelon.standins import identity
from angelon.standins.providers import Providers
from angelon.web.access.views import tries
from tests.web.test_access import PASSWORD, account, fresh, other_browser, sign_in  # noqa: F401 - a fixture
from tests.web.test_pages import text


def code_of(secret, bench, steps=0):
    return pyotp.TOTP(secret).at(bench.clock.now(), counter_offset=steps)


@pytest.fixture
def stepped(client, bench):
    """An account with its second step on: its secret and its recovery codes."""
    account(bench)
    sign_in(client)
    client.post("/account/second-step", data={"password": PASSWORD})
    page = client.get("/account").get_data(as_text=True)
    assert "<svg" in page
    secret = re.search(r"<code>([A-Z2-7]{32})</code>", page)[1]
    wrong = client.post("/account/second-step/confirm", data={"code": "000000"})
    assert (wrong.status_code, "The code does not fit." in text(wrong)) == (422, True)
    done = client.post("/account/second-step/confirm", data={"code": code_of(secret, bench, -1)})
    codes = re.findall(r"<li>([0-9a-f-]{14})</li>", done.get_data(as_text=True))
    assert len(codes) == 8
    assert secret not in client.get("/account").get_data(as_text=True), "it is never shown again"
    assert secret not in str(bench.rows("SELECT * FROM account")) + str(bench.rows("SELECT sealed FROM secret"))
    return secret, codes


def begin(client):
    browser = other_browser(client)
    led = sign_in(browser, next="/orders")
    assert led.headers["Location"] == "/sign-in/second?next=/orders"
    assert browser.get("/orders").status_code == 302, "the password alone lets nobody in"
    return browser


def test_after_the_password_a_code_is_asked_for_and_none_is_good_twice(client, bench, stepped):
    secret, _ = stepped
    browser, code = begin(client), code_of(secret, bench)
    done = browser.post("/sign-in/second", data={"code": f" {code[:3]} {code[3:]} ", "next": "/orders"})
    assert done.headers["Location"] == "/orders"
    assert browser.get("/orders").status_code == 200
    again = begin(client).post("/sign-in/second", data={"code": code})
    assert (again.status_code, "The code does not fit." in text(again)) == (401, True)


def test_a_recovery_code_lets_in_once(client, bench, stepped):
    _, codes = stepped
    assert begin(client).post("/sign-in/second", data={"code": codes[3].upper()}).status_code == 302
    assert begin(client).post("/sign-in/second", data={"code": codes[3]}).status_code == 401
    assert "7 recovery codes left" in text(client.get("/account"))


def test_wrong_codes_lock_the_account_and_a_late_one_is_asked_for_the_password_again(client, bench, stepped):
    secret, _ = stepped
    browser = begin(client)
    for _ in range(5):
        tries._left.clear()
        assert browser.post("/sign-in/second", data={"code": "123456"}).status_code == 401
    tries._left.clear()
    assert browser.post("/sign-in/second", data={"code": code_of(secret, bench)}).status_code == 401
    stranger = other_browser(client)
    led = stranger.post("/sign-in/second", data={"code": code_of(secret, bench)}, follow_redirects=True)
    assert "Sign in again." in text(led)


def test_it_is_turned_off_by_a_code_or_by_another_owner(client, bench, stepped):
    secret, _ = stepped
    assert client.post("/account/second-step/off", data={"code": "1"}).status_code == 422
    assert client.post("/account/second-step/off", data={"code": code_of(secret, bench)}).status_code == 302
    assert sign_in(other_browser(client)).headers["Location"] == "/"
    client.post("/account/second-step", data={"password": PASSWORD})
    with bench.database.reading() as session:
        other = second_step.pending(bench.services.installation, session, 1)
    client.post("/account/second-step/confirm", data={"code": code_of(other, bench)})
    account(bench, "owner", "tomas@example.com", "Tomas")
    owner = other_browser(client)
    sign_in(owner, "tomas@example.com")
    done = owner.post("/accounts/1", data={"act": "second-step-off"}, follow_redirects=True)
    assert "Their second step is off" in text(done)
    assert sign_in(other_browser(client)).headers["Location"] == "/"


# ---- an identity provider


@pytest.fixture
def provider(bench, client):
    server = Providers(bench.box)
    server.start()
    settings = bench.services.settings
    settings.oidc_issuer = f"http://127.0.0.1:{server.port}/identity"
    settings.oidc_client_id, settings.oidc_client_secret = "angelon", "s3cret"
    settings.oidc_name = "Brackwater"
    yield server
    server.stop()


def by_provider(client, who, change=lambda address: address):
    """Goes to the provider and comes back as somebody; gives where that leads."""
    led = client.get("/sign-in/provider?next=/orders")
    asked = parse_qs(urlsplit(led.headers["Location"]).query)
    assert asked["code_challenge_method"] == ["S256"]
    answered = httpx.get(led.headers["Location"], params={**{k: v[0] for k, v in asked.items()}, "as": who})
    back = urlsplit(change(answered.headers["Location"]))
    return client.get(f"{back.path}?{back.query}")


def test_who_has_an_account_or_an_invitation_is_signed_in_by_the_provider(client, bench, provider):
    account(bench, email="nuala@brackwater.example")
    assert "Sign in with" in text(client.get("/sign-in"))
    browser = other_browser(client)
    assert by_provider(browser, "nuala@brackwater.example").headers["Location"] == "/orders"
    assert browser.get("/account").status_code == 200
    operations.make_invitation(bench.services.installation, "tomas@brackwater.example", "writer", "Nuala")
    second = other_browser(client)
    assert by_provider(second, "tomas@brackwater.example").headers["Location"] == "/orders"
    assert "writer" in text(second.get("/account"))
    third = other_browser(client)
    assert by_provider(third, "stranger@example.net").headers["Location"] == "/sign-in"
    assert "There is no account for stranger@example.net." in text(third.get("/sign-in"))


def test_a_provider_that_signs_by_a_new_key_is_asked_for_it(client, bench, provider):
    account(bench, email="nuala@brackwater.example")
    assert by_provider(other_browser(client), "nuala@brackwater.example").headers["Location"] == "/orders"
    identity._key.cache_clear()
    assert by_provider(other_browser(client), "nuala@brackwater.example").headers["Location"] == "/orders"


FAULTS = [
    *("forged", "expired", "replayed", "other audience", "not verified"),
    *("more audiences", "other party", "odd subject", "endless", "packed"),
]


def test_an_audience_in_a_list_is_ours_and_another_subject_with_the_same_address_is_nobody(client, bench, provider):
    account(bench, email="nuala@brackwater.example")
    bench.box.set("identity_fault", "one in a list")
    assert by_provider(other_browser(client), "nuala@brackwater.example").headers["Location"] == "/orders"
    bench.box.set("identity_fault", "other subject")
    refused = other_browser(client)
    assert by_provider(refused, "nuala@brackwater.example").headers["Location"] == "/sign-in"
    assert "may not sign in so" in text(refused.get("/sign-in"))


@pytest.mark.parametrize("fault", FAULTS)
def test_an_answer_that_is_not_right_signs_nobody_in(client, bench, provider, fault):
    account(bench, email="nuala@brackwater.example")
    bench.box.set("identity_fault", fault)
    assert by_provider(client, "nuala@brackwater.example").headers["Location"] == "/sign-in"
    page = text(client.get("/sign-in"))
    assert re.search("not valid|has not verified|can.t be asked", page), page
    assert client.get("/orders").status_code == 302


def test_an_answer_to_another_browser_s_question_signs_nobody_in(client, bench, provider):
    account(bench, email="nuala@brackwater.example")
    victim = other_browser(client)
    led = by_provider(client, "nuala@brackwater.example", lambda url: url.replace("state=", "state=x"))
    assert led.headers["Location"] == "/sign-in"
    assert victim.get("/sign-in/provider/back?code=1&state=2").headers["Location"] == "/sign-in"


def test_a_provider_that_is_not_there_is_told_and_a_password_still_does(client, bench, provider):
    account(bench, email="nuala@brackwater.example")
    bench.services.settings.oidc_issuer = "http://127.0.0.1:9"
    page = client.get("/sign-in/provider", follow_redirects=True)
    assert "can't be asked" in page.get_data(as_text=True).replace("&#39;", "'")
    assert sign_in(client, "nuala@brackwater.example").headers["Location"] == "/"


def test_the_demo_is_shown_as_each_role_and_nothing_else_is(client, bench):
    assert client.post("/sign-in/demo", data={"role": "viewer"}).status_code == 404
    bench.services.settings.demo = True
    client.post("/sign-in/demo", data={"role": "viewer"})
    assert client.get("/orders").status_code == 200
    assert client.get("/sources").status_code == 403
    client.post("/sign-in/demo", data={"role": "owner"})
    assert client.get("/sources").status_code == 200
    account(bench)
    assert client.get("/sources").status_code == 302


def test_a_stolen_session_can_t_put_another_second_step_in_its_place(client, bench, stepped):
    """Neither without the password nor, where there is one, without a code of it; and guesses are counted."""
    taken = client.post("/account/second-step", data={"password": PASSWORD})
    assert taken.status_code == 422
    assert "Turn it off first" in text(taken)
    for _ in range(5):
        assert client.post("/account/second-step/off", data={"code": "123456"}).status_code == 422
    right = client.post("/account/second-step/off", data={"code": code_of(stepped[0], bench)})
    assert "After five wrong tries, wait" in text(right)
    assert bench.rows("SELECT second_step FROM account") == [(1,)]
    assert begin(client).post("/sign-in/second", data={"code": code_of(stepped[0], bench)}).status_code == 302


def test_setting_it_up_asks_for_the_password(client, bench):
    account(bench)
    sign_in(client)
    wrong = client.post("/account/second-step", data={"password": "not it at all"})
    assert wrong.status_code == 422
    assert "That is not your password" in text(wrong)
    with bench.database.reading() as session:
        assert second_step.pending(bench.services.installation, session, 1) == ""
    for _ in range(4):
        client.post("/account/password", data={"old": "not it at all", "new": "something quite else"})
    held = client.post("/account/password", data={"old": PASSWORD, "new": "something quite else"})
    assert "After five wrong tries, wait" in text(held)
    assert sign_in(other_browser(client)).status_code == 302, "who has the session has not locked its owner out"


def told(bench, number):
    """The subjects of mails, once there are so many."""
    until = time.monotonic() + 20
    while len(bench.box.mails()) < number and time.monotonic() < until:
        time.sleep(0.05)
    return {(one["To"], one["Subject"]) for one in (message_from_bytes(row.raw) for row in bench.box.mails())}


def test_who_has_another_password_or_second_step_is_told_by_mail(client, bench, mailbox, stepped):
    secret, _ = stepped
    client.post("/account/password", data={"old": PASSWORD, "new": "four blue lanterns"})
    client.post("/account/second-step/off", data={"code": code_of(secret, bench)})
    assert told(bench, 3) == {
        ("nuala@example.com", "A second step of signing in was set up for your account."),
        ("nuala@example.com", "Your password was changed."),
        ("nuala@example.com", "The second step of signing in was turned off for your account."),
    }


def test_where_no_mail_can_go_out_the_password_is_changed_all_the_same(client, bench):
    account(bench)
    sign_in(client)
    assert client.post("/account/password", data={"old": PASSWORD, "new": "four blue lanterns"}).status_code == 302
    assert sign_in(other_browser(client), password="four blue lanterns").status_code == 302
