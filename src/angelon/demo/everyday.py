"""What a shop's people do beside what happens by itself: checks kept, addresses suppressed, a note; and deliveries that
were refused. So that no page of the demo is empty.
"""

from __future__ import annotations

import datetime as dt

from sqlmodel import col, select

from angelon.core.signing_guesses import guess
from angelon.core.specs.check import Check
from angelon.core.specs.stored import from_stored
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.setup import checks as stored_checks
from angelon.db.tables import EventRow
from angelon.engine.clock import Clock
from angelon.engine.installation import Installation
from angelon.engine.notifications import Notifier
from angelon.engine.operations import checks, orders, suppressions
from angelon.engine.setups import Setups
from angelon.engine.unit import Actor, Work, unit
from angelon.settings import Settings

NUALA, TOMAS = Actor("Nuala at the workshop"), Actor("Tomas who integrates")
SUPPRESSED = (
    ("rosa.example@example.net", "asked not to be written to."),
    ("old.workshop@example.org", "the mailbox is gone."),
    ("+353 20 915 1299", "answered STOP."),
)


def live_with_it(database: Database, settings: Settings, vault: Vault, store_id: int, now: dt.datetime) -> None:
    """Does it all, through the same operations as the pages; `now` is aware."""
    clock = Clock(lambda: now - dt.timedelta(hours=3))
    installation = Installation(database, Setups(database), vault, clock, Notifier(settings.home))
    with unit(installation, store_id, NUALA) as work:
        for address, why in SUPPRESSED:
            suppressions.add(work, [address], why)
        newest = _newest(work, "order.created")
        if newest is not None and newest.order_id is not None:
            orders.add_note(work, newest.order_id, "She rang: she is away until Friday, leave it with the neighbours.")
    _keep_checks(installation, store_id)
    with unit(installation, store_id, TOMAS) as work:
        _refuse(work)


def _newest(work: Work, type_: str) -> EventRow | None:
    """The newest event of a kind that the web shop sent."""
    of_shop = (EventRow.source_id == work.live.source_ids["webshop"], EventRow.type == type_)
    newest = select(EventRow).where(*of_shop, col(EventRow.order_id).is_not(None))
    return work.session.exec(newest.order_by(col(EventRow.received_at).desc())).first()


def _keep_checks(installation: Installation, store_id: int) -> None:
    """One that passes, and one that does not: its text was changed since somebody wanted these words in it."""
    with unit(installation, store_id, TOMAS) as work:
        created, delivered = _newest(work, "order.created"), _newest(work, "parcel.delivered")
    if created is not None:
        with unit(installation, store_id, TOMAS) as work:
            checks.keep(work, "order-received", created.id)
    if delivered is not None:
        with unit(installation, store_id, TOMAS) as work:
            key = checks.keep(work, "how-it-went", delivered.id)
            _spoil(work, key)
    with unit(installation, store_id, TOMAS) as work:
        checks.run_all(work)


def _spoil(work: Work, key: str) -> None:
    """Its text was changed since somebody wanted these words in it."""
    row = stored_checks.by_key(work.session, work.store_id, key)
    if row is not None:
        check = from_stored(Check, row.spec)
        wanted = [send.model_copy(update={"contains": ["post it back within thirty days"]}) for send in check.sends]
        checks.save(work, check.model_copy(update={"sends": wanted, "texts": "parts"}))


def _refuse(work: Work) -> None:
    """Two deliveries that were turned away: one signed otherwise, one that is no JSON."""
    body = b'{"id": 90071992999, "reference": "BK-2299", "state": "paid"}'
    headers = {"content-type": "application/json", "store-event": "order.placed", "quay-hmac-sha256": "f" * 64}
    signing = guess(headers, body, [], work.now)
    common = {"source_id": work.live.source_ids["webshop"], "at": work.now, "headers": headers, "body_bytes": len(body)}
    events.refuse(
        work.connection,
        [
            {
                **common,
                "status": 401,
                "reason": "The header Store-Signature is missing.",
                "hint": "Set up signing in the store, or choose the header that it uses.",
                "body_start": body.decode(),
                "body": body,
                "signing": {**signing.signing.plain(), "verified": False} if signing is not None else None,
            },
            {
                **common,
                "status": 400,
                "reason": "The body is not JSON: expecting value at line 1, column 1.",
                "hint": "Send valid JSON, or name the type it has.",
                "headers": {"content-type": "application/json", "user-agent": "shop-export/1.2"},
                "body_start": "order;BK-2298;paid",
                "body_bytes": 18,
                "body": None,
                "signing": None,
            },
        ],
    )
