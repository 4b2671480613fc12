"""Who hears of trouble with this installation, by which gateways, and when."""

from __future__ import annotations

from typing import Annotated, Literal

from email_validator import EmailNotValidError
from pydantic import Field, StringConstraints, field_validator

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.specs.base import Key, Spec

AlertKind = Literal[
    "gateway_unreachable",
    "gateway_refuses",
    "worker_missing",
    "backlog",
    "disk",
    "returns_silent",
    "export_failing",
    "archive_failing",
    "handler_failing",
    "orders_missing",
    "held",
    "not_processed",
    "drift",
    "new_status",
    "credit",
    "certificate",
]
AlertRole = Literal["owner", "developer", "writer"]
Clock = Annotated[str, StringConstraints(pattern=r"^(([01]\d|2[0-3]):[0-5]\d)?$")]


def _first_roles() -> list[AlertRole]:
    return ["owner", "developer"]


class Alerts(Spec):
    """`roles` are those of accounts; `emails` are written to besides; `phones` get an SMS of what is urgent. `gateways`
    are tried in this order: all that send email, or SMS, where none of these is named. Each problem is posted to the
    gateways in `calls` (of the kind call) as an event (CloudEvents 1.0) when it begins and when it is over. What is
    urgent is told at once; the rest once in `gather_minutes`, and not in the quiet
    hours. `leave_out` is told never. `heartbeat` is an address that is asked for every minute, as long as all runs.
    """

    on: bool = False
    roles: list[AlertRole] = Field(default_factory=_first_roles, max_length=3)
    emails: list[str] = Field(default_factory=list, max_length=20)
    phones: list[str] = Field(default_factory=list, max_length=10)
    calls: list[Key] = Field(default_factory=list, max_length=5)
    gateways: list[Key] = Field(default_factory=list, max_length=10)
    quiet_from: Clock = ""
    quiet_until: Clock = ""
    gather_minutes: int = Field(60, ge=0, le=1440)
    leave_out: list[AlertKind] = Field(default_factory=list)
    backlog_minutes: int = Field(5, ge=1, le=1440)
    """Since when an event waits to be processed, or a send to be tried, that is told of."""
    disk_percent: int = Field(5, ge=1, le=50)
    """How much of the disk is free, below which it is told of."""
    heartbeat: str = Field("", max_length=500, pattern=r"^(https?://[^\s/?#]+\S*)?$")

    @field_validator("emails")
    @classmethod
    def _addresses(cls, emails: list[str]) -> list[str]:
        try:
            return list(dict.fromkeys(check_email(one.strip()) for one in emails if one.strip()))
        except EmailNotValidError as error:
            raise ValueError(f"has to be email addresses: {error}") from None

    @field_validator("phones")
    @classmethod
    def _numbers(cls, phones: list[str]) -> list[str]:
        try:
            return list(dict.fromkeys(phone_text(read_phone(one, None)) for one in phones if one.strip()))
        except BadPhone as error:
            raise ValueError(f"has to be phone numbers in international form, as +49 30 1234567: {error}") from None
