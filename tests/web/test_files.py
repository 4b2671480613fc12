"""A table of orders, taken on its pages: looked at, mapped from its first rows, taken, mended, downloaded."""

import io
import re

import pytest

from angelon.core.specs import Source
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.importing import Importer
from tests.web.test_api import ask, token_for
from tests.web.test_route_pages import text

DATA = "Bestellung;Status;Mail;Datum\n1;neu;anna@example.org;2099-01-01\n2;neu;;2099-01-01\n;neu;c@example.org;\n"


@pytest.fixture
def sheet(bench, client):
    spec = {"key": "sheet", "name": "Sheet", "event_name": {"header": "Store-Event"}}
    bench.change(Source.model_validate(spec), SourceRow)
    return bench


def mapped(bench):
    reading = {"reference": "$.Bestellung", "status": "$.Status", "email": "$.Mail", "placed_at": "$.Datum"}
    bench.change(Source.model_validate({"key": "sheet", "name": "Sheet", "reading": reading}), SourceRow)


def upload(client, data=DATA, name="orders.csv"):
    raw = data.encode() if isinstance(data, str) else data
    form = {"file": (io.BytesIO(raw), name)}
    return client.post("/sources/sheet/files", data=form, content_type="multipart/form-data")


def take(bench):
    return Importer(bench.database, bench.services.setups, bench.clock).run_due()


def test_from_a_table_to_orders_that_are_taken(sheet, client):
    page = upload(client)
    address = page.location
    look = text(client.get(address))
    assert "Neither the order’s reference nor its number is mapped yet" in look
    assert "New here 3" in look
    kept = client.post(address, data={"act": "sample"})
    assert "/sources/sheet/read?sample=" in kept.location
    assert "Bestellung" in text(client.get(kept.location))
    mapped(sheet)
    look = text(client.get(address))
    assert "New here 2" in look
    assert "Can’t be imported 1" in look
    assert "anna@example.org" in look
    before = len(sheet.rows("SELECT * FROM event"))
    client.post(address, data={"act": "start"})
    sheet.services.setups.forget()
    assert "waits" in text(client.get(address))
    assert take(sheet) == 2
    assert len(sheet.rows("SELECT * FROM event")) == before + 2
    done = text(client.get(address))
    assert "imported" in done
    assert "It has no order reference or number" in done
    wrong = client.get(f"{address}/wrong.csv").get_data(as_text=True)
    assert wrong.splitlines()[0] == "Bestellung,Status,Mail,Datum,problem"
    assert "c@example.org" in wrong
    told = client.get(f"{address}/told.csv").get_data(as_text=True)
    assert told.splitlines()[0] == "Bestellung,Status,Mail,Datum,told,told_at,told_by,told_through"
    assert "orders.csv" in text(client.get("/sources/sheet/files"))


@pytest.mark.parametrize(
    ("data", "name", "told"),
    [
        ("", "orders.csv", "The file is empty."),
        ("\n\n", "orders.csv", "The file is empty."),
        (b"PK\x03\x04broken", "orders.xlsx", "is no spreadsheet that can be read"),
        ("[1, 2", "orders.json", "The file is not JSON"),
        ('{"a": {"orders": []}}', "orders.json", "There is no list at $ in the file. There are: a."),
    ],
)
def test_a_file_that_cannot_be_read_says_why(sheet, client, data, name, told):
    page = client.get(upload(client, data, name).location)
    assert told in text(page)


def test_how_it_is_read_is_changed_and_what_is_wrong_with_that_is_said(sheet, client):
    address = upload(client, "# written by hand\nNo|Name\n1|Bö\n".encode("windows-1252"), "orders.txt").location
    typed = {"act": "read", "format": "csv", "delimiter": "vertical bar", "encoding": "windows-1252", "heading": "2",
             "group_by": ""}  # fmt: skip
    page = client.post(address, data=typed, follow_redirects=True)
    assert "Bö" in page.get_data(as_text=True)
    refused = client.post(address, data=typed | {"heading": "none"})
    assert refused.status_code == 422
    assert 'value="none"' in refused.get_data(as_text=True)
    assert "There is no column “Nr”" in text(
        client.post(address, data=typed | {"group_by": "Nr"}, follow_redirects=True)
    )


def test_a_file_is_taken_once_however_often_the_button_is_pressed(sheet, client):
    mapped(sheet)
    address = upload(client).location
    client.post(address, data={"act": "start", "quiet": "yes"})
    assert "This file is imported already" in text(client.post(address, data={"act": "start"}, follow_redirects=True))
    assert sheet.rows("SELECT quiet FROM import")[0].quiet in (1, True)
    assert take(sheet) == 2
    assert client.get("/sources/sheet/files/99").status_code == 404


def test_a_file_is_discarded(sheet, client):
    address = upload(client).location
    assert client.post(address, data={"act": "drop"}).location.endswith("/files")
    assert sheet.rows("SELECT * FROM import") == sheet.rows("SELECT * FROM import_part") == []


def test_another_source_s_file_is_not_shown(sheet, client):
    address = upload(client).location
    assert client.get(address.replace("/sheet/", "/shop/")).status_code == 404


def test_formulas_of_a_file_come_back_as_text(sheet, client):
    mapped(sheet)
    address = upload(client, 'Bestellung,Mail\n1,"=HYPERLINK(""https://x"")"\n').location
    client.post(address, data={"act": "start"})
    take(sheet)
    assert "'=HYPERLINK" in client.get(f"{address}/told.csv").get_data(as_text=True)


def test_its_folder_is_switched_on_and_read_like_a_file(sheet, client):
    mapped(sheet)
    address = upload(client).location
    client.post(address, data={"act": "start"})
    take(sheet)
    id_ = re.search(r"/files/(\d+)", address).group(1)
    client.post("/sources/sheet/folder", data={"on": "yes", "quiet": "yes", "like": id_})
    sheet.services.setups.forget()
    folder = sheet.services.setups.get(sheet.store_id).setup.sources["sheet"].folder
    assert (folder.quiet, folder.form.delimiter) == (True, ";")
    assert "upload, and a folder" in text(client.get("/sources/sheet/files"))
    client.post("/sources/sheet/folder", data={})
    sheet.services.setups.forget()
    assert sheet.services.setups.get(sheet.store_id).setup.sources["sheet"].folder is None


def test_a_file_is_handed_in_by_the_api(sheet, client):
    mapped(sheet)
    token = token_for(sheet, "events.write", "events.read")
    made = ask(client, "/sources/sheet/files?name=orders.csv&quiet=1", token, "POST", data=DATA.encode())
    assert made.status_code == 202
    assert made.json["state"] == "waiting"
    assert take(sheet) == 2
    done = ask(client, f"/sources/sheet/files/{made.json['id']}", token)
    assert (done.json["state"], done.json["new"], done.json["failed"]) == ("done", 2, 1)
    assert done.json["not_imported"][0]["row"] == 4
    assert ask(client, "/sources/none/files", token, "POST", data=b"x").status_code == 404
    assert ask(client, "/sources/sheet/files/x", token).status_code == 404
    assert ask(client, "/sources/sheet/files", token, "POST", data=b"").status_code == 422
    assert ask(client, "/sources/sheet/files", token_for(sheet, "sends.read", name="B"), "POST").status_code == 403
