"""The addresses that mails come from: made, saved, verified by a code that is mailed to them, deleted."""

from __future__ import annotations

import datetime as dt
import secrets
from collections.abc import Sequence

from sqlmodel import Session

from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.planning.senders import unverified, verified_addresses
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.sending.outgoing import Mail
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import ShopSender, Store
from angelon.core.usage import Use
from angelon.db.log import orders, sends
from angelon.db.setup import specs
from angelon.engine.installation import Installation
from angelon.engine.operations import store as store_operations
from angelon.engine.sending import signing_keys
from angelon.engine.sending.signing_keys import SigningKey
from angelon.engine.unit import MACHINE, Actor, Work, unit
from angelon.gateways.transports import transport_for

CODE_FOR = dt.timedelta(hours=1)
"""How long a code for a sender's address is valid."""


def create(work: Work, address: str, name: str = "", reply_to: str = "") -> str:
    """A sender, not verified yet; gives its key. Raises Invalid."""
    store = store_operations.current(work)
    if not address.strip():
        raise Invalid([Problem("address", "The address is empty.", "Write one, such as orders@shop.example.")])
    key = key_of(address.partition("@")[0]) or "sender"
    taken = {sender.key for sender in store.senders}
    if key in taken:
        key = key_of(address.replace("@", "-")) or key
    number = 2
    while key in taken:
        key, number = f"{key[:50]}-{number}", number + 1
    made = read_spec(ShopSender, {"key": key, "address": address, "name": name, "reply_to": reply_to})
    made = made.model_copy(update={"verified": is_verified(work, address)})
    _refuse(work, store, made)
    _keep(work, [*store.senders, made])
    return key


def save(work: Work, key: str, address: str, name: str, reply_to: str, expected: int | None = None) -> ShopSender:
    """A sender as it was edited; another address has to be verified anew. Raises Invalid, NotFound and Conflict."""
    store = store_operations.current(work)
    before = of(store, key)
    made = read_spec(ShopSender, {"key": key, "address": address, "name": name, "reply_to": reply_to})
    same = made.address.casefold() == before.address.casefold()
    made = made.model_copy(update={"verified": is_verified(work, address)})
    if not same:
        _refuse(work, store, made)
    _keep(work, [made if sender.key == key else sender for sender in store.senders], expected)
    return made


def delete(work: Work, key: str) -> None:
    """Raises Invalid where a message or a route is sent in its name."""
    store = store_operations.current(work)
    of(store, key)
    using = uses(work.session, work.store_id).get(key, [])
    if using:
        what = f"The sender is used by {', '.join(use.name for use in using)}."
        raise Invalid([Problem("sender", what, "Choose another there first.")])
    _keep(work, [sender for sender in store.senders if sender.key != key])


def uses(session: Session, store_id: int) -> dict[str, list[Use]]:
    """The messages and routes that are sent in each sender's name, as they are live and as they are drafted."""
    found: dict[str, list[Use]] = {}
    for message in specs.messages(session, store_id):
        for key in {version.envelope.sender for version in message.versions} - {""}:
            found.setdefault(key, []).append(Use("message", message.key, message.spec.name, "its sender"))
    for route in specs.routes(session, store_id):
        for key in {version.sender for version in route.versions} - {""}:
            found.setdefault(key, []).append(Use("route", route.key, route.spec.name, "its sender"))
    return found


def of(store: Store, key: str) -> ShopSender:
    """Raises NotFound."""
    found = next((sender for sender in store.senders if sender.key == key), None)
    if found is None:
        raise NotFound(f"There is no sender “{key}”. It may have been deleted.")
    return found


def refuse_customer(work: Work, store: Store, address: str) -> None:
    """Raises Invalid where an address is a customer's: whoever writes in a customer's name is taken for a forger."""
    own = {member.email.casefold() for member in store.team} | {store.support_email.casefold()}
    if address.casefold() not in own and orders.is_customer(work.session, work.store_id, address):
        what = f"{address} is a customer’s address: mails in a customer’s name are taken for forged."
        raise Invalid([Problem("address", what, "Use an address of the shop.")])


def _refuse(work: Work, store: Store, made: ShopSender) -> None:
    refuse_customer(work, store, made.address)
    twin = next(
        (s for s in store.senders if s.key != made.key and s.address.casefold() == made.address.casefold()), None
    )
    if twin is not None and twin.name == made.name:
        what = f"There is a sender {twin.address} with this name already."
        raise Invalid([Problem("name", what, "Give this one another name.")])


def _keep(work: Work, senders: Sequence[ShopSender], expected: int | None = None) -> None:
    store_operations.change(work, {"senders": [sender.plain() for sender in senders]}, expected, "senders")


