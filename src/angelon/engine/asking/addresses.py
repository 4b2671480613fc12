"""Look-ups: one request to an address about one event."""

from __future__ import annotations

import datetime as dt
from typing import Any

import structlog
from sqlmodel import Session

from angelon.core.enriching import answer, look_up_request
from angelon.core.problems import Invalid
from angelon.core.specs.enrichment import Enrichment
from angelon.db.access.secrets import Vault
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import LOOK_UP
from angelon.gateways.fetching import CantFetch, fetch

log = structlog.get_logger()


def secret_kind(name: str) -> str:
    """What the credentials of a look-up are kept as, by its source."""
    return f"{LOOK_UP}{name}"


def secret_of(vault: Vault | None, session: Session, source_id: int, one: Enrichment, now: dt.datetime) -> str:
    """The password or token of a look-up; empty where it needs or has none. Raises WrongKey."""
    if vault is None or one.auth.scheme == "none":
        return ""
    kept = vault.get(session, secret_kind(one.name), source_id, now)
    return kept[0].text if kept else ""


def ask(live: LiveSetup, one: Enrichment, context: Any, secret: str = "") -> tuple[str, Any, str, bool]:
    """One try: (address, value, problem, whether another try would come to the same)."""
    url = ""
    try:
        request = look_up_request(one, context, secret)
        url = request.url
        body = request.body if one.method == "POST" else None
        hosts = live.setup.store.private_hosts
        found = fetch(url, hosts, one.max_bytes, one.timeout_seconds, request.headers, body)
        return url, answer(one, found), "", False
    except Invalid as error:
        return url, None, error.problems[0].what, True
    except CantFetch as error:
        return url, None, str(error), error.for_good
    except Exception as error:
        log.exception("an address could not be asked", url=url)
        return url, None, f"It could not be asked: {type(error).__name__}.", False
