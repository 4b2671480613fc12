"""The senders of a shop: addresses that mails come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.sending.domain import Finding, check
from angelon.core.specs import Gateway
from angelon.core.specs.store import ShopSender
from angelon.engine.operations import senders as operations
from angelon.engine.sending import signing_keys
from angelon.gateways.dns import Resolver, records_of
from angelon.web.conflicts import edits_seen
from angelon.web.gateways.views import going_out
from angelon.web.services import actor, close_session, live, services, session, store, store_id, work, work_or_back

pages = Blueprint("senders", __name__, url_prefix="/senders", template_folder="templates")


@pages.get("")
def index() -> Any:
    return _page()


def _page(problems: Sequence[Problem] = (), typed: Mapping[str, str] | None = None) -> str:
    """The list; `typed` is a new sender that could not be made."""
    the_store = live().setup.store
    uses = operations.uses(session(), store_id())
    mail = [gateway for gateway in live().setup.gateways.values() if gateway.channel == "email"]
    return render_template(
        "senders/index.html",
        senders=the_store.senders,
        uses=uses,
        problems=problems,
        typed=typed or {},
        gateways=mail,
    )


@pages.post("")
def create() -> Any:
    form = request.form
    try:
        with work() as unit:
            key = operations.create(
                unit, form.get("address", ""), form.get("name", "").strip(), form.get("reply_to", "").strip()
            )
    except Invalid as error:
        return _page(error.problems, form), 422
    flash("The sender is there. Nothing is sent from it before it is verified.", "good")
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    return _one(_sender(key))


def _sender(key: str) -> ShopSender:
    return operations.of(live().setup.store, key)


def _one(
    sender: ShopSender,
    problems: Sequence[Problem] = (),
    typed: Mapping[str, str] | None = None,
    findings: Sequence[Finding] = (),
) -> str:
    """A sender's page; `findings` are what its domain's records say, where they were asked for."""
    domain = operations.domain_of(sender)
    code = services().vault.get(session(), operations.code_kind(sender.key), store_id(), g.now)
    return render_template(
        "senders/one.html",
        sender=sender,
        problems=problems,
        typed=typed or sender.model_dump(mode="json"),
        uses=operations.uses(session(), store_id()).get(sender.key, []),
        gateways=_mail_gateways(),
        code_sent=bool(code) and code[0].text.startswith(f"{sender.address} "),
        edits=request.form.get("edits", store().edits),
        domain=domain,
        findings=findings,
        signing=signing_keys.active(services().vault, session(), store_id(), domain, g.now),
        new_key=signing_keys.pending(services().vault, session(), store_id(), domain, g.now),
    )


@pages.post("/<key>/domain")
def check_domain(key: str) -> Any:
    """Asks DNS about the sender's domain, and says what is and what should be."""
    sender = _sender(key)
    domain = operations.domain_of(sender)
    gateway = next((one for one in _mail_gateways() if one.key == request.form.get("gateway")), None)
    gateway = gateway or next(iter(_mail_gateways()), None)
    kept = [
        signing_keys.active(services().vault, session(), store_id(), domain, g.now),
        signing_keys.pending(services().vault, session(), store_id(), domain, g.now),
    ]
    keys = {one.selector: one.record for one in kept if one is not None}
    host = gateway.host if gateway is not None else ""
    back = gateway.return_path.rpartition("@")[2] if gateway is not None else ""
    close_session()  # DNS may take its time
    found = records_of(Resolver(services().settings.zone), domain, host, list(keys))
    return _one(sender, findings=check(found, host, keys, back))


@pages.post("/<key>/signing-key")
def signing_key(key: str) -> Any:
    """Makes a new signing key for the domain, or has it sign from now on."""
    with work_or_back(url_for(".edit", key=key)) as unit:
        if request.form.get("act") == "use":
            made = operations.use_key(unit, key)
            told = f"Mails are signed by {made.selector} now, where their gateway has “Angelon signs”. Leave the old "
            told += "record in DNS for a week: mails that it signed are on their way."
        else:
            made = operations.make_key(unit, key)
            told = "The key is made. Publish its record, check the domain, then have it sign."
    flash(told, "good")
    return redirect(url_for(".edit", key=key))


def _mail_gateways() -> list[Gateway]:
    return [gateway for gateway in live().setup.gateways.values() if gateway.channel == "email"]


@pages.post("/<key>")
def save(key: str) -> Any:
    form, sender = request.form, _sender(key)
    try:
        with work() as unit:
            made = operations.save(
                unit,
                key,
                form.get("address", "").strip(),
                form.get("name", "").strip(),
                form.get("reply_to", "").strip(),
                edits_seen(),
            )
    except NotFound:
        raise
    except Invalid as error:
        if error.is_conflict:
            raise
        return _one(sender, error.problems, form), 422
    flash(
        "Saved." if made.verified else "Saved. The address has to be verified before anything is sent from it.", "good"
    )
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/verify")
def verify(key: str) -> Any:
    """Mails a code to the address through the gateway that was chosen; or takes the code that was read there."""
    sender, form = _sender(key), request.form
    typed = form.get("code", "").strip()
    try:
        if typed:
            with work() as unit:
                released = operations.verify(unit, key, typed)
            flash(f"{sender.address} is verified." + going_out(released), "good")
        else:
            gateway = next((one for one in _mail_gateways() if one.key == form.get("gateway")), None)
            if gateway is None:
                abort(400, "Choose the gateway that shall send the code.")
            kind = operations.code_kind(key)
            operations.send_code(
                services().installation, store_id(), sender.address, gateway, kind, store_id(), actor()
            )
            flash(f"A code is on its way to {sender.address}.", "good")
    except NotFound:
        raise
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    sender = _sender(key)
    with work_or_back(url_for(".edit", key=key)) as unit:
        operations.delete(unit, key)
    flash(f"{sender.address} is deleted.", "good")
    return redirect(url_for(".index"))
