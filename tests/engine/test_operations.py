"""Operations: one transaction each, checked against other people's changes, kept with who, when, before and after."""

import pytest

from angelon.core.problems import Conflict, Invalid, NotFound
from angelon.core.states import State
from angelon.db.setup import specs
from angelon.db.tables import ChangeRow, RouteRow
from angelon.engine.operations import gateways, messages, routes, sends, sources, store, suppressions, upkeep
from angelon.engine.operations.bundles import apply
from angelon.engine.unit import Actor, unit
from tests import made

JO = Actor("Jo")


@pytest.fixture
def work(bench):
    return lambda actor=JO: unit(bench.services.installation, bench.store_id, actor)


def changes(bench, *columns):
    names = ", ".join(f'"{name}"' for name in columns or ("actor", "action", "kind", "key"))
    return bench.rows(f"SELECT {names} FROM change ORDER BY id")


def test_what_is_raised_takes_everything_back(bench, work):
    def pause_and_fail():
        with work() as one:
            gateways.pause(one, one.live.setup.gateways["mailroom"])
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        pause_and_fail()
    assert not bench.services.setups.get(bench.store_id).setup.gateways["mailroom"].paused
    assert changes(bench) == []


def test_a_change_is_kept_with_who_when_before_and_after(bench, work):
    with work() as one:
        gateways.pause(one, one.live.setup.gateways["mailroom"])
    ((actor, action, kind, key),) = changes(bench)
    assert (actor, action, kind, key) == ("Jo", "paused", "gateway", "mailroom")
    with bench.database.reading() as session:
        row = session.get(ChangeRow, 1)
    assert "paused" not in row.before
    assert row.after["paused"] is True
    assert "format" not in row.after
    assert bench.services.setups.get(bench.store_id).setup.gateways["mailroom"].paused, "whoever reads next sees it"


def test_a_secret_is_never_among_what_is_kept(bench, work):
    with work() as one:
        gateways.save(one, one.live.setup.gateways["mailroom"], "hunter2")
        sources.rotate_secret(one, "shop", "whsec-very-secret", 1)
    assert [row[1] for row in changes(bench)] == ["secret replaced", "secret rotated"]
    assert "hunter2" not in str(bench.rows("SELECT * FROM change"))
    assert "whsec-very-secret" not in str(bench.rows("SELECT * FROM change"))


def test_of_two_who_edit_the_same_the_second_is_told_and_loses_nothing(bench, work):
    seen = bench.rows("SELECT edits FROM gateway")[0][0]
    gateway = made.gateway()
    with work(Actor("Ann")) as one:
        gateways.save(one, gateway.model_copy(update={"name": "Ann's"}), "", seen)
    with pytest.raises(Conflict) as raised, work() as one:
        gateways.save(one, gateway.model_copy(update={"name": "Jo's"}), "", seen)
    told = raised.value
    assert (told.theirs["name"], told.mine["name"], told.by, told.edits) == ("Ann's", "Jo's", "Ann", seen + 1)
    with work() as one:
        gateways.save(one, gateway.model_copy(update={"name": "Jo's"}), "", told.edits)
    assert bench.services.setups.get(bench.store_id).setup.gateways["mailroom"].name == "Jo's"


def test_two_parts_of_the_store_that_two_people_edit_at_once_do_not_undo_each_other(bench, work):
    with work() as one:
        store.change(one, {"consent": {"sms": "gift_note"}}, None, "consent")
    with work() as one:
        store.change(one, {"locales": ["fr"]}, None, "letterhead")
    kept = bench.services.setups.get(bench.store_id).setup.store
    assert (kept.consent, kept.locales) == ({"sms": "gift_note"}, ["fr"])


def test_a_route_goes_from_draft_to_live_off_copied_deleted_and_back(bench, work):
    with work() as one:
        key = routes.create(one, "Moved on", "order.status_changed")
        routes.change_draft(one, key, {"send": "received"})
    with work() as one:
        assert routes.publish_and_switch_on(one, key) == routes.SwitchedOn(0, 0)
    with work() as one:
        assert upkeep.copy(one, "route", key) == "moved-on-2"
        assert routes.switch_off(one, key) == 0
        assert routes.delete(one, key) == 0
    with pytest.raises(NotFound), work() as one:
        routes.change_draft(one, key, {"name": "X"})
    with work() as one:
        routes.restore(one, key)
    with bench.database.reading() as session:
        found = specs.route(session, bench.store_id, key)
    assert (found.on, found.gone_at, found.number, found.spec.send) == (False, None, 1, "received")
    assert [action for _, action, kind, name in changes(bench) if (kind, name) == ("route", key)] == [
        "created",
        "published as revision 1",
        "switched on",
        "switched off",
        "deleted",
        "restored",
    ]


