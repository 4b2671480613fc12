"""Whom a route speaks to."""

from __future__ import annotations

from typing import Literal

from pydantic import model_validator

from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.specs.base import OneLine, Spec


class Recipient(Spec):
    """The order's customer; everybody of the shop with a role; one fixed address; the address at a path (RFC 9535); or
    a variable, whose steps make an address of whatever the payload holds. `system` is the other side of a call.

    Each address gets a send of its own. `who` is the role, the address, the path or the variable's name; `name` what a
    fixed one is called.
    """

    kind: Literal["customer", "role", "address", "path", "variable", "system"] = "customer"
    who: OneLine = ""
    name: OneLine = ""

    @model_validator(mode="before")
    @classmethod
    def _short(cls, data: object) -> object:
        return {"kind": "customer"} if data == "customer" else data

    @model_validator(mode="after")
    def _whole(self) -> Recipient:
        if self.kind not in ("customer", "system") and not self.who:
            raise ValueError(
                {
                    "role": "names no role",
                    "address": "has no address or number",
                    "path": "has no path",
                    "variable": "names no variable",
                }[self.kind]
            )
        if self.kind == "path":
            try:
                compile_path(self.who)
            except BadPath as error:
                raise ValueError(f"is no path: {error.problem.what}") from None
        return self

    @property
    def label(self) -> str:
        """How the sentence calls it."""
        return {
            "customer": "the customer",
            "system": "the system behind the gateway",
            "role": f"the {self.who}",
            "address": self.name or self.who,
            "path": f"the address at {self.who}",
            "variable": f"the {self.who.replace('_', ' ')}",
        }[self.kind]
