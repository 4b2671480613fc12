"""What has to hold for a route to speak: comparisons, in groups of all, any or none."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Any, Literal

import regex
from pydantic import Discriminator, Field, Tag, field_validator, model_validator

from angelon.core.event_types import label as event_label
from angelon.core.specs.base import OneLine, Spec

OPERATORS: dict[str, tuple[str, ...]] = {
    "text": (
        "is",
        "is_not",
        "one_of",
        "none_of",
        "contains",
        "starts_with",
        "ends_with",
        "matches",
        "present",
        "absent",
    ),
    "number": ("is", "is_not", "greater", "at_least", "less", "at_most", "between", "present", "absent"),
    "date": ("is", "before", "after", "between", "present", "absent"),
    "flag": ("yes", "no"),
    "change": ("changed",),
}
"""Which comparisons a kind of value knows."""

OPERATOR_LABELS: dict[str, str] = {
    "is": "is",
    "is_not": "is not",
    "one_of": "is one of",
    "none_of": "is none of",
    "contains": "contains",
    "starts_with": "starts with",
    "ends_with": "ends with",
    "matches": "matches",
    "greater": "is more than",
    "at_least": "is at least",
    "less": "is less than",
    "at_most": "is at most",
    "between": "is between",
    "before": "is before",
    "after": "is after",
    "present": "is there",
    "absent": "is not there",
    "yes": "is so",
    "no": "is not so",
    "changed": "changed",
}

SUBJECT_LABELS: dict[str, str] = {
    "history.statuses": "the order’s statuses so far",
    "history.payment_statuses": "the payment statuses so far",
    "history.fulfilment_statuses": "the fulfilment statuses so far",
    "history.return_statuses": "the return statuses so far",
    "history.events": "the order’s events so far",
    "history.answer": "the customer’s last answer",
    "history.answers": "the customer’s answers",
    "contact.orders": "the customer’s number of orders",
    "contact.returned": "the customer has returned something",
    "contact.complained": "the customer has complained",
    "contact.language": "the customer’s language",
    "contact.tags": "the customer’s tags",
    "contact.country": "the customer’s country",
    "contact.spent": "the customer’s total spent",
    "contact.products": "the products the customer has bought",
}
"""What people call what is looked at, where its name does not say it."""

_SUBJECT = re.compile(r"[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)?\Z")


def subject_label(name: str) -> str:
    """What people call what a comparison looks at: `order.country` is “order’s country”."""
    if name.startswith("kept."):
        return f"the customer’s last known {name[5:].replace('_', ' ')}"
    if name.startswith("question."):
        return f"the answer to “{name[9:].replace('_', ' ')}”"
    return SUBJECT_LABELS.get(name) or name.replace("_", " ").replace(".", "’s ", 1)


def _quoted(value: str) -> str:
    """A value as a sentence has it: in quotation marks where it is several words."""
    return f"“{value}”" if len(value.split()) > 1 or "," in value else value


class Compare(Spec):
    """One comparison.

    `of` names what is looked at: a variable (`total`), a part of the reading (`order.country`), the order's history
    (`history.statuses`), the customer's (`contact.orders`, `kept.loyalty`), or the change of status (`status`). For a
    list, `which` says how many of its items have to fit, or that they are counted, and `item` which field of each is
    looked at.
    `value`, `to` and `values` are written as people write them: `20`, `2026-12-24`, `today+3`. A pattern is a regular
    expression that has to be found. With `again` it has to hold when the send is due, too.
    """

    kind: Literal["compare"] = "compare"
    of: str = Field(max_length=80)
    which: Literal["", "any", "all", "none", "count"] = ""
    item: str = Field("", max_length=60)
    op: str = Field("is", max_length=20)
    value: OneLine = ""
    to: OneLine = ""
    values: list[OneLine] = Field(default_factory=list, max_length=500)
    again: bool = False

    @cached_property
    def label(self) -> str:
        """The comparison as people read it."""
        if self.of.startswith("segment."):
            return f"the customer is {'not ' if self.op == 'no' else ''}in “{self.of[8:].replace('_', ' ')}”"
        of = subject_label(self.of)
        if self.of in ("contact.returned", "contact.complained"):
            return of if self.op == "yes" else of.replace(" has ", " has not ").replace("something", "anything")
        if self.which == "count":
            of = f"the number of {of}"
        elif self.which:
            of = f"{self.which} of {of}{': ' + self.item if self.item else ''}"
        named = event_label if self.of == "history.events" and self.which != "count" else _quoted
        given = (
            ", ".join(map(named, self.values))
            if self.op in ("one_of", "none_of")
            else f"{_quoted(self.value)} and {_quoted(self.to)}"
            if self.op == "between"
            else named(self.value)
        )
        if self.op == "changed":
            given = " ".join(
                word
                for word in (f"from {self.value}" if self.value else "", f"to {self.to}" if self.to else "")
                if word
            )
        return " ".join(
            word
            for word in (
                of,
                OPERATOR_LABELS[self.op],
                given if self.op not in ("present", "absent", "yes", "no") else "",
            )
            if word
        )

    @field_validator("of")
    @classmethod
    def _named(cls, of: str) -> str:
        if not _SUBJECT.match(of):
            raise ValueError(f"“{of}” names nothing that can be compared")
        return of

    @field_validator("op")
    @classmethod
    def _known(cls, op: str) -> str:
        if op not in OPERATOR_LABELS:
            raise ValueError(f"“{op}” is no comparison; there are {', '.join(OPERATOR_LABELS)}")
        return op

    @model_validator(mode="after")
    def _pattern(self) -> Compare:
        if self.op == "matches":
            try:
                regex.compile(self.value)
            except (regex.error, RecursionError, OverflowError) as error:
                raise ValueError(f"“{self.value}” is no regular expression: {error}") from None
        return self


class Group(Spec):
    """Conditions that count together. An empty group of all or none holds, an empty group of any does not."""

    kind: Literal["group"] = "group"
    join: Literal["all", "any", "none"] = "all"
    of: list[Condition] = Field(default_factory=list, max_length=50)

    @model_validator(mode="before")
    @classmethod
    def _shallow(cls, data: Any, depth: int = 0) -> Any:
        if _depth(data) > 8:
            raise ValueError("nests more than eight groups in one another")
        return data


def _kind(data: Any) -> str:
    """Which of the two a condition is; written short, without its kind, a group is what holds a list."""
    kind = data.get("kind") if isinstance(data, dict) else getattr(data, "kind", None)
    if kind is None and isinstance(data, dict):
        kind = "compare" if isinstance(data.get("of"), str) else "group"
    return str(kind)


Condition = Annotated[Annotated[Compare, Tag("compare")] | Annotated[Group, Tag("group")], Discriminator(_kind)]
Group.model_rebuild()


def _depth(data: Any) -> int:
    inner = data.get("of") if isinstance(data, dict) else getattr(data, "of", None)
    if not isinstance(inner, list):
        return 0
    return 1 + max((_depth(item) for item in inner), default=0)


def compares(group: Group) -> list[Compare]:
    """Every comparison of a group and the groups in it, in order."""
    found: list[Compare] = []
    for inner in group.of:
        found += compares(inner) if isinstance(inner, Group) else [inner]
    return found
