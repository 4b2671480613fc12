"""A delivery comes in: checked, taken apart, stored, and only then acknowledged."""

from __future__ import annotations

import datetime as dt
import ipaddress
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from angelon.core import signing_guesses
from angelon.core.deliveries import Received, digest, read_delivery, storable_text, without_secrets
from angelon.core.ids import sibling
from angelon.core.payload.body import NotReadable, parse_body
from angelon.core.signatures import verify
from angelon.core.specs.source import Source
from angelon.db.access.secrets import Secret, Vault
from angelon.db.database import Database, is_busy, is_database_failure
from angelon.db.log.bodies import Bodies
from angelon.db.log.events import BY_BODY
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.writer import Busy, GroupCommit
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

KEPT_BODY = 4096


@dataclass(frozen=True, slots=True)
class Answer:
    """What the sender is told. `text` is sent instead of `body` for a challenge."""

    status: int
    body: dict[str, Any] = field(default_factory=dict)
    headers: dict[str, str] = field(default_factory=dict)
    text: str | None = None


class Intake:
    """Takes deliveries for all sources. Safe to call from many threads."""

    def __init__(self, database: Database, setups: Setups, vault: Vault, writer: GroupCommit, clock: Clock) -> None:
        self._database = database
        self._setups = setups
        self._vault = vault
        self._writer = writer
        self._clock = clock
        self._bodies = Bodies(database)
        self._secrets: dict[int, tuple[int, list[Secret]]] = {}
        self._lock = threading.Lock()

    def receive(
        self,
        key: str,
        method: str,
        headers: Mapping[str, str],
        raw: bytes,
        length: int,
        query: Mapping[str, str],
        remote: str,
    ) -> Answer:
        """Answers one request, and waits until what it brought is stored. Arguments as `take`'s."""
        taken = self.take(key, method, headers, raw, length, query, remote)
        if isinstance(taken, Answer):
            return taken
        try:
            return self.stored(taken, self._writer.store(taken))
        except Exception as error:
            return self.not_stored(error)

    def take(
        self,
        key: str,
        method: str,
        headers: Mapping[str, str],
        raw: bytes,
        length: int,
        query: Mapping[str, str],
        remote: str,
    ) -> Answer | NewDelivery:
        """A request checked and taken apart: the delivery that is to be stored, or the answer where there is none.

        `headers` has lower-case names; `length` is what the sender says the body's size is; `remote` is the sender's
        address.
        """
        try:
            return self._taken(key, method, headers, raw, length, query, remote)
        except Exception as error:  # the set-up or the credentials can't be read just now
            return self.not_stored(error)

    def _taken(
        self,
        key: str,
        method: str,
        headers: Mapping[str, str],
        raw: bytes,
        length: int,
        query: Mapping[str, str],
        remote: str,
    ) -> Answer | NewDelivery:
        found = self._setups.find_source(key)
        if found is None:
            return _problem(
                404,
                "No such source",
                f"There is no source at /in/{key[:60]}.",
                "Copy the address again from the source's page.",
            )
        live, source_id = found
        source = live.setup.sources[key]
        if source.challenge and source.challenge.method == method:
            echo = self._challenge(source, query, headers, raw)
            if echo is not None:
                return Answer(200, text=echo)
        if method != "POST":
            return _problem(
                405, "Wrong method", f"{method} is not taken here.", "Send the event as POST.", {"Allow": "POST"}
            )
        now = self._clock.now()
        refusal = self._refusal(live, source_id, source, headers, raw, length, remote, now)
        if refusal is not None:
            tried = self._valid(source_id, live.version, now) if refusal.status == 401 else []
            return self._refuse(source_id, headers, raw, refusal, tried)
        try:
            received = read_delivery(source, headers, raw, with_payload=False)
        except NotReadable as error:
            return self._refuse(
                source_id, headers, raw, _problem(error.status, "Not readable", error.problem.what, error.problem.hint)
            )
        return self._delivery(live, source, source_id, received, headers, raw, now)

    def accept(self, key: str, headers: Mapping[str, str], raw: bytes, name: str = "", delivery_id: str = "") -> Answer:
        """A delivery from somebody who has shown otherwise that they may hand one in: no signature is looked at, nor
        the sender's address. `name` is the store's own name of the event where the source looks for it in a header,
        `delivery_id` what a second try is known by. Waits until what it brought is stored.
        """
        found = self._setups.find_source(key)
        if found is None:
            return _problem(404, "No such source", f"There is no source “{key[:60]}”.")
        live, source_id = found
        source = live.setup.sources[key]
        if not source.on:
            return _problem(404, "Source is off", f"{source.name} is switched off.", "Switch it on at its page.")
        if len(raw) > source.max_bytes:
            what = f"The body has {len(raw):,} bytes, and {source.max_bytes:,} are allowed."
            return _problem(413, "Too large", what, "Send less, or raise the limit on the source's page.")
        if name and source.event_name is not None and source.event_name.header:
            headers = {**headers, source.event_name.header.lower(): name}
        try:
            received = read_delivery(source, headers, raw, with_payload=False)
        except NotReadable as error:
            return _problem(error.status, "Not readable", error.problem.what, error.problem.hint)
        if delivery_id:
            several = len(received) > 1
            received = [
                replace(one, delivery_id=f"{delivery_id}:{number}" if several else delivery_id)
                for number, one in enumerate(received)
            ]
        delivery = self._delivery(live, source, source_id, received, headers, raw, self._clock.now())
        try:
            return self.stored(delivery, self._writer.store(delivery))
        except Exception as error:
            return self.not_stored(error)

    def _refusal(
        self,
        live: LiveSetup,
        source_id: int,
        source: Source,
        headers: Mapping[str, str],
        raw: bytes,
        length: int,
        remote: str,
        now: dt.datetime,
    ) -> Answer | None:
        """Why a delivery is not even looked into; None where it may come in."""
        if not source.on:
            return _problem(404, "Source is off", f"{source.name} is switched off.", "Switch it on at its page.")
        if source.allow_from and not _allowed(remote, source.allow_from):
            return _problem(
                403,
                "Address not allowed",
                f"{remote} is not among the addresses that may deliver here.",
                "Add it on the source's page.",
            )
        if length > source.max_bytes or len(raw) > source.max_bytes:
            what = f"The body has {max(length, len(raw)):,} bytes, and {source.max_bytes:,} are allowed."
            return _problem(413, "Too large", what, "Send less, or raise the limit on the source's page.")
        problem = verify(source.signing, [s.text for s in self._valid(source_id, live.version, now)], headers, raw, now)
        return _problem(401, "Signature", problem.what, problem.hint) if problem else None

    def _delivery(
        self,
        live: LiveSetup,
        source: Source,
        source_id: int,
        received: Sequence[Received],
        headers: Mapping[str, str],
        raw: bytes,
        now: dt.datetime,
    ) -> NewDelivery:
        id_ = self._clock.new_id("dv", now)
        events = []
        for number, event in enumerate(received):
            event_id = self._clock.new_id("ev", now) if number else sibling("ev", id_)
            key = f"d:{event.delivery_id}" if event.delivery_id else f"{BY_BODY}{event_id}"
            events.append(NewEvent(event_id, source_id, id_, key, event.name, event.type, now, number))
        window = (
            None if all(event.delivery_id for event in received) else dt.timedelta(minutes=source.same_body_minutes)
        )
        return NewDelivery(
            id_,
            source_id,
            now,
            storable_text(headers.get("content-type", "")[:200]),
            without_secrets(headers),
            self._bodies.packed(source_id, events[0].name, raw, now),
            tuple(events),
            window,
            digest(raw) if window else "",
        )

    def stored(self, delivery: NewDelivery, ids: Mapping[str, str]) -> Answer:
        """What the sender of a stored delivery is told: 202, or 200 where all of it was there before."""
        stored = [ids[event.id] for event in delivery.events]
        fresh = any(ids[event.id] == event.id for event in delivery.events)
        body: dict[str, Any] = {"event": stored[0]} if len(stored) == 1 else {"event": stored[0], "events": stored}
        return Answer(202 if fresh else 200, body)

    def not_stored(self, error: BaseException) -> Answer:
        """What the sender is told of a delivery that could not be stored. Raises what is nobody's but ours."""
        if isinstance(error, Busy):
            return _problem(
                429,
                "Busy",
                "More comes in than can be stored just now.",
                "Send it again in a moment.",
                {"Retry-After": "2"},
            )
        if not is_database_failure(error):
            raise error
        busy = is_busy(error)
        full = "The database can't be written to: its disk may be full."
        away = full if self._database.sqlite else "The database does not answer just now."
        what = "The database is in use by somebody else." if busy else away
        return _problem(
            503, "Not stored", what, "Send it again later; nothing was stored.", {"Retry-After": "5" if busy else "60"}
        )

    def _valid(self, source_id: int, version: int, now: dt.datetime) -> list[Secret]:
        held = self._secrets.get(source_id)
        if held is None or held[0] != version:
            with self._database.reading() as session:
                held = (version, self._vault.get(session, "source", source_id, now))
            self._secrets[source_id] = held
        return [s for s in held[1] if s.until is None or s.until > now]

    def _challenge(
        self, source: Source, query: Mapping[str, str], headers: Mapping[str, str], raw: bytes
    ) -> str | None:
        """The text to echo, where this is a challenge."""
        assert source.challenge is not None
        name = source.challenge.parameter
        value: Any = query.get(name)
        if value is None and source.challenge.method == "POST" and len(raw) < 4096:
            try:
                body = parse_body(raw, headers.get("content-type"))
            except NotReadable:
                return None
            value = body.get(name) if isinstance(body, dict) else None
        return value if isinstance(value, str) and 0 < len(value) <= 500 and value.isprintable() else None

    def _refuse(
        self, source_id: int, headers: Mapping[str, str], raw: bytes, answer: Answer, secrets: Sequence[Secret] = ()
    ) -> Answer:
        """Keeps what is refused; where it is for its signature, with how it seems to be signed."""
        now = self._clock.now()
        unsigned = answer.status == 401
        guess = signing_guesses.guess(headers, raw, [s.text for s in secrets], now) if unsigned else None
        self._writer.keep_refused(
            {
                "source_id": source_id,
                "at": now,
                "status": answer.status,
                "reason": answer.body["detail"],
                "hint": answer.body["hint"],
                "headers": without_secrets(headers),
                "body_start": raw[:KEPT_BODY].decode(errors="replace").replace("\x00", "\ufffd"),
                "body_bytes": len(raw),
                "body": raw if unsigned and len(raw) <= signing_guesses.MOST_BYTES else None,
                "signing": {**guess.signing.plain(), "verified": guess.verified} if guess is not None else None,
            }
        )
        return answer


def _allowed(remote: str, networks: list[str]) -> bool:
    try:
        address = ipaddress.ip_address(remote)
    except ValueError:
        return False
    return any(address in ipaddress.ip_network(network, strict=False) for network in networks)


def _problem(status: int, title: str, detail: str, hint: str = "", headers: dict[str, str] | None = None) -> Answer:
    """A problem of RFC 9457."""
    return Answer(
        status, {"type": "about:blank", "title": title, "status": status, "detail": detail, "hint": hint}, headers or {}
    )
