"""The page on which alerts are set up."""

import email

import pytest

from tests.web.test_access import account, sign_in
from tests.web.test_pages import text

FORM = {
    "roles": ["owner"],
    "emails": "night@example.org, day@example.org",
    "gateways": ["mailroom"],
    "quiet_from": "22:00",
    "quiet_until": "07:00",
    "gather_minutes": "30",
    "backlog_minutes": "10",
    "disk_percent": "8",
    "heartbeat": "https://watch.example/ping",
    "tell": ["disk", "backlog"],
}


def test_it_is_set_up_tried_and_switched_on(client, bench, mailbox):
    account(bench)
    sign_in(client)
    page = text(client.get("/settings/alerts"))
    assert "No running worker processes events or delivers sends" in page, (
        "what is wrong now is shown before it is switched on"
    )
    saved = text(client.post("/settings/alerts", data=FORM, follow_redirects=True))
    assert "Saved." in saved
    spec = bench.services.setups.get(bench.store_id).setup.store.alerts
    assert (spec.emails, spec.quiet_from, spec.gather_minutes, spec.on) == (
        ["night@example.org", "day@example.org"], "22:00", 30, False,
    )  # fmt: skip
    assert {"disk", "backlog"}.isdisjoint(spec.leave_out)
    assert "held" in spec.leave_out
    assert "Alerts are on." in text(client.post("/settings/alerts", data={"act": "on"}, follow_redirects=True))
    assert bench.services.setups.get(bench.store_id).setup.store.alerts.emails == spec.emails, "and stays as it is"
    tried = text(client.post("/settings/alerts", data={"act": "try"}, follow_redirects=True))
    assert "is on its way to nuala@example.com, night@example.org" in tried
    to = {email.message_from_bytes(row.raw)["To"] for row in bench.box.mails()}
    assert to == {"nuala@example.com", "night@example.org", "day@example.org"}


@pytest.mark.parametrize(
    ("field", "value", "said"),
    [("emails", "nobody", "nobody"), ("gather_minutes", "soon", "soon"), ("heartbeat", "ftp://x", "heartbeat"),
     ("disk_percent", "0", "disk_percent|Disk|0"), ("quiet_from", "25:61", "25:61")],
)  # fmt: skip
def test_what_can_t_be_meant_is_told_and_stays(client, bench, field, value, said):
    account(bench)
    sign_in(client)
    answer = client.post("/settings/alerts", data=FORM | {field: value})
    assert answer.status_code == 422
    page = answer.get_data(as_text=True)
    assert "Not saved. What you wrote is still here." in text(answer)
    assert value in page
    assert "night@example.org" in page or field == "emails"
    assert not bench.services.setups.get(bench.store_id).setup.store.alerts.emails


def test_without_anybody_to_tell_it_says_so(client, bench):
    assert "No recipient yet" in text(client.get("/settings/alerts"))
    assert "No gateway took it" in text(client.post("/settings/alerts", data={"act": "try"}, follow_redirects=True))
