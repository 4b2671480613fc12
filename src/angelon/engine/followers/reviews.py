"""Hands chat texts in for review, and asks what became of them."""

from __future__ import annotations

import datetime as dt
from functools import partial

import structlog

from angelon.core.messages.approved import ApprovedText
from angelon.core.messages.chat import compile_chat, review_problems, review_values, with_buttons
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.message import Message
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import reviews
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import ReviewRow
from angelon.engine.clock import Clock
from angelon.engine.followers.apart import Apart
from angelon.engine.setups import Setups
from angelon.gateways import reviews as providers

log = structlog.get_logger()

ASK_AGAIN = dt.timedelta(seconds=3)


class ReviewService:
    def __init__(self, database: Database, setups: Setups, vault: Vault, clock: Clock) -> None:
        self._database, self._setups, self._vault, self._clock = database, setups, vault, clock
        self._apart = Apart("review")

    def submit(self, live: LiveSetup, message: Message, message_id: int, gateway_key: str, locale: str) -> ReviewRow:
        """Hands one text in. Raises Invalid: a text that would be rejected, a provider that can't be asked."""
        gateway = live.setup.gateways[gateway_key]
        compiled = compile_chat(with_buttons(message.chat[locale], message, locale), live.setup.store, locale)
        found = review_problems(compiled)
        if found:
            raise Invalid([problem.at(f"chat.{locale}") for problem in found])
        values = review_values(compiled, message.category, message.key, locale)
        verdict = providers.submit(gateway, self._secret(live.gateway_ids[gateway_key]), values)
        if verdict.state == "failed":
            raise Invalid(
                [
                    Problem(
                        f"chat.{locale}",
                        f"{gateway.name} could not be asked: {verdict.reason}",
                        "Look at the gateway’s settings, and submit again.",
                    )
                ]
            )
        with self._database.writing() as session:
            return reviews.note(
                session,
                live.store_id,
                live.gateway_ids[gateway_key],
                message_id,
                locale,
                compiled.numbered.digest(message.category),
                message.chat[locale].model_dump(mode="json"),
                verdict.state,
                verdict.reason,
                verdict.reference,
                self._clock.now(),
            )

    def approved(self, live: LiveSetup, gateway_key: str) -> list[ApprovedText]:
        """The texts that a provider has approved already. Raises Invalid where it can't be asked."""
        return providers.listed(live.setup.gateways[gateway_key], self._secret(live.gateway_ids[gateway_key]))

    def check_pending(self, message_id: int | None = None) -> int:
        """Asks after texts in review that were not asked after just now; says how many were decided."""
        now = self._clock.now()
        with self._database.reading() as session:
            rows = [
                row
                for row in reviews.waiting(session, now - ASK_AGAIN)
                if message_id is None or row.message_id == message_id
            ]
        return sum(self._look(row) for row in rows)

    def check_apart(self) -> None:
        """The same, for each provider in a thread of its own: one that does not answer holds up its own texts alone."""
        now = self._clock.now()
        with self._database.reading() as session:
            rows = reviews.waiting(session, now - ASK_AGAIN)
        by_gateway: dict[int, list[ReviewRow]] = {}
        for row in rows:
            by_gateway.setdefault(row.gateway_id, []).append(row)
        for gateway_id, mine in by_gateway.items():
            self._apart.begin(gateway_id, partial(self._look_at, mine))

    def _look_at(self, rows: list[ReviewRow]) -> None:
        for row in rows:
            try:
                self._look(row)
            except Exception:
                log.exception("a review could not be asked after; trying again", message=row.message_id)

    def _look(self, row: ReviewRow) -> bool:
        """Asks after one text; says whether it is decided now."""
        now, live = self._clock.now(), self._setups.get(row.store_id)
        gateway = live.setup.gateways.get(live.gateway_key(row.gateway_id))
        if gateway is None:
            return False
        verdict = providers.look(gateway, self._secret(row.gateway_id), row.reference)
        if verdict.state == "failed":
            log.warning("a review could not be asked after", message=row.message_id, reason=verdict.reason)
        decided = verdict.state in ("approved", "rejected")
        with self._database.writing() as session:
            fresh = session.get(ReviewRow, row.id)
            if fresh is None:
                return False
            if decided:
                reviews.decide(session, fresh, verdict.state, verdict.reason, now)
            else:
                fresh.looked_at = now
        if decided:
            self._setups.forget()
        return decided

    def _secret(self, gateway_id: int) -> str:
        with self._database.reading() as session:
            found = self._vault.get(session, "gateway", gateway_id, self._clock.now())
        return found[0].text if found else ""
