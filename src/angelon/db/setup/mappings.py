"""Mappings of sources: the draft, its steps, and the revisions of what has been live."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlmodel import Session, col, delete, func, select

from angelon.core.specs import Source
from angelon.core.specs.mapping import Mapping, mapping_of
from angelon.core.specs.stored import from_stored, to_stored, upgraded
from angelon.db.tables import MappingStepRow, RevisionRow, SourceRow

KIND = "mapping"
"""What a revision of a mapping is kept as; its owner is the source's row."""
MOST_STEPS = 100
"""Edits of one draft that can be undone."""


def drafts(session: Session, store_id: int) -> dict[str, dict[str, Any]]:
    """The stored drafts of a store's sources, by the source's key."""
    rows = session.exec(
        select(SourceRow.key, SourceRow.draft).where(
            SourceRow.store_id == store_id, col(SourceRow.drafted_at).is_not(None)
        )
    )
    return {key: dict(draft) for key, draft in rows if draft is not None}


def save_draft(session: Session, row: SourceRow, mapping: Mapping | None, now: dt.datetime) -> None:
    """Stores a draft; None, and there is none any more."""
    row.draft = to_stored(mapping) if mapping is not None else None
    row.drafted_at = now if mapping is not None else None
    row.edits = (row.edits or 0) + 1
    session.flush()


def add_step(session: Session, row: SourceRow, said: str, actor: str, now: dt.datetime) -> None:
    """Keeps the draft as it stands, before an edit that `said` names."""
    assert row.id is not None
    session.add(MappingStepRow(source_id=row.id, at=now, actor=actor, said=said[:200], before=row.draft))
    session.flush()
    kept = steps(session, row.id, MOST_STEPS + 1)
    if len(kept) > MOST_STEPS:
        session.delete(kept[-1])


def steps(session: Session, source_id: int, most: int = MOST_STEPS) -> Sequence[MappingStepRow]:
    """The edits of a draft that can be undone, newest first."""
    of_source = select(MappingStepRow).where(MappingStepRow.source_id == source_id)
    return session.exec(of_source.order_by(col(MappingStepRow.id).desc()).limit(most)).all()


def forget_steps(session: Session, source_id: int) -> None:
    session.exec(delete(MappingStepRow).where(col(MappingStepRow.source_id) == source_id))


def forget_if_live(session: Session, row: SourceRow) -> None:
    """Forgets a draft that says what is live, as where that was changed another way, with the edits that led to it."""
    if row.draft is None or row.id is None:
        return
    draft, live = (upgraded(kind, data) for kind, data in ((KIND, row.draft), ("source", row.spec)))
    if all((draft.get(part) or {}) == (live.get(part) or {}) for part in Mapping.model_fields):
        row.draft, row.drafted_at = None, None
        forget_steps(session, row.id)


def keep_revision(session: Session, row: SourceRow, source: Source, now: dt.datetime, note: str = "") -> int:
    """Keeps what a source's mapping is now as a revision where it is not that of the last; gives the last's number,
    0 where nothing was ever mapped. A note is kept with it.
    """
    assert row.id is not None
    mapping = mapping_of(source)
    owned = (RevisionRow.kind == KIND, RevisionRow.owner_id == row.id)
    number = session.exec(select(func.max(RevisionRow.number)).where(*owned)).one() or 0
    last = session.exec(select(RevisionRow).where(*owned, RevisionRow.number == number)).first()
    if last is not None and note:
        last.note = note
    if upgraded(KIND, last.spec) == mapping.plain() if last is not None else not mapping.plain():
        return number
    session.add(RevisionRow(kind=KIND, owner_id=row.id, number=number + 1, spec=to_stored(mapping), created_at=now))
    session.flush()
    return number + 1


def revision(session: Session, source_id: int, number: int) -> Mapping | None:
    """What was mapped in a revision. Raises Invalid where it can't be read."""
    owned = (RevisionRow.kind == KIND, RevisionRow.owner_id == source_id, RevisionRow.number == number)
    spec = session.exec(select(RevisionRow.spec).where(*owned)).first()
    return from_stored(Mapping, spec) if spec is not None else None
