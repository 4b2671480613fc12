"""A way out. Credentials are kept apart, encrypted; a spec never holds one."""

from __future__ import annotations

from typing import Literal

from email_validator import EmailNotValidError
from pydantic import Field, field_validator

from angelon.core.addresses import check_email
from angelon.core.retries import RetryPolicy
from angelon.core.specs.base import Key, Name, OneLine, Spec


class Sender(Spec):
    """Who a mail comes from."""

    address: str = Field(max_length=254)
    name: OneLine = ""
    reply_to: str = Field("", max_length=254)

    @field_validator("address", "reply_to")
    @classmethod
    def _address(cls, address: str) -> str:
        if not address:
            return address
        try:
            return check_email(address)
        except EmailNotValidError as error:
            raise ValueError(f"is no email address: {error}") from None


class Gateway(Spec):
    """An SMTP server (RFC 5321). `tls`: `none`, `starttls` (RFC 3207), or `implicit` (RFC 8314)."""

    key: Key
    name: Name
    kind: Literal["smtp"] = "smtp"
    host: OneLine = Field("localhost", min_length=1)
    port: int = Field(25, ge=1, le=65535)
    tls: Literal["none", "starttls", "implicit"] = "none"
    username: OneLine = ""
    timeout_seconds: float = Field(20, gt=0, le=40)
    sender: Sender
    retry: RetryPolicy = Field(default_factory=RetryPolicy)
    paused: bool = False

    @property
    def channel(self) -> str:
        return "email"
