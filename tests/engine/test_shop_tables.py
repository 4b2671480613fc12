"""Tables of the shop's own: looked up as they hold, replaced at once, and rows given out once, whatever happens."""

import threading

import pytest

from angelon.core.planning.plan import work_out
from angelon.core.planning.preflight import Preflight
from angelon.core.problems import Invalid
from angelon.core.specs import Message, Route, Source, Variable
from angelon.db.setup import shop_tables, specs
from angelon.db.tables import MessageRow, RouteRow, SourceRow
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import shop_tables as operations
from angelon.engine.unit import MACHINE
from tests import made
from tests.engine.test_fallbacks import Shop


@pytest.fixture
def shop(bench, mailbox):
    return Shop(bench)


def create(shop, name, data, once=False):
    key = operations.create(
        shop.bench.services.installation, shop.bench.store_id, name, once, "t.csv", data.encode(), MACHINE
    )
    shop.bench.services.setups.forget()
    return key


def replace(shop, key, data):
    made_ = operations.replace(
        shop.bench.services.installation, shop.bench.store_id, key, "t.csv", data.encode(), MACHINE
    )
    shop.bench.services.setups.forget()
    return made_


def vouchers(shop, number):
    return create(shop, "Codes", "code\n" + "\n".join(f"C-{n:03}" for n in range(number)), once=True)


def gives(shop, **more):
    text = {"subject": "Yours: {{ given.code }}", "blocks": [{"kind": "text", "text": "Here you are"}]}
    spec = {"key": "voucher", "name": "Voucher", "locale": "en", "email": {"en": text}, "gives": "codes"}
    shop.publish(MessageRow, Message.model_validate(spec | more))
    route = {"key": "give", "name": "Give", "when": ["order.created"], "sources": ["shop"], "send": "voucher",
             "channel": "email", "gateway": "mailroom", "guards": {"even_if_notified": True}}  # fmt: skip
    shop.publish(RouteRow, Route.model_validate(route))


def order(shop, number):
    shop.bench.deliver(
        made.body(id=number, reference=f"BK-{number}", buyer={"name": "Jo", "email": f"jo{number}@example.org"}),
        store_delivery=f"d{number}",
    )
    shop.bench.plan()


def send(shop, times=1):
    for _ in range(times):
        shop.bench.dispatcher().run_batch(20)
        shop.later(minutes=2)


def mine(shop):
    """The voucher sends: (state, subject) in the order of their recipients."""
    return [
        (row.state, row.subject)
        for row in shop.bench.rows(
            "SELECT s.state, s.subject FROM send s JOIN route r ON r.id = s.route_id WHERE r.key = 'give'"
            " ORDER BY s.recipient, s.id"
        )
    ]


def given(shop):
    return {row.key: row.send_id for row in shop.bench.rows("SELECT key, send_id FROM shop_table_item") if row.send_id}


def test_each_send_gives_out_a_row_of_its_own(shop):
    vouchers(shop, 5)
    gives(shop)
    for number in (1, 2, 3):
        order(shop, number)
    send(shop)
    assert [state for state, _ in mine(shop)] == ["sent"] * 3
    assert len({subject for _, subject in mine(shop)}) == 3
    assert len(given(shop)) == 3


def test_where_none_is_left_the_send_is_held_and_goes_out_once_there_are_more(shop):
    vouchers(shop, 1)
    gives(shop)
    for number in (1, 2):
        order(shop, number)
    send(shop)
    assert sorted(state for state, _ in mine(shop)) == ["held", "sent"]
    reason = shop.bench.rows("SELECT reason FROM send WHERE state = 'held'")[0].reason
    assert "No row is left in the table “codes”" in reason
    assert str(replace(shop, "codes", "code\nC-000\nNEW-1\n")) == "1 new, 0 changed, 0 gone"
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'scheduled', due_at = created_at WHERE state = 'held'")
    send(shop)
    assert [state for state, _ in mine(shop)] == ["sent", "sent"]
    assert "Yours: NEW-1" in {subject for _, subject in mine(shop)}


def test_a_retry_has_the_row_that_it_had(shop):
    vouchers(shop, 3)
    gives(shop)
    order(shop, 1)
    shop.bench.box.set("mail_fault", "later")
    send(shop)
    first = given(shop)
    assert len(first) == 1
    assert mine(shop)[0][0] == "retrying"
    send(shop)
    assert given(shop) == first


def test_what_is_skipped_takes_none_and_what_was_cancelled_before_it_was_tried_gives_it_back(shop):
    vouchers(shop, 1)
    gives(shop)
    order(shop, 1)
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET expires_at = 1")
    send(shop)
    assert mine(shop)[0][0] == "skipped"
    assert given(shop) == {}
    order(shop, 2)
    with shop.bench.database.connection() as connection:  # taken, and the process died before it was handed over
        id_ = connection.exec_driver_sql("SELECT id FROM send WHERE state = 'scheduled'").scalar()
        assert shop_tables.give(connection, shop.bench.store_id, "codes", id_, shop.bench.clock.now())
        connection.exec_driver_sql("UPDATE send SET state = 'cancelled' WHERE state = 'scheduled'")
    order(shop, 3)
    send(shop)
    assert [state for state, _ in mine(shop)] == ["skipped", "cancelled", "held"]
    Housekeeper(shop.bench.database, shop.bench.services.setups, shop.bench.clock).look()
    assert given(shop) == {}
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'scheduled', reason = '' WHERE state = 'held'")
    send(shop)
    assert [state for state, _ in mine(shop)] == ["skipped", "cancelled", "sent"]


