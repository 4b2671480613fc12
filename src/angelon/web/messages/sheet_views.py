"""A message at a glance: each channel in each language as it would go for the sample event, and all as tests."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for

from angelon.core.messages.channels import CHANNEL_LABELS, CHANNELS
from angelon.core.problems import Invalid
from angelon.engine.operations import sends as send_operations
from angelon.web.messages.preview import Preview, preview
from angelon.web.messages.views import sample_event, stored_message
from angelon.web.services import live, work

pages = Blueprint("sheets", __name__, url_prefix="/messages/<key>/all", template_folder="templates")


@dataclass(frozen=True)
class Variant:
    """One text as its reader would get it."""

    channel: str
    locale: str
    seen: Preview

    @property
    def errors(self) -> int:
        return sum(1 for problem in self.seen.problems if problem.severity == "error")


@pages.get("")
def show(key: str) -> Any:
    row, sample = stored_message(key), sample_event(key)
    message = row.spec
    variants = [
        Variant(channel, locale, preview(message, channel, locale, live(), sample))
        for channel in CHANNELS
        for locale in message.variants(channel)
    ]
    ways = {gateway.channel for gateway in live().setup.gateways.values()}
    return render_template(
        "messages/all.html",
        row=row,
        message=message,
        sample=sample,
        variants=variants,
        sendable=[one for one in variants if one.channel in ways and one.channel != "call" and one.seen.made],
        team=live().setup.store.team,
        called=CHANNEL_LABELS,
    )


@pages.post("")
def send_all(key: str) -> Any:
    """Sends each text that can be made to somebody of the team, as a test through the real gateways."""
    row, sample = stored_message(key), sample_event(key).facts()
    team = live().setup.store.team
    chosen = next((one for one in team if one.name == request.form.get("who", "")), None)
    sent, refused = 0, []
    for channel in CHANNELS:
        gateway = next((one.key for one in live().setup.gateways.values() if one.channel == channel), "")
        typed = request.form.get(channel, "").strip()
        to = typed or (chosen.address(channel) if chosen is not None else "")
        if channel == "call" or not gateway or not to:
            continue
        for locale in row.spec.variants(channel):
            try:
                with work() as unit:
                    send_operations.send_test(unit, row.id, row.spec, channel, locale, gateway, to, sample)
                sent += 1
            except Invalid as error:
                refused.append(f"{CHANNEL_LABELS[channel]}, {locale}: {error.problems[0].what}")
    if sent:
        flash(f"{sent} {'test is' if sent == 1 else 'tests are'} on the way, each marked as a test.", "good")
    elif not refused:
        flash("Choose somebody of the team, or write an address.", "bad")
    for what in refused[:5]:
        flash(f"Not sent: {what}", "bad")
    return redirect(url_for(".show", key=key))
