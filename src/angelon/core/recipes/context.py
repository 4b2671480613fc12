"""What a step may look at besides the value in its hands."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import ZoneInfo

from angelon.core.numbers import observed_sign
from angelon.core.payload.paths import MISSING, BadPath, compile_path, looks_like_path
from angelon.core.problems import Problem
from angelon.core.specs.variable import Step


class StepFailed(ValueError):
    """This step can't be done on this value: what is wrong, and what to do."""

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.hint = hint

    def problem(self, where: str) -> Problem:
        return Problem(where, self.what, self.hint)


@dataclass(frozen=True)
class Context:
    """The surroundings of an evaluation.

    `zone` is the store's time zone; `currency` and `country` what the order says, else the store's. `variable` looks
    another variable's value up, for the step `template`.
    """

    payload: Any = None
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))
    currency: str = ""
    country: str = ""
    locale: str = "en"
    lookups: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    shared: Mapping[str, Sequence[Step]] = field(default_factory=dict)
    decimal: str = ""
    """The decimal sign of the source's numbers in text, where it was stated."""
    root: Any = None
    """The whole payload, where `payload` is one item of it."""
    known: dict[str, str] = field(default_factory=dict, compare=False)
    """What was found out about the payload once for all its recipes."""
    depth: int = 0
    """How many times `run` has been entered."""
    variable: Callable[[str], Any] | None = None

    def but(self, **changed: Any) -> Context:
        """The same surroundings but for these: `dataclasses.replace`, which takes five times as long."""
        made = object.__new__(Context)
        made.__dict__.update(self.__dict__, **changed)
        return made

    def parameter(self, given: Any) -> Any:
        """A parameter as it stands, or the address at its path where it is one (`$.ship_to.country`)."""
        if not looks_like_path(given):
            return given
        try:
            found = compile_path(given).find(self.payload)
        except BadPath as error:
            raise StepFailed(error.problem.what, error.problem.hint) from None
        if found is MISSING or isinstance(found, dict | list):
            return None
        return found

    def decimal_sign(self) -> str:
        """The decimal sign of the payload's numbers in text: as stated, else as other numbers of the payload show it;
        empty where they show none.
        """
        if self.decimal:
            return self.decimal
        if "sign" not in self.known:
            self.known["sign"] = observed_sign(self.payload if self.root is None else self.root)
        return self.known["sign"]

    def in_zone(self, moment: dt.datetime) -> dt.datetime:
        """The moment as the store's clocks show it; one without a zone is taken to be the store's."""
        return moment.replace(tzinfo=self.zone) if moment.tzinfo is None else moment.astimezone(self.zone)
