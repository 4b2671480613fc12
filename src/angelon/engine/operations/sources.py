"""Sources: created, changed, deliveries read again, secrets."""

from __future__ import annotations

import base64
import datetime as dt
import secrets
from collections.abc import Collection, Mapping

from angelon.core.deliveries import read_delivery, without_secrets
from angelon.core.payload.body import NotReadable
from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Invalid, Problem
from angelon.core.signatures import well_made
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.source import Locator, Signing
from angelon.core.specs.stored import from_stored
from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import specs
from angelon.db.tables import RefusedRow, SourceRow
from angelon.engine.operations import upkeep
from angelon.engine.unit import Work, found

LONGEST_OVERLAP = 24 * 30
"""Hours that an old secret may stay valid for."""


def create(work: Work, name: str) -> str:
    """A new source with a signing secret; gives its key. Raises Invalid."""
    key = upkeep.free_key(work, "source", name)
    if specs.source_taken(work.session, key):
        raise Invalid([Problem("name", f"There is a source with the key “{key}” already.", "Choose another name.")])
    spec = {
        "key": key,
        "name": name,
        "event_name": {"header": "Store-Event"},
        "delivery_id": {"header": "Store-Delivery"},
    }
    row = work.specs.save(read_spec(Source, spec))
    work.vault.put(work.session, "source", row.id, secrets.token_urlsafe(24), work.now)
    return key


def save(work: Work, source: Source, expected: int | None = None) -> int:
    """A source as it was edited, live at once. Where it says otherwise what events are called, the newest kept ones
    that mean nothing are read again; gives how many are read otherwise now. Raises Invalid for a path that is none, and
    Conflict.
    """
    problems = []
    for name, path in (
        ("event_name", source.event_name.path),
        ("delivery_id", source.delivery_id.path),
        ("orders_at", source.orders_at),
    ):
        try:
            if path:
                compile_path(path)
        except BadPath as error:
            problems.append(error.problem.at(name))
    if problems:
        raise Invalid(problems)
    others = upkeep.names_of(work.session, work.store_id, "source")
    upkeep.refuse_twin(source.name, (name for key, name in others.items() if key != source.key), "source")
    before = work.live.setup.sources.get(source.key)
    work.specs.save(source, expected)
    if before is not None and before.event_name != source.event_name:
        return _read_names(work, source)
    ids = work.live.source_ids
    return sum(work.events.give_meaning(ids[source.key], *named) for named in source.event_names.items())


def name_event(work: Work, key: str, theirs: str, ours: str) -> int:
    """Says what one of the store's names means, and reads the kept events of that name so; gives how many. Nobody is
    written to about them. Raises Invalid.
    """
    if not ours:
        what = f"Nothing says what “{theirs}” means."
        raise Invalid([Problem("event_names", what, "Choose it from the list, or write a kind of your own.")])
    source = current(work, key)
    names = {**source.event_names, theirs: ours}
    work.specs.save(read_spec(Source, {**source.model_dump(mode="json"), "event_names": names}))
    return work.events.give_meaning(work.live.source_ids[key], theirs, ours)


MOST_RENAMED = 500
"""Kept events that are read again under the name that their delivery gives them."""


def name_from(
    work: Work,
    key: str,
    locator: Locator,
    meanings: Mapping[str, str],
    nothing: Collection[str] = (),
    expected: int | None = None,
) -> int:
    """Says where the event's name stands and what names mean (those in `nothing` mean nothing any more), and reads the
    newest kept events that meant nothing so; gives how many. Nobody is written to about them. Raises Invalid.
    """
    source = current(work, key)
    names = {theirs: ours for theirs, ours in source.event_names.items() if theirs not in nothing} | dict(meanings)
    spec = source.model_dump(mode="json") | {"event_name": locator.model_dump(mode="json"), "event_names": names}
    return save(work, read_spec(Source, spec), expected)


