"""What is asked elsewhere about an event before it is mapped."""

from __future__ import annotations

import re
from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from angelon.core.retries import RetryPolicy
from angelon.core.specs.base import OneLine, Spec, VariableName
from angelon.core.specs.gateway import Auth
from angelon.core.specs.variable import Recipe

_NAMED = re.compile(r"\{([^{}]*)\}")


READABLE = ("none", "basic", "bearer", "header")
"""How a request that only reads may show who asks."""


def checked_auth(auth: Auth) -> Auth:
    """How a request that only reads shows who asks. Raises ValueError."""
    if auth.scheme not in READABLE:
        raise ValueError("has to be none, basic, bearer or header")
    if auth.scheme == "header" and not auth.header:
        raise ValueError("names no header: write the one that carries the token, such as X-Api-Key")
    if auth.scheme == "basic" and not auth.username:
        raise ValueError("has no user name")
    return auth


class Enrichment(Spec):
    """One request (RFC 9110, section 9.3.1 or 9.3.3) for each delivery. The answer is in the payload under `+name`.

    `url` may hold `{parameter}` in its path (RFC 6570, level 1); parameters that it does not name go into the query of
    a GET, and into the body of a POST: `body` is a template over them, a JSON object of them where it is empty. A
    parameter with no path has a fixed value, its default. `auth` shows who asks; its secret is kept apart.
    `events` are the store's own names of the deliveries that it is asked for, all where there is none.
    """

    name: VariableName
    method: Literal["GET", "POST"] = "GET"
    url: OneLine
    parameters: dict[VariableName, Recipe] = Field(default_factory=dict, max_length=20)
    body: str = Field("", max_length=20_000)
    auth: Auth = Field(default_factory=Auth)
    events: list[OneLine] = Field(default_factory=list, max_length=50)
    format: Literal["json", "html", "text"] = "json"
    timeout_seconds: float = Field(5, gt=0, le=30)
    max_bytes: int = Field(500_000, ge=1000, le=5_000_000)
    retry: RetryPolicy = Field(
        default_factory=lambda: RetryPolicy(base_seconds=5, cap_seconds=120, max_tries=6, give_up_after_hours=1)
    )

    @property
    def root(self) -> str:
        """The path under which the answer stands."""
        return f"$['+{self.name}']"

    @field_validator("url")
    @classmethod
    def _address(cls, url: str) -> str:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.netloc or "{" in parts.netloc or "@" in parts.netloc:
            raise ValueError("is no web address: it starts with https:// and a host, and holds no password")
        return url

    @field_validator("auth")
    @classmethod
    def _known(cls, auth: Auth) -> Auth:
        return checked_auth(auth)

    @model_validator(mode="after")
    def _named(self) -> Enrichment:
        for name in _NAMED.findall(self.url):
            if name not in self.parameters:
                raise ValueError(f"has {{{name}}} in its address, and no parameter is called that")
        return self
