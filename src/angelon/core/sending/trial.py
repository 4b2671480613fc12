"""A store on trial: everything is decided and made as ever, and nothing reaches a customer. Pure."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Literal

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.segments import count
from angelon.core.messages.sms import RenderedSms
from angelon.core.specs.store import Store

if TYPE_CHECKING:
    from angelon.core.sending.prepare import Ready

Trial = Literal["", "team", "nobody"]
"""Off; each send goes to the team; or to nobody."""
LABELS: dict[str, str] = {
    "": "customers get what is sent",
    "team": "the team gets what customers would have got",
    "nobody": "nothing goes out",
}
BEGINS = "On trial: "
"""How the reason of a send begins that a trial kept from its recipient."""


def on_trial(ready: Ready, trial: str, store: Store, channel: str) -> Ready:
    """What is handed over in place of what was made ready: the same to somebody of the team, marked, with who would
    have got it; or nothing, with `kept` saying so. Systems that are called are called by nobody on trial.
    """
    told = f"by {CHANNEL_LABELS[channel]} to {ready.recipient or 'nobody'}"
    address = "" if trial == "nobody" else _of_team(store, channel)
    if not address:
        why = "" if trial == "nobody" or channel == "call" else f" Nobody of the team has an address for {channel}."
        return replace(ready, kept=f"{BEGINS}it would have gone {told}.{why}")
    mark = f"[trial, for {ready.recipient}] "
    rendered = ready.rendered
    if isinstance(rendered, RenderedEmail):
        rendered = replace(rendered, subject=mark + rendered.subject)
    elif isinstance(rendered, RenderedSms):
        rendered = replace(rendered, text=mark + rendered.text, count=count(mark + rendered.text))
    note = f"{BEGINS}it went to {address}, and would have gone {told}."
    return replace(ready, recipient=address, rendered=rendered, cc=(), bcc=(), trial=note)


def _of_team(store: Store, channel: str) -> str:
    """The first address of the team for a channel; those in the role of a developer before others."""
    team = sorted(store.team, key=lambda member: member.role.casefold() != "developer")
    if channel == "call":
        return ""
    return next((address for member in team if (address := member.address(channel))), "")
