"""What is told of what nobody expected, and where a send's page is."""

from __future__ import annotations

from angelon.db.setup.live_setup import LiveSetup


def link_to(live: LiveSetup, base_url: str, send_id: str) -> str:
    """A send's page, for a message; `base_url` is the installation's address, where the store has none of its own."""
    return f"{live.setup.store.base_url or base_url}{live.root}/sends/{send_id}"


def describe_fault(error: Exception) -> str:
    """What is stored of an exception that nobody expected: its kind and its first line."""
    text = " ".join(str(error).split())[:200].encode("utf-8", "replace").decode().replace("\x00", "\ufffd")
    return f"{type(error).__name__}: {text}" if text else type(error).__name__