def _read_names(work: Work, made: Source) -> int:
    """Reads the newest kept events that mean nothing once more; gives how many have another name or meaning now."""
    changed = 0
    for event in events.meaning_nothing(work.session, work.live.source_ids[made.key], MOST_RENAMED):
        kept = events.delivery_of(work.session, event)
        try:
            read = read_delivery(made, {"content-type": kept.content_type, **(kept.headers or {})}, kept.body)
        except NotReadable:
            continue
        if event.item < len(read) and (read[event.item].name, read[event.item].type) != (event.name, event.type):
            event.name, event.type = read[event.item].name, read[event.item].type
            changed += 1
    work.session.flush()
    return changed


def rotate_secret(work: Work, key: str, text: str, overlap_hours: int) -> None:
    """Takes a pasted secret, or makes one; the old one stays valid for some hours. Raises Invalid."""
    source = current(work, key)
    if not text:
        standard = source.signing.scheme == "standard-webhooks"
        raw = base64.b64encode(secrets.token_bytes(24)).decode()
        text = f"whsec_{raw}" if standard else secrets.token_urlsafe(24)
    problem = well_made(source.signing, text)
    if problem:
        raise Invalid([problem])
    hours = min(max(overlap_hours, 0), LONGEST_OVERLAP)
    until = work.now + dt.timedelta(hours=hours) if hours else None
    work.vault.put(work.session, "source", work.live.source_ids[key], text, work.now, until)
    work.record("secret rotated", "source", key, None, {"old_valid_for_hours": hours})
    work.change_setup()


def add_sample(work: Work, key: str, name: str, headers: Mapping[str, str], body: bytes) -> str:
    """Keeps a payload as a sample: read like a delivery, and never sent for; gives its event's id. Raises NotReadable,
    and Invalid where it is too large.
    """
    source = current(work, key)
    if len(body) > source.max_bytes:
        what = f"The payload has {len(body):,} bytes, and this source takes {source.max_bytes:,}."
        raise Invalid([Problem("body", what)])
    received = read_delivery(source, headers, body)[0]
    called = name or received.name
    source_id = work.live.source_ids[key]
    id_ = work.events.new_id("ev")
    type_ = source.event_names.get(called, "")
    sample = NewEvent.sample(id_, source_id, called, type_, work.now)
    content_type = headers.get("content-type", "")[:200]
    kept = without_secrets(headers)
    delivery = NewDelivery(id_, source_id, work.now, content_type, kept, body, (sample,))
    work.events.add_sample(delivery)
    work.record("sample kept", "source", key, None, {"event": id_, "name": called})
    return id_


def sign_as_refused(work: Work, key: str, refused_id: int) -> Signing:
    """Takes the way of signing from a refused delivery. Raises NotFound, and Invalid where it tells none."""
    source = current(work, key)
    row = _refused(work, key, refused_id)
    if not row.signing:
        raise Invalid([Problem("", "No header of this delivery looks like a signature.")])
    told = {name: value for name, value in row.signing.items() if name != "verified"}
    spec = source.model_dump(mode="json") | {"signing": told}
    work.specs.save(read_spec(Source, spec), action="signing taken from a refused delivery")
    return read_spec(Signing, told)


def sample_of_refused(work: Work, key: str, refused_id: int) -> str:
    """Keeps a refused delivery as a sample: read like a delivery, and never sent for; gives its event's id. Raises
    NotFound, NotReadable and Invalid.
    """
    row = _refused(work, key, refused_id)
    if row.body is None:
        raise Invalid([Problem("", "This delivery was not kept whole.", "Have the store send it again.")])
    return add_sample(work, key, "", row.headers or {}, row.body)


def _refused(work: Work, key: str, refused_id: int) -> RefusedRow:
    row: RefusedRow | None = work.session.get(RefusedRow, refused_id)
    if row is not None and row.source_id != work.live.source_ids.get(key):
        row = None
    one: RefusedRow = found(row, "This delivery is not kept any more: the newest 100 of each source are.")
    return one


def current(work: Work, key: str) -> Source:
    """A source as it stands in this transaction. Raises NotFound."""
    row: SourceRow = found(work.specs.row("source", key), f"There is no source “{key}”. It may have been deleted.")
    return from_stored(Source, row.spec)
