"""Writes at once: of several who have read one version one wins; what is good once is good once."""

import threading

import pyotp
import pytest

from angelon.core.problems import Conflict, Invalid, NotFound
from angelon.core.specs.documents import Documents
from angelon.core.specs.store import Segment
from angelon.db.tables import GatewayRow, MessageRow, RouteRow, SourceRow, StoreRow, VariableRow
from angelon.engine.operations import (
    accounts,
    documents,
    gateways,
    mappings,
    messages,
    routes,
    second_step,
    sources,
    variables,
)
from angelon.engine.operations import store as stores
from angelon.engine.operations.guessing import Browser
from angelon.engine.unit import unit
from tests import made

AT_ONCE = 4
BROWSER = Browser("192.0.2.1", "test")
PASSWORD = "three green lanterns"


def at_once(act):
    """What became of each of several who act at the same moment: what it gave, or what it raised."""
    ready, found = threading.Barrier(AT_ONCE), []

    def one(number):
        ready.wait(20)
        try:
            found.append(act(number) or "done")
        except (Conflict, Invalid, NotFound) as error:
            found.append(type(error))

    threads = [threading.Thread(target=one, args=(number,)) for number in range(AT_ONCE)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert len(found) == AT_ONCE
    return found


def segment(n):
    part = {"kind": "compare", "of": "contact.orders", "op": "at_least", "value": f"{n + 2}"}
    return Segment.model_validate({"key": "regulars", "name": "Regulars", "holds": {"of": [part]}})


def shop_settings(n):
    return Documents.model_validate({"home": "IE", "seller": {"name": f"Kites {n}"}})


FETCH = {"url": "https://stall.example/orders", "items": "$.orders", "every_minutes": 10}
EDITS = {
    "a gateway": (GatewayRow, lambda w, n, e: gateways.save(w, made.gateway(port=2000 + n), expected=e)),
    "a source": (SourceRow, lambda w, n, e: sources.save(w, made.source(name=f"Shop {n}"), e)),
    "a variable": (VariableRow, lambda w, n, e: variables.change(w, "total", {"sample": f"{n} EUR"}, e)),
    "a route": (RouteRow, lambda w, n, e: routes.change_draft(w, "received", {"name": f"Received {n}"}, e)),
    "the store": (StoreRow, lambda w, n, e: stores.change(w, {"name": f"Kites {n}"}, e)),
    "an audience": (StoreRow, lambda w, n, e: stores.save_segment(w, segment(n), e)),
    "invoices": (StoreRow, lambda w, n, e: documents.save_settings(w, shop_settings(n), e)),
    "a mapping": (SourceRow, lambda w, n, e: mappings.publish(w, "shop", e, True)),
}


@pytest.mark.parametrize("what", EDITS)
def test_of_several_who_have_read_one_version_one_wins(bench, what):
    table, act = EDITS[what]
    with unit(bench.services.installation, bench.store_id) as work:
        stores.create_segment(work, "Regulars")
        mappings.save_table(work, "shop", "groups", "a = b")
    with bench.database.reading() as session:
        key = {VariableRow: "name"}.get(table, "key")
        wanted = {GatewayRow: "mailroom", SourceRow: "shop", VariableRow: "total", RouteRow: "received"}.get(table)
        rows = [row for row in session.query(table) if wanted is None or getattr(row, key) == wanted]
    edits = rows[0].edits

    def one(number):
        with unit(bench.services.installation, bench.store_id) as work:
            act(work, number, edits)

    found = at_once(one)
    assert found.count("done") == 1, found
    assert what == "a mapping" or found.count(Conflict) == AT_ONCE - 1


def test_of_several_windows_that_write_one_draft_one_wins(bench):
    with bench.database.reading() as session:
        known = messages.stamp(session.query(MessageRow).one())

    def one(number):
        with unit(bench.services.installation, bench.store_id) as work:
            return messages.save_draft(work, made.message(name=f"Received {number}"), known, None)

    assert at_once(one).count(Conflict) == AT_ONCE - 1


def test_an_invitation_the_first_owner_and_a_recovery_code_are_good_once(bench):
    here = bench.services.installation
    owners = at_once(lambda n: accounts.make_first(here, f"o{n}@example.org", f"O{n}", PASSWORD, BROWSER))
    assert owners.count(Invalid) == AT_ONCE - 1
    secret = accounts.make_invitation(here, "t@example.org", "writer", "O")
    joined = at_once(lambda n: accounts.join(here, secret, f"T{n}", PASSWORD, BROWSER))
    assert sum(isinstance(one, str) for one in joined) == 1
    totp = pyotp.TOTP(second_step.begin(here, 1).partition("secret=")[2].partition("&")[0])
    codes = second_step.confirm(here, 1, totp.at(bench.clock.now()), 0)
    let_in = at_once(lambda _: accounts.try_second_step(here, 1, codes[0], BROWSER) or Invalid)
    assert sum(isinstance(one, str) for one in let_in) == 1
    by_time = totp.at(bench.clock.now(), counter_offset=1)
    let_in = at_once(lambda _: accounts.try_second_step(here, 1, by_time, BROWSER) or Invalid)
    assert sum(isinstance(one, str) for one in let_in) == 1
