"""When which event comes from which source, which message goes to whom, through which gateway."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from angelon.core.event_types import well_formed
from angelon.core.specs.base import ChannelKey, Key, Name, OneLine, SetupTag, Spec, VariableName
from angelon.core.specs.condition import Group
from angelon.core.specs.guards import Fallback, Guards
from angelon.core.specs.marks import Marks
from angelon.core.specs.recipients import Recipient
from angelon.core.specs.timing import Timing


def _is_system(recipient: Any) -> bool:
    kind = recipient.get("kind") if isinstance(recipient, dict) else getattr(recipient, "kind", "")
    return bool(kind == "system")


class Prompt(Spec):
    """What whoever runs the route is asked; the answer is that variable's value, of the variable's type. Without one,
    the order's own value stays. With `options`, it is one of these.
    """

    variable: VariableName
    asks: OneLine = ""
    options: list[OneLine] = Field(default_factory=list, max_length=50)
    required: bool = False


class Route(Spec):
    key: Key
    name: Name
    tags: list[SetupTag] = Field(default_factory=list, max_length=10)
    when: list[str] = Field(default_factory=list, max_length=30)
    """Event types; any of them."""
    by_hand: bool = False
    """Whether it waits for no event: somebody runs it."""
    only_new_orders: bool = False
    """Whether it speaks only for orders placed since it was switched on: not for those under way. An event
    `order.created` always counts as a new order's.
    """
    sources: list[Key] = Field(default_factory=list, max_length=50)
    """Keys of sources; any of them."""
    send: str = ""
    """The message's key."""
    channel: ChannelKey = "email"
    to: list[Recipient] = Field(default_factory=lambda: [Recipient()], max_length=20)
    gateway: str = ""
    sender: str = Field("", max_length=60)
    """Who its emails are from, by the key of one of the shop's senders; empty for the message's, else the gateway's."""
    only_if: Group = Field(default_factory=Group)
    """What has to hold; an empty group always does."""
    timing: Timing = Field(default_factory=Timing)
    once: Literal["order", "event", "customer"] = "order"
    """At most one send an order, one an event, or one a customer."""
    once_days: int = Field(0, ge=0, le=3660)
    """For how many days one a customer is enough; 0 for ever."""
    guards: Guards = Field(default_factory=Guards)
    fallback: Fallback = Field(default_factory=Fallback)
    asks: list[Prompt] = Field(default_factory=list, max_length=10)
    marks: Marks = Field(default_factory=Marks)
    """What is noted about the customer where it sends."""
    priority: int = Field(0, ge=-1000, le=1000)
    """Of two routes that would tell the same person the same thing, the one with the lower rank does."""
    urgent: bool = False
    """Whether it goes first where much waits: its events are processed before others, with what came earlier of the
    same order and customer, and its sends go first through their gateway.
    """
    handler: str = Field("", max_length=100)
    """The function of the shop's own (`angelon.handlers`) that says what is sent, in place of `send`, `channel`, `to`,
    `gateway` and `timing`; empty where these say it.
    """

    @model_validator(mode="before")
    @classmethod
    def _one_recipient(cls, data: Any) -> Any:
        if isinstance(data, dict) and isinstance(data.get("to"), str):
            data = {**data, "to": [data["to"]]}
        if isinstance(data, dict) and data.get("channel") == "call":  # made to its gateway's system, whoever was named
            return {**data, "to": [{"kind": "system"}]}
        if isinstance(data, dict) and isinstance(data.get("to"), list) and any(map(_is_system, data["to"])):
            return {**data, "to": [one for one in data["to"] if not _is_system(one)] or ["customer"]}
        return data

    @field_validator("when")
    @classmethod
    def _types(cls, types: list[str]) -> list[str]:
        for name in types:
            if not well_formed(name):
                raise ValueError(f"“{name}” is no event type: write it dotted, like order.created")
        return list(dict.fromkeys(types))

    @field_validator("sources")
    @classmethod
    def _once_each(cls, keys: list[str]) -> list[str]:
        return list(dict.fromkeys(keys))

    def option(self, step: int) -> tuple[str, str, str]:
        """(gateway, channel, message) to try: 0 is the route's own, then those of its fallback in order."""
        if step == 0:
            return self.gateway, self.channel, self.send
        chosen = self.fallback.options[step - 1]
        return chosen.gateway, chosen.channel, chosen.send or self.send
