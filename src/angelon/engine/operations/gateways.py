"""Gateways: created, saved, paused and resumed, tried, their sender verified."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from typing import Any

from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.db.log import sends
from angelon.db.upkeep import gateway_health, gateway_use
from angelon.engine.installation import Installation
from angelon.engine.operations import senders, upkeep
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import MACHINE, Actor, Work, unit

KINDS = {
    "smtp": "a mail server (SMTP)",
    "sms": "an SMS provider (HTTP)",
    "chat": "a chat provider (HTTP)",
    "call": "another system (HTTP calls)",
}
_SMS_BODY = '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ text | json }}}'
_CHAT_BODY = '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ text | json }}}'
_FIRST_CALLS: dict[str, dict[str, Any]] = {
    kind: {"body": body, "headers": {"Idempotency-Key": "{{ key }}"}, "id_at": "$.id"}
    for kind, body in (("sms", _SMS_BODY), ("chat", _CHAT_BODY))
} | {"call": {}}
"""What a new provider's request starts from."""


def create(work: Work, name: str, kind: str) -> str:
    """A new gateway with what its kind starts from, off until it was tried; gives its key. Raises Invalid."""
    if kind not in KINDS:
        raise Invalid([Problem("kind", f"“{kind}” is no kind of gateway.", f"Choose one of {', '.join(KINDS)}.")])
    key = upkeep.free_key(work, "gateway", name)
    spec: dict[str, Any] = {"key": key, "name": name, "kind": kind, "untried": True}
    if kind == "smtp":
        spec |= {"host": "", "sender": {"address": work.live.setup.store.support_email}}
    else:
        spec |= {"auth": {"scheme": "bearer"}, "call": _FIRST_CALLS[kind]}
    work.specs.save(read_spec(Gateway, spec))
    return key


def save(work: Work, gateway: Gateway, password: str = "", expected: int | None = None) -> None:
    """A gateway's settings, and its password or token where there is a new one. Raises Conflict, and Invalid where it
    would speak to somebody else and the credentials for that are not given.
    """
    missing = _missing(gateway)
    if missing:
        raise Invalid(missing)
    others = {key: name for key, name in upkeep.names_of(work.session, work.store_id, "gateway").items()}
    upkeep.refuse_twin(gateway.name, (name for key, name in others.items() if key != gateway.key), "gateway")
    before = work.live.setup.gateways.get(gateway.key)
    known = before.sender.address if before is not None and before.sender is not None else ""
    if gateway.sender is not None and gateway.sender.address != known:
        senders.refuse_customer(work, store_operations.current(work), gateway.sender.address)
    if gateway.sender is not None:
        verified = senders.is_verified(work, gateway.sender.address)
        gateway = gateway.model_copy(update={"sender": gateway.sender.model_copy(update={"verified": verified})})
    had = before is not None and bool(
        work.vault.get(work.session, "gateway", work.live.gateway_ids[gateway.key], work.now)
    )
    row = work.specs.save(gateway, expected)
    if had and not password and not work.vault.get(work.session, "gateway", row.id, work.now):
        word = "password" if gateway.kind == "smtp" else "token or password"
        what = f"The address has changed, and the {word} that is kept belongs to the old one."
        raise Invalid([Problem("password", what, f"Type the {word} for the new address.")])
    if password:
        work.vault.put(work.session, "gateway", row.id, password, work.now)
        work.record("secret replaced", "gateway", gateway.key)
    gateway_health.forget(work.connection, row.id)


def _missing(gateway: Gateway) -> list[Problem]:
    """What a new gateway lacks to be saved."""
    if gateway.kind != "smtp":
        return []
    found = [] if gateway.host else [Problem("host", "The server has no name yet.", "Write it, as mail.shop.example.")]
    if gateway.sender is not None and not gateway.sender.address:
        what = "No From address is set."
        found.append(Problem("sender.address", what, "Write the shop’s own address, as hello@shop.example."))
    return found


def pause(work: Work, gateway: Gateway) -> None:
    """Holds what is due for it until it is resumed."""
    work.specs.save(gateway.model_copy(update={"paused": True}), action="paused")


def resume(work: Work, gateway: Gateway) -> int:
    """Sends through it, tried or not, and releases what was held for it; says how many sends that is. Raises Invalid
    where it is new and has no server or no sender yet.
    """
    missing = _missing(gateway)
    if missing:
        raise Invalid(missing)
    row = work.specs.save(gateway.model_copy(update={"paused": False, "untried": False}), action="resumed")
    work.wake()
    whys = [f"{gateway.name} {off}." for off in ("is paused", "was not tried yet")]
    return sum(sends.release_held(work.connection, work.store_id, why, work.now, row.id) for why in whys)


def found_working(work: Work, key: str) -> int:
    """Switches a new gateway on that was just seen to work; says how many held sends go out. One that is paused stays
    so.
    """
    gateway = work.live.setup.gateways.get(key)
    if gateway is None or not gateway.untried:
        return 0
    row = work.specs.save(gateway.model_copy(update={"untried": False}), action="tried, and switched on")
    work.wake()
    return sends.release_held(work.connection, work.store_id, f"{gateway.name} was not tried yet.", work.now, row.id)


def set_balance(work: Work, gateway: Gateway, typed: str) -> str:
    """What a provider's account holds now, as somebody has read it there; says what follows. Raises Invalid."""
    gateway_id = work.live.gateway_ids[gateway.key]
    text = typed.strip().replace(",", ".")
    if not text:
        gateway_use.set_balance(work.connection, gateway_id, None)
        work.record("credit not counted", "gateway", gateway.key)
        return "Nobody counts the credit any more."
    try:
        balance = Decimal(text)
    except InvalidOperation:
        balance = Decimal("NaN")
    if not balance.is_finite() or not 0 <= balance < 10**9:
        raise Invalid([Problem("balance", f"“{typed.strip()[:40]}” is no amount.", "Write it like 250.00.")])
    gateway_use.set_balance(work.connection, gateway_id, balance)
    work.record("credit set", "gateway", gateway.key, None, {"balance": str(balance)})
    work.wake()
    return (
        f"The credit is {balance} {work.live.setup.store.currency} from now on; each accepted send takes its cost off."
    )


def probe(work: Work, gateway: Gateway) -> bool:
    """Has one send tried at once where the gateway is taken to be unreachable; says whether it is."""
    unreachable = gateway_health.probe_now(work.connection, work.live.gateway_ids[gateway.key], work.now)
    work.wake()
    return unreachable


def send_code(installation: Installation, store_id: int, gateway: Gateway, actor: Actor = MACHINE) -> None:
    """Mails a code to the gateway's own sender. Raises Invalid where the gateway refuses it."""
    assert gateway.sender is not None
    gateway_id = installation.setups.get(store_id).gateway_ids[gateway.key]
    senders.send_code(installation, store_id, gateway.sender.address, gateway, "sender-code", gateway_id, actor)
    with unit(installation, store_id, actor) as work:
        found_working(work, gateway.key)


def verify_sender(work: Work, gateway: Gateway, typed: str) -> int:
    """Takes the code that was read at the sender's address; gives how many held sends go out now. Raises Invalid where
    it is another, or too old.
    """
    assert gateway.sender is not None
    senders.take_code(work, gateway.sender.address, "sender-code", work.live.gateway_ids[gateway.key], typed)
    return senders.found_verified(work, gateway.sender.address)
