"""Lists of sources and files are narrowed by words and by what they are."""

import re

from angelon.core.messages.attachments import LibraryFile
from angelon.db.tables import SourceRow
from angelon.engine.operations import files
from angelon.engine.unit import unit
from tests import made


def test_sources_are_found_by_name_and_by_how_they_are(client, bench):
    bench.change(made.source(key="harbour", name="Harbour shop", on=False), SourceRow)
    bench.services.setups.forget()
    page = client.get("/sources?words=harb").text
    assert "Harbour shop" in page
    assert "<strong>Shop</strong>" not in page
    assert "<strong>Shop</strong>" not in client.get("/sources?state=off").text
    assert "No source matches." in client.get("/sources?words=nowhere").text


def test_files_are_found_by_name_folder_and_kind(client, bench):
    with unit(bench.services.installation, bench.store_id) as work:
        for shelf, name in (("care", "wash.txt"), ("terms", "returns.txt")):
            files.put(work, LibraryFile(0, shelf, name, "text/plain", 5), b"Hello")
    bench.services.setups.forget()
    assert "returns.txt" not in client.get("/files?words=wash").text
    page = client.get("/files?shelf=terms").text
    assert "returns.txt" in page
    assert "wash.txt" not in page
    assert "No file matches." in client.get("/files?words=nothing").text


def test_lists_are_sorted_another_way_when_asked(client, bench):
    for key, name in (("a", "Zebra shop"), ("b", "Anchor shop")):
        bench.change(made.source(key=key, name=name), SourceRow)
    bench.services.setups.forget()
    bench.deliver(made.body(id=1), store_delivery="d-1")

    def order_of(address):
        return re.findall(r"<strong>((?:Zebra|Anchor|Shop)[^<]*)</strong>", client.get(address).text)

    by_name = order_of("/sources?sort=name")
    assert by_name == sorted(by_name)
    assert order_of("/sources?sort=deliveries")[0] not in ("Zebra shop", "Anchor shop")
    assert sorted(order_of("/sources?sort=nonsense")) == by_name
    for address in ("/routes?sort=sends", "/routes?sort=new", "/messages?sort=routes", "/files?sort=size"):
        assert client.get(address).status_code == 200, address
