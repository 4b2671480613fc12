"""Suppressions as files: out and in again, and what is none of them."""

import io
import re

from tests.web.test_pages import text


def upload(client, data, name="list.csv"):
    return client.post("/suppressions", data={"file": (io.BytesIO(data), name)}, follow_redirects=True)


def test_a_list_is_exported_and_imported_again_as_it_was(client, bench):
    client.post("/suppressions", data={"addresses": "mia@example.com", "why": "=cmd|x, rang"})
    client.post("/suppressions", data={"addresses": "+353 20 915 1234", "scope": "optional"})
    out = client.get("/suppressions/all.csv")
    assert out.mimetype == "text/csv"
    lines = out.get_data(as_text=True).splitlines()
    assert lines[0] == "address,why,scope,since,origin"
    assert any(line.startswith('mia@example.com,"\'=cmd|x, rang",') for line in lines), "no formula"
    assert any(line.startswith("+353209151234,asked not to be written to.,optional,") for line in lines)
    for number in (1, 2):
        client.post(f"/suppressions/{number}/delete")
    assert "2 added of 2." in text(upload(client, out.get_data()))
    assert bench.rows("SELECT address_key, scope, origin FROM suppression ORDER BY address_key") == [
        ("email:mia@example.com", "", "import"),
        ("phone:+353209151234", "optional", "import"),
    ]


def test_what_is_no_address_is_named_and_the_others_are_taken(client, bench):
    page = text(upload(client, b"a@example.com,left\nnobody\n\n,\nb@example.com\n"))
    assert "2 added of 3." in page
    assert "nobody" in page
    assert "no CSV in UTF-8" in text(upload(client, b"\xff\xfe\x00"))
    assert "larger than" in text(upload(client, b"a" * 5_000_002))
    assert len(bench.rows("SELECT * FROM suppression")) == 2


def test_the_events_after_which_nothing_optional_is_sent_are_ticked_kept_and_taken_back(client, bench):
    page = client.get("/suppressions").get_data(as_text=True)
    assert 'type="checkbox" name="leave_on" value="return.received"' in page
    edits = re.search(r'name="edits"\s+value="(\d+)"', page)[1]
    form = {"edits": edits, "leave_on": ["return.received", "feedback.negative"], "suppress_on.there": "1"}
    client.post("/suppressions/consent", data=form)
    assert sorted(bench.services.setups.get(bench.store_id).setup.store.leave_on) == form["leave_on"][::-1]
    page = client.get("/suppressions").get_data(as_text=True)
    assert re.search(r'value="return.received"\s+checked', page)
    edits = re.search(r'name="edits"\s+value="(\d+)"', page)[1]
    client.post("/suppressions/consent", data={"edits": edits, "suppress_on.there": "1"})
    assert bench.services.setups.get(bench.store_id).setup.store.leave_on == []