def test_what_keeps_a_route_from_going_live_changes_nothing(bench, work):
    with work() as one:
        routes.change_draft(one, "received", {"send": "nothing"})
    with pytest.raises(Invalid, match="not published"), work() as one:
        routes.publish_and_switch_on(one, "received")
    assert bench.services.setups.get(bench.store_id).setup.routes[0].route.send == "received"


def test_a_send_is_cancelled_and_sent_again_by_the_table_of_states_alone(bench, work):
    bench.deliver(made.body())
    bench.plan()
    ((id_,),) = bench.rows("SELECT id FROM send")
    with work() as one:
        assert sends.cancel(one, [id_, "sd-nobody"]) == [id_]
    with work() as one:
        assert sends.cancel(one, [id_]) == []
        assert sends.send_again(one, [id_]) == [id_]
    assert bench.rows("SELECT state, reason FROM send") == [(State.SCHEDULED, "")]
    assert [row[1:3] for row in changes(bench)] == [("cancelled", "send"), ("sent again", "send")]


def test_another_store_s_sends_are_out_of_reach(bench, work):
    bench.deliver(made.body())
    bench.plan()
    ((id_,),) = bench.rows("SELECT id FROM send")
    with unit(bench.services.installation, bench.store_id + 1) as other:
        assert sends.cancel(other, [id_]) == []
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]


def test_a_bundle_applied_again_changes_and_keeps_nothing(bench, bundle):
    assert apply(bench.services.installation, bundle).changes == []
    changed = bundle.model_copy(update={"routes": [made.route(name="Renamed")]})
    assert apply(bench.services.installation, changed).changes == ["route received: changed name"]
    assert [row[1:] for row in changes(bench)] == [("bundle applied: changed name", "route", "received")]


def test_a_deleted_route_is_brought_back_by_a_bundle_that_has_it(bench, bundle, work):
    with work() as one:
        routes.delete(one, "received")
    assert apply(bench.services.installation, bundle).changes == ["route received: switched on"]
    with bench.database.reading() as session:
        row = specs.by_key(session, RouteRow, bench.store_id, "received")
    assert (row.on, row.gone_at) == (True, None)


def test_addresses_are_suppressed_once_and_what_is_none_is_told(bench, work):
    with work() as one:
        assert suppressions.add(one, ["Jo@Example.org", "jo@example.org", "nobody", "+49 30 23125-014"], "asked") == (
            2,
            ["nobody"],
        )
    assert bench.rows("SELECT address_key FROM suppression ORDER BY id") == [
        ("email:jo@example.org",),
        ("phone:+493023125014",),
    ]


def test_the_draft_of_another_window_is_not_overwritten_unasked(bench, work):
    mine, theirs = made.message(name="Mine"), made.message(name="Theirs")
    with work() as one:
        stamp = messages.save_draft(one, made.message(about="first"), "", None)
    with work() as one:
        messages.save_draft(one, theirs, stamp, None)
    with pytest.raises(Conflict), work() as one:
        messages.save_draft(one, mine, stamp, None)
    with work() as one:
        messages.save_draft(one, mine, stamp, theirs.plain())
        messages.save_draft(one, theirs, "long ago", None, force=True)
    with bench.database.reading() as session:
        assert specs.message(session, bench.store_id, "received").spec.name == "Theirs"


def test_one_stored_draft_that_can_t_be_read_hides_no_other(bench):
    with bench.database.writing() as session:
        row = specs.by_key(session, RouteRow, bench.store_id, "received")
        row.draft = {"format": 2, "key": "received", "name": "", "nonsense": 1}
    with bench.database.reading() as session:
        (found,) = specs.routes(session, bench.store_id)
        assert found.spec.name == "Received", "what is live still stands"
        ((kind, key, why),) = specs.unreadable(session, bench.store_id)
    assert (kind, key) == ("route", "received")
    assert "The draft can't be read as it is stored" in why
