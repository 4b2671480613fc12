"""Lists as somebody has narrowed them, kept under a name for everybody of the shop."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import urlencode

from angelon.core.problems import Invalid, Problem
from angelon.db.setup import views
from angelon.engine.unit import Work

LONGEST = 2000


def keep(work: Work, page: str, name: str, filters: Sequence[tuple[str, str]]) -> None:
    """Keeps the filters of a page under a name, in place of those that had it. Raises Invalid."""
    called = " ".join(name.split())[:60]
    query = urlencode(filters)
    if not called:
        raise Invalid([Problem("name", "The view has no name.", "Write one, such as Failed texts.")])
    if not filters:
        raise Invalid([Problem("filters", "Nothing is chosen that a view could keep.", "Choose a filter first.")])
    if len(query) > LONGEST:
        raise Invalid([Problem("filters", "There are too many filters for a view.", "Take some off.")])
    if not views.keep(work.session, work.store_id, page, called, query, work.actor.name):
        raise Invalid([Problem("name", f"There are {views.MOST} views already.", "Delete one first.")])
    work.record("view kept", page, called, None, {"filters": query})


def drop(work: Work, page: str, name: str) -> bool:
    """Deletes a view; says whether there was one."""
    gone = views.drop(work.session, work.store_id, page, name)
    if gone:
        work.record("view deleted", page, name)
    return gone
