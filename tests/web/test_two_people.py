"""Two people who edit the same thing over HTTP, the list of changes, and mails as they went."""

import html
import re

import pytest

from tests import made

FORM = {
    "name": "Mailroom",
    "host": "127.0.0.1",
    "port": "2525",
    "tls": "none",
    "timeout_seconds": "20",
    "sender.address": "orders@kites.example",
}


def opened(client):
    (edits,) = re.findall(r'name="edits"\s+value="(\d+)"', client.get("/gateways/mailroom").text)
    return edits


def words(answer):
    return " ".join(html.unescape(re.sub(r"<[^>]+>", " ", answer.get_data(as_text=True))).split())


def test_who_saves_second_sees_both_versions_and_may_put_theirs_in_its_place(client, bench):
    mine = theirs = opened(client)
    done = client.post("/gateways/mailroom", data=FORM | {"edits": theirs, "name": "Ann's mailroom"})
    assert done.status_code == 302, words(done)
    told = client.post("/gateways/mailroom", data=FORM | {"edits": mine, "name": "Jo's mailroom"})
    assert told.status_code == 409
    assert "Somebody else changed this meanwhile" in words(told)
    assert "name Ann's mailroom Jo's mailroom" in words(told), "field, as saved, as they have it"
    assert "Ann's mailroom" in words(client.get("/gateways/mailroom")), "nothing was overwritten"
    body = told.get_data(as_text=True)
    form = body[body.index("<form", body.index("</table>")) :]
    again = {
        name: html.unescape(value)
        for name, value in re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', form)
        if name != "csrf_token"
    }
    assert again["name"] == "Jo's mailroom"
    assert again["sender.address"] == FORM["sender.address"], "what was typed travels along"
    assert client.post("/gateways/mailroom", data=again).status_code == 302
    assert "Jo's mailroom" in words(client.get("/gateways/mailroom"))


def test_a_double_click_on_save_is_no_conflict_of_one_with_oneself(client):
    edits = opened(client)
    first = client.post("/gateways/mailroom", data=FORM | {"edits": edits, "name": "Twice"})
    second = client.post("/gateways/mailroom", data=FORM | {"edits": edits, "name": "Twice"})
    assert first.status_code == 302
    assert second.status_code == 302


def test_changes_are_listed_with_what_was_and_what_is(client):
    client.post("/gateways/mailroom", data=FORM | {"edits": opened(client), "name": "Post room"})
    listed = words(client.get("/changes"))
    assert "this machine" in listed
    assert "Post room" in listed
    assert "Post room" in words(client.get("/changes?kind=gateway&key=mailroom"))
    assert "Post room" not in words(client.get("/changes?kind=route"))


def test_a_mail_is_downloaded_byte_for_byte_as_the_server_got_it(client, bench, mailbox):
    for number in range(3):
        bench.deliver(made.body(id=number, buyer={"name": "Jörg", "email": f"p{number}@example.org"}))
    bench.plan()
    bench.dispatcher().run_batch()
    got = {mail.rcpt_to: mail.raw for mail in bench.box.mails(9)}
    assert len(got) == 3
    for send_id, to in bench.rows("SELECT id, recipient FROM send"):
        downloaded = client.get(f"/sends/{send_id}.eml").data
        assert downloaded.replace(b"\r\n", b"\n").strip() == got[to].replace(b"\r\n", b"\n").strip()


@pytest.mark.parametrize("field", ["port", "sender.address"])
def test_a_bad_value_is_told_and_what_was_typed_stays(client, field):
    answer = client.post("/gateways/mailroom", data=FORM | {"edits": opened(client), field: "much", "name": "Typed"})
    assert answer.status_code in (200, 422)
    assert "Typed" in answer.get_data(as_text=True)
    assert "Typed" not in words(client.get("/gateways"))
