"""How the orders of a store that calls nobody, or the rows of a table, are fetched."""

from __future__ import annotations

from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from angelon.core.specs.base import ListPath, OneLine, PathText, Spec
from angelon.core.specs.enrichment import checked_auth
from angelon.core.specs.gateway import Auth


class Request(Spec):
    """An address that is read by GET (RFC 9110, section 9.3.1), and how it is shown who asks."""

    url: OneLine
    auth: Auth = Field(default_factory=Auth)
    items_at: ListPath = "$"
    """The path of the list in an answer that is JSON."""
    on: bool = False

    @field_validator("url")
    @classmethod
    def _address(cls, url: str) -> str:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.netloc or "@" in parts.netloc or parts.fragment:
            raise ValueError("is no web address: it starts with https:// and a host, and holds no password")
        return url

    @field_validator("auth")
    @classmethod
    def _known(cls, auth: Auth) -> Auth:
        return checked_auth(auth)


class TableFetch(Request):
    """A table that is fetched: CSV, a spreadsheet, JSON or JSON Lines, its key in the first column."""

    every_hours: int = Field(24, ge=1, le=168)


class Fetch(Request):
    """Requests by GET (RFC 9110, section 9.3.1) of what has changed since the last ones.

    `items_at` is the path of the list of orders in the answer. `pages` says how the next page is known: by a Link
    header (RFC 8288, `rel="next"`), by a cursor at `next_at` that goes into the query as `page_parameter` (a whole
    address stands for itself), or by a page number that counts from `first_page`. `since_parameter` carries the newest
    time or id that was seen at `since_at` (the path within an order), in `since_form`; a time goes back by
    `overlap_seconds`. Without it, all is fetched each time. What comes again unchanged makes no event.
    """

    pages: Literal["one", "link", "cursor", "number"] = "one"
    next_at: PathText = ""
    page_parameter: OneLine = ""
    first_page: int = Field(1, ge=0, le=1)
    since_parameter: OneLine = ""
    since_at: PathText = ""
    since_form: Literal["iso", "unix", "date", "id"] = "iso"
    overlap_seconds: int = Field(120, ge=0, le=604_800)
    every_minutes: int = Field(5, ge=1, le=1440)
    an_hour: int = Field(300, ge=1, le=3600)
    """Requests in an hour, at most."""
    timeout_seconds: float = Field(15, gt=0, le=30)
    max_bytes: int = Field(5_000_000, ge=1000, le=20_000_000)

    @model_validator(mode="after")
    def _whole(self) -> Fetch:
        if self.pages == "cursor" and not self.next_at:
            raise ValueError("says pages follow by a cursor, and not at which path of the answer it is, such as $.next")
        if self.pages in ("cursor", "number") and not self.page_parameter:
            raise ValueError("names no parameter that asks for the next page, such as page or after")
        if self.since_parameter and not self.since_at:
            raise ValueError(
                "sends along the newest time or ID, and has no path to it within an order, such as $.updated_at"
            )
        return self