# ---- codes


def send_code(
    installation: Installation,
    store_id: int,
    address: str,
    gateway: Gateway,
    kind: str,
    owner_id: int,
    actor: Actor = MACHINE,
) -> None:
    """Mails a code to a sender's own address through a gateway, outside any transaction: a slow server holds up
    nobody. It is kept under `kind` and `owner_id`. Raises Invalid where the gateway refuses it.
    """
    live, now = installation.setups.get(store_id), installation.clock.now()
    code = f"{secrets.randbelow(1_000_000):06d}"
    text = f"The code for {address} is {code}. Type it in within an hour, where it was asked for.\n"
    mail = RenderedEmail(f"{code} is the code for {address}", f"<p>{text}</p>", text)
    message_id = f"{secrets.token_hex(8)}@{address.rpartition('@')[2]}"
    data = build(mail, Envelope(address, live.setup.store.name, address, "", message_id, now))
    with installation.database.reading() as session:
        kept = installation.vault.get(session, "gateway", live.gateway_ids[gateway.key], now)
    transport = transport_for(gateway, kept[0].text if kept else "")
    outcome = transport.deliver(Mail(address, address, data), code)
    transport.close()
    if outcome.kind != "accepted":
        what = f"{gateway.name} could not send the code: {outcome.code} {outcome.answer}".rstrip()
        raise Invalid([Problem("sender", what, "Check the gateway’s server and login.")])
    with unit(installation, store_id, actor) as work:
        work.vault.put(work.session, kind, owner_id, f"{address} {code}", now)
        work.vault.expire(work.session, kind, owner_id, now + CODE_FOR)


def take_code(work: Work, address: str, kind: str, owner_id: int, typed: str) -> None:
    """Takes the code that was read at an address. Raises Invalid where it is another, or too old."""
    kept = work.vault.get(work.session, kind, owner_id, work.now)
    right = f"{address} {''.join(typed.split())}".encode()
    if not kept or not secrets.compare_digest(kept[0].text.encode(), right):
        what = "That is not the code, or it is older than an hour."
        raise Invalid([Problem("code", what, "Have a new one sent.")])
    work.vault.expire(work.session, kind, owner_id, work.now)


def code_kind(key: str) -> str:
    """What the code of one of the shop's senders is kept under."""
    return f"sender-code:{key}"


def verify(work: Work, key: str, typed: str) -> int:
    """Takes the code for one of the shop's senders; gives how many held sends go out now. Raises Invalid, NotFound."""
    sender = of(store_operations.current(work), key)
    take_code(work, sender.address, code_kind(key), work.store_id, typed)
    return found_verified(work, sender.address)


def is_verified(work: Work, address: str) -> bool:
    """Whether a code was read at this address, whoever of the shop it was for."""
    return address.casefold() in verified_addresses(work.live.setup.store, work.live.setup.gateways)


def found_verified(work: Work, address: str) -> int:
    """Marks everything of the shop that sends from this address as verified, and lets the sends go that were held since
    it was not; says how many.
    """
    store, plain = store_operations.current(work), address.casefold()
    if any(one.address.casefold() == plain and not one.verified for one in store.senders):
        _keep(
            work,
            [
                one.model_copy(update={"verified": one.verified or one.address.casefold() == plain})
                for one in store.senders
            ],
        )
    for gateway in work.live.setup.gateways.values():
        own = gateway.sender
        if own is not None and not own.verified and own.address.casefold() == plain:
            verified = gateway.model_copy(update={"sender": own.model_copy(update={"verified": True})})
            work.specs.save(verified, action="sender verified")
    work.wake()
    return sends.release_held(work.connection, work.store_id, unverified(address), work.now)


def domain_of(sender: ShopSender) -> str:
    return sender.address.rpartition("@")[2].lower()


def make_key(work: Work, key: str) -> SigningKey:
    """A new signing key for a sender's domain, which does not sign yet. Raises NotFound."""
    domain = domain_of(of(store_operations.current(work), key))
    made = signing_keys.make(work.vault, work.session, work.store_id, domain, work.now)
    work.record("signing key made", "sender", key, None, {"selector": made.selector})
    return made


def use_key(work: Work, key: str) -> SigningKey:
    """Has the new key sign from now on. Raises Invalid and NotFound."""
    domain = domain_of(of(store_operations.current(work), key))
    made = signing_keys.use(work.vault, work.session, work.store_id, domain, work.now)
    if made is None:
        raise Invalid([Problem("key", "There is no new key.", "Make one first.")])
    work.record("signing key in use", "sender", key, None, {"selector": made.selector})
    work.change_setup()
    return made
