"""Mails that are deliveries: at which address they come, from whom, and what is found in them."""

from __future__ import annotations

from email_validator import EmailNotValidError
from pydantic import Field, field_validator

from angelon.core.addresses import check_email
from angelon.core.specs.base import OneLine, Spec
from angelon.core.timed_patterns import BadPattern, compiled


class MailIn(Spec):
    """`senders` are addresses, or domains as `@shop.example`, of the From header (RFC 5322) and of the envelope's
    sender. `patterns` are regular expressions with named groups, `(?P<order>BK-\\d+)`, each looked for in the subject,
    a blank line and the text; what a group finds is at `$.found`.
    """

    address: str = Field("", max_length=254)
    senders: list[OneLine] = Field(default_factory=list, max_length=50)
    patterns: list[str] = Field(default_factory=list, max_length=20)
    on: bool = True

    @field_validator("address")
    @classmethod
    def _address(cls, address: str) -> str:
        try:
            return check_email(address).lower()
        except EmailNotValidError as error:
            raise ValueError(f"is no email address: {error}") from None

    @field_validator("senders")
    @classmethod
    def _senders(cls, senders: list[str]) -> list[str]:
        if not senders:
            raise ValueError("names nobody: without a sender, anybody could send orders here")
        for sender in senders:
            try:
                check_email(f"any{sender}" if sender.startswith("@") else sender)
            except EmailNotValidError:
                raise ValueError(f"“{sender}” is no address and no domain: write it like @shop.example") from None
        return [sender.lower() for sender in senders]

    @field_validator("patterns")
    @classmethod
    def _patterns(cls, patterns: list[str]) -> list[str]:
        for pattern in patterns:
            try:
                made = compiled(pattern)
            except BadPattern as error:
                raise ValueError(str(error)) from None
            if not made.groupindex:
                raise ValueError(f"“{pattern[:60]}” has no named group: write one, such as (?P<order>[A-Z]+-[0-9]+)")
        return patterns
