"""What a source asks elsewhere about its deliveries: saved, removed, and asked once more about one of them."""

from __future__ import annotations

import re

from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.origins import moved
from angelon.core.states import State
from angelon.db.log import inquiries, sends
from angelon.db.tables import EventRow
from angelon.engine.arrivals.event_reader import payload_of
from angelon.engine.asking.addresses import ask, secret_kind, secret_of
from angelon.engine.installation import Installation
from angelon.engine.operations.sources import current
from angelon.engine.unit import MACHINE, Actor, Work, unit


def save(work: Work, key: str, look_up: Enrichment, was: str, secret: str = "") -> None:
    """A look-up, new or in place of the one called `was`, and its password or token where there is a new one. What
    paths in recipes find under a new name's root is as with a new look-up. Raises Invalid.
    """
    source = current(work, key)
    source_id = work.live.source_ids[key]
    before = next((one for one in source.enrichments if one.name == was), None)
    asks_anew = before is not None and look_up.auth.scheme != "none" and moved(before.url, look_up.url)
    if asks_anew and not secret and work.vault.get(work.session, secret_kind(was), source_id, work.now):
        what = "The address has changed, and the password or token that is kept belongs to the old one."
        raise Invalid([Problem("secret", what, "Type the one for the new address.")])
    others = [one.model_dump(mode="json") for one in source.enrichments if one.name != was]
    spec = source.model_dump(mode="json") | {"enrichments": [*others, look_up.model_dump(mode="json")]}
    work.specs.save(read_spec(Source, spec))
    if was and was != look_up.name:
        work.vault.rename(work.session, secret_kind(was), secret_kind(look_up.name), source_id)
    if look_up.auth.scheme == "none":
        work.vault.drop(work.session, secret_kind(look_up.name), source_id)
    elif secret:
        work.vault.put(work.session, secret_kind(look_up.name), source_id, secret, work.now)
        work.record("secret replaced", "source", key, None, {"look_up": look_up.name})


def remove(work: Work, key: str, name: str) -> None:
    source = current(work, key)
    left = [one for one in source.enrichments if one.name != name]
    work.specs.save(source.model_copy(update={"enrichments": left}))
    work.vault.drop(work.session, secret_kind(name), work.live.source_ids[key])


def ask_again(installation: Installation, store_id: int, event_id: str, name: str, actor: Actor = MACHINE) -> int:
    """Asks once more about an event whose look-up failed, outside any transaction; the answer is kept with the event,
    and what is held of that event goes out. Says how many sends do. Raises NotFound, and Invalid with why there is no
    answer.
    """
    live = installation.setups.get(store_id)
    with installation.database.reading() as session:
        row = session.get(EventRow, event_id)
        key = live.source_key(row.source_id) if row is not None else ""
        source = live.setup.sources.get(key)
        look_up = next((one for one in source.enrichments if one.name == name), None) if source else None
        if row is None or source is None or look_up is None:
            raise NotFound("There is no such look-up about this event any more.")
        secret = secret_of(installation.vault, session, live.source_ids[key], look_up, installation.clock.now())
        kept = inquiries.of_event(session.connection(), event_id, inquiries.LOOK_UP)
        tries = next((one.tries for one in kept if one.name == name), 0)
        try:
            payload = payload_of(session, live, row)
        except NotReadable as error:
            raise Invalid([error.problem]) from None
    url, value, problem, _ = ask(live, look_up, work_out(source, live.setup, payload)[0].context, secret)
    with unit(installation, store_id, actor) as work:
        asked = inquiries.Key(event_id, inquiries.LOOK_UP, name)
        outcome = inquiries.Outcome(asked, work.now, tries + 1, url=url, value=value, problem=problem)
        inquiries.store(work.connection, [outcome], work.now)
        released = [] if problem else work.sends.move(sends.held_of_event(work.session, event_id), State.SCHEDULED)
        work.record("asked again", "event", event_id, None, {"look_up": name, "problem": problem})
        work.wake()
    if problem:
        raise Invalid([Problem(name, re.sub(r"\s+", " ", problem), "Fix the look-up at its source, then ask again.")])
    return len(released)