@pytest.mark.parametrize("state", ["sent", "failed", "retrying", "cancelled"])
def test_what_was_tried_never_gives_it_back(shop, state):
    vouchers(shop, 1)
    gives(shop)
    order(shop, 1)
    send(shop)
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql(f"UPDATE send SET state = '{state}'")
    order(shop, 2)
    send(shop)
    assert mine(shop)[1][0] == "held"


def test_many_at_once_take_each_row_once(shop):
    vouchers(shop, 60)
    taken, errors = [], []

    def take(worker):
        for number in range(15):
            try:
                with shop.bench.database.connection() as connection:
                    row = shop_tables.give(
                        connection, shop.bench.store_id, "codes", f"sd-{worker}-{number}", shop.bench.clock.now()
                    )
                    if number % 5 == 4:
                        raise RuntimeError  # killed before it is stored
                    taken.append(row["code"])
            except RuntimeError:
                continue
            except Exception as error:
                errors.append(error)

    threads = [threading.Thread(target=take, args=(worker,)) for worker in range(5)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert errors == []
    assert len(taken) == len(set(taken)) == 60
    with shop.bench.database.connection() as connection:
        assert shop_tables.give(connection, shop.bench.store_id, "codes", "sd-x", shop.bench.clock.now()) is None


def test_a_mapping_looks_up_what_the_table_says_now(shop):
    create(shop, "Places", "sku,Shelf,Note\nHER-180,B4,heavy\nSAN-POC,A1,\n")
    with shop.bench.database.writing() as session:
        specs.save_variable(session, shop.bench.store_id, Variable(name="shelf", required=False))
    source = made.source().model_dump(mode="json")
    recipe = {"path": "$.reference", "steps": [{"lookup": {"table": "places.shelf", "default": "none"}}]}
    shop.bench.change(Source.model_validate(source | {"recipes": source["recipes"] | {"shelf": recipe}}), SourceRow)

    def shelf(reference):
        live = shop.bench.services.setups.get(shop.bench.store_id)
        return work_out(live.setup.sources["shop"], live.setup, {"reference": reference})[1]["shelf"].value

    assert (shelf("HER-180"), shelf("ELSE")) == ("B4", "none")
    assert str(replace(shop, "places", "sku,Shelf\nHER-180,C9\nNEW,D1\n")) == "1 new, 1 changed, 1 gone"
    assert (shelf("HER-180"), shelf("SAN-POC"), shelf("NEW")) == ("C9", "none", "D1")
    assert len(shop.bench.rows("SELECT * FROM shop_table_item")) == 2
    with pytest.raises(Invalid, match="no column “shelf”, which a mapping looks up"):
        replace(shop, "places", "sku,Place\nHER-180,C9\n")
    with pytest.raises(Invalid, match="used by the mapping of"):
        operations.delete(shop.bench.services.installation, shop.bench.store_id, "places", MACHINE)


@pytest.mark.parametrize(
    ("data", "told"),
    [
        ("", "The file is empty"),
        ("code\n", "The file has no rows"),
        ("code,x\nA,1\nA,2\n", "“A” occurs twice"),
        ("code,x\n,1\n", "nothing in the column “code”"),
        ("code\nA,1\n", "It has 2 cells"),
    ],
)
def test_a_file_that_is_no_table_is_refused_and_nothing_changes(shop, data, told):
    vouchers(shop, 2)
    with pytest.raises(Invalid, match=told):
        replace(shop, "codes", data)
    with pytest.raises(Invalid, match=told):
        create(shop, "Another", data)
    assert len(shop.bench.rows("SELECT * FROM shop_table_item")) == 2
    assert len(shop.bench.rows("SELECT * FROM shop_table")) == 1


def test_a_text_that_gives_out_without_a_table_is_an_error(shop):
    live = shop.bench.services.setups.get(shop.bench.store_id)
    text = {"subject": "{{ given.code }}", "blocks": [{"kind": "text", "text": "Here"}]}
    spec = {"key": "v", "name": "V", "locale": "en", "email": {"en": text}}
    for gives_, told in (("", "gives out no table"), ("codes", "no table “codes”")):
        message = Message.model_validate(spec | {"gives": gives_})
        assert told in " ".join(one.what for one in Preflight(message, live.setup).run())


def test_a_table_that_is_deleted_while_a_file_is_uploaded_is_said_to_be(shop, monkeypatch):
    key = create(shop, "Shelves", "code,shelf\nA,1")

    def gone(*_):
        return None

    monkeypatch.setattr(shop_tables, "hold", gone)  # it was there when the file was taken in, and is not any more
    with pytest.raises(Invalid, match="Somebody else deleted this table just now"):
        replace(shop, key, "code,shelf\nA,2")
