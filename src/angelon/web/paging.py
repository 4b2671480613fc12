"""Lists by key: a page begins after the last row of the one before, so that the oldest row is as near as the newest."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from typing import Any, Generic, TypeVar
from urllib.parse import urlencode

from flask import request

from angelon.web.numbers import whole

Row = TypeVar("Row")
BEFORE = "before"
"""The parameter that says after which row a page begins: its time and its id, parted by `~`."""


class Page(Generic[Row]):
    """The rows of one page, out of one more than it shows."""

    def __init__(self, rows: Sequence[Row], size: int) -> None:
        self.items = list(rows[:size])
        self._more = len(rows) > size

    def older(self, key: Callable[[Row], tuple[dt.datetime, Any]]) -> str:
        """The address of the next page, everything else as it was asked for; empty where this is the last. `key` gives
        a row's time (aware) and id.
        """
        if not self._more or not self.items:
            return ""
        at, id_ = key(self.items[-1])
        asked = [(name, value) for name, value in request.args.items(multi=True) if name != BEFORE]
        return f"{request.path}?{urlencode([*asked, (BEFORE, f'{at.isoformat()}~{id_}')])}"

    @staticmethod
    def after() -> tuple[dt.datetime, str] | None:
        """After which row the page asked for begins: time (aware) and id; None for the first."""
        at, _, id_ = request.args.get(BEFORE, "").partition("~")
        try:
            moment = dt.datetime.fromisoformat(at)
        except ValueError:
            return None
        return (moment, id_) if moment.tzinfo is not None and 1970 <= moment.year <= 9000 else None

    @staticmethod
    def after_time() -> tuple[dt.datetime, int] | None:
        """The same, for rows whose ids are numbers."""
        found = Page.after()
        number = whole(found[1]) if found is not None else None
        return (found[0], number) if found is not None and number is not None else None
