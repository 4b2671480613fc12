"""Many sends at once: by ticks, by filter and cause; a corrected address; what is out, once more."""

import re

import pytest

from angelon.core.sending.causes import general
from angelon.db.log import sends
from angelon.db.log.sends import Filter
from angelon.db.people import suppressions
from tests import made
from tests.web.test_pages import post, text


@pytest.mark.parametrize(
    ("reason", "told"),
    [
        ("550 5.1.1 <jo@example.org>: no such mailbox", "550 5.1.1 <…>: no such mailbox"),
        ("It has no usable phone: “12-34” is no number.", "It has no usable phone: … is no number."),
        ("Order BK-2041 queued as 4F7A9C01 at 12:31", "Order … queued as … at …"),
        ("The mailbox is full.", "The mailbox is full."),
        ("", ""),
    ],
)
def test_a_reason_is_told_without_what_is_one_send_s_own(reason, told):
    assert general(reason) == told
    assert general(general(reason)) == general(reason)


def stuck(bench, client, number, state="failed", reason="550 5.1.1 <{to}>: no such mailbox"):
    """So many sends, each to somebody else, that need attention."""
    for one in range(number):
        buyer = {"name": "Jo", "email": f"q{one}@example.org"}
        post(client, made.body(id=one, reference=f"BK-{one}", buyer=buyer))
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            f"UPDATE send SET state = '{state}', reason = replace(?, '{{to}}', recipient), settled_at = due_at",
            (reason,),
        )
    return [row[0] for row in bench.rows("SELECT id FROM send ORDER BY id")]


def states(bench):
    return dict(bench.rows("SELECT state, count(*) FROM send GROUP BY state"))


def test_what_needs_attention_is_grouped_by_cause_and_mended_by_one_action(client, bench):
    stuck(bench, client, 20)
    page = text(client.get("/sends"))
    assert "20 sends need attention" in page
    assert "20 × 550 5.1.1 <…>: no such mailbox" in page
    cause = {"state": "failed", "cause": "550 5.1.1 <…>: no such mailbox", "span": "all"}
    assert "all 20 that the filter shows" in text(client.get("/sends", query_string=cause))
    done = client.post("/sends/bulk", data={**cause, "all": "yes", "act": "retry"}, follow_redirects=True)
    assert "20 sends are on the way again." in text(done)
    assert states(bench) == {"scheduled": 20}
    assert [(row[0], row[1]) for row in bench.rows("SELECT action, key FROM change WHERE kind = 'sends'")] == []
    assert len(bench.rows("SELECT id FROM change WHERE action = 'sent again'")) == 20


def test_ticked_ones_alone_are_moved_and_those_that_moved_on_are_told(client, bench):
    ids = stuck(bench, client, 4)
    done = client.post("/sends/bulk", data={"send": ids[:2], "act": "cancel"}, follow_redirects=True)
    assert "2 sends are cancelled." in text(done)
    assert states(bench) == {"cancelled": 2, "failed": 2}
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'sending' WHERE id = ?", (ids[3],))
    done = client.post("/sends/bulk", data={"send": ids[2:], "act": "retry"}, follow_redirects=True)
    assert "1 send is on the way again. 1 had moved on meanwhile." in text(done)


def test_what_a_guard_stopped_is_sent_by_filter_only_where_the_filter_says_so(client, bench):
    stuck(bench, client, 3, "skipped", "It had been said before.")
    client.post("/sends/bulk", data={"all": "yes", "act": "retry", "span": "all"})
    assert states(bench) == {"skipped": 3}
    client.post("/sends/bulk", data={"all": "yes", "act": "retry", "span": "all", "state": "skipped"})
    assert states(bench) == {"scheduled": 3}


def test_a_part_at_a_time_reaches_all_of_them(client, bench):
    stuck(bench, client, 7)
    with bench.database.writing() as session:
        wanted = Filter(states=("failed",))
        allowed = tuple(sends.State)
        first = sends.matching(session, bench.store_id, wanted, allowed, "", 5)
        rest = sends.matching(session, bench.store_id, wanted, allowed, first[-1], 5)
    assert (len(first), len(rest)) == (5, 2)
    told = client.post("/sends/bulk", data={"all": "yes", "act": "retry", "span": "all"}, headers={"X-Fragment": "1"})
    assert told.json == {"seen": 7, "moved": 7, "next": ""}
    assert client.post("/sends/bulk", data={"all": "yes", "act": "explode"}).status_code == 400


def test_an_address_is_corrected_for_one_or_all_of_a_person_s_sends(client, bench):
    ids = stuck(bench, client, 3)
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET recipient = 'wrong@example.org'")
        connection.exec_driver_sql("UPDATE send SET state = 'sent' WHERE id = ?", (ids[2],))
    done = client.post(
        f"/sends/{ids[0]}/address", data={"to": "right@example.org", "everywhere": "yes"}, follow_redirects=True
    )
    assert "2 sends have the address right@example.org now." in text(done)
    assert bench.rows("SELECT recipient, state FROM send ORDER BY id") == [
        ("right@example.org", "scheduled"),
        ("right@example.org", "scheduled"),
        ("wrong@example.org", "sent"),
    ]
    refused = client.post(f"/sends/{ids[0]}/address", data={"to": "not an address"}, follow_redirects=True)
    assert "Not changed: “not an address” is no email address" in text(refused)
    assert 'value="not an address"' in refused.get_data(as_text=True)
    assert client.post("/sends/sd-nothing/address", data={"to": "a@b.example"}).status_code == 404


def test_what_is_out_is_sent_once_more_and_a_double_click_sends_it_once(client, bench, mailbox):
    post(client)
    bench.plan()
    bench.dispatcher().run_batch()
    (first,) = (row[0] for row in bench.rows("SELECT id FROM send WHERE state = 'sent'"))
    page = client.get(f"/sends/{first}").get_data(as_text=True)
    as_id = re.search(r'name="as" value="(sd-[0-9a-z]{19})"', page)[1]
    for _ in range(2):
        form = {"to": "other@example.org", "as": as_id}
        assert client.post(f"/sends/{first}/again", data=form).location.endswith(f"/sends/{as_id}")
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT recipient, state FROM send ORDER BY rowid") == [
        ("joerg@example.org", "sent"),
        ("other@example.org", "sent"),
    ]
    assert "sent again manually" in text(client.get(f"/sends/{as_id}"))


def test_what_keeps_any_send_back_keeps_one_that_is_sent_once_more(client, bench, mailbox):
    post(client)
    bench.plan()
    bench.dispatcher().run_batch()
    (first,) = (row[0] for row in bench.rows("SELECT id FROM send WHERE state = 'sent'"))
    with bench.database.writing() as session:
        suppressions.add(session, bench.store_id, "email:joerg@example.org", "stop.", bench.clock.now())
    client.post(f"/sends/{first}/again")
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT state FROM send ORDER BY rowid") == [("sent",), ("skipped",)]
    assert "It is not out yet" in text(
        client.post(f"/sends/{bench.rows('SELECT id FROM send ORDER BY rowid')[1][0]}/again", follow_redirects=True)
    )
