"""What can say no to a send, and what follows when a way does not work."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from angelon.core.specs.base import Spec


class Cap(Spec):
    """At most so many messages for an order or a customer, by all routes together, in so many days (0: ever)."""

    most: int = Field(3, ge=1, le=1000)
    per: Literal["order", "customer"] = "customer"
    days: int = Field(1, ge=0, le=3660)


class Guards(Spec):
    """A route's own guards, besides once per order, suppression and the store's consent.

    `after_route` is the key of a route that has to have spoken for the order before. `after_answer` asks for an answer
    of the customer (an event `answer.received`) since; `unless_answered` lets the route speak only as long as none has
    come, which is asked again when the send is due; `unless_asking` only as long as no question about the order is
    open. `even_if_notified` lets a route speak although another tells the
    same person the same news by the same channel about the same delivery within the store's echo span.
    """

    caps: list[Cap] = Field(default_factory=list, max_length=6)
    skip_discounted: bool = False
    skip_refunded: bool = False
    after_route: str = Field("", max_length=60)
    after_answer: bool = False
    unless_answered: bool = False
    unless_asking: bool = False
    even_if_notified: bool = False


class FallbackOption(Spec):
    """Another way to the same person: a gateway, and a message where it is another one."""

    gateway: str = Field(max_length=60)
    channel: Literal["email", "sms", "chat"] = "sms"
    send: str = Field("", max_length=60)


class Fallback(Spec):
    """What happens when the way before gives up, or the reader has no address for it, or it is not out in time.

    `within_minutes` counts from when the send was due; 0 waits for as long as the gateway's retries take. `tell` is the
    role in the shop that hears of it when no way is left. `no_address` says what becomes of a send for which there is
    no address by any way: it is held, so that somebody finds one, or skipped.
    """

    options: list[FallbackOption] = Field(default_factory=list, max_length=5)
    within_minutes: int = Field(0, ge=0, le=20_160)
    tell: str = Field("", max_length=100)
    no_address: Literal["hold", "skip"] = "hold"
