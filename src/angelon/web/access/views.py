"""Signing in and out, one's own account, and the accounts of others."""

from __future__ import annotations

import hmac
from typing import Any

from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, session, url_for
from flask_login import current_user, login_user, logout_user

from angelon.core.access import ROLES
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db import accounts
from angelon.db import specs as stored
from angelon.engine.installation import Installation
from angelon.engine.operations import accounts as operations
from angelon.engine.operations.tokens import digest_of
from angelon.web.access.guard import Person, asker, first_code, is_local
from angelon.web.api.limits import Limits
from angelon.web.services import public_address, read_anew, services
from angelon.web.services import session as reading

signing_in = Blueprint("sign_in", __name__, url_prefix="/sign-in", template_folder="templates")
own = Blueprint("own_account", __name__, url_prefix="/account", template_folder="templates")
others = Blueprint("accounts", __name__, url_prefix="/accounts", template_folder="templates")
tries = Limits(rate=0.1, burst=10)
"""Tries to sign in from one address."""
WRONG = (
    "The email address or the password is wrong, or the account is locked for a quarter of an hour after five tries."
)


# ---- signing in -----------------------------------------------------------------------------------------------------


@signing_in.get("")
def show() -> Any:
    return render_template("access/sign_in.html", to=_own_page(request.args.get("next", "")), email="", problem=None)


@signing_in.post("")
def sign_in() -> Any:
    """Answers alike to a wrong address and a wrong password."""
    email, to = request.form.get("email", "")[:320], _own_page(request.form.get("next", ""))
    spent = tries.spend(hash(asker()), services().clock.now())
    if "Retry-After" in spent:
        problem = Problem("", "Too many tries from your address.", f"Wait {spent['Retry-After']} seconds.")
        page = render_template("access/sign_in.html", to=to, email=email, problem=problem)
        return Response(page, 429, {"Retry-After": spent["Retry-After"]})
    secret = operations.try_to_sign_in(_here(), email, request.form.get("password", ""), _browser())
    if not secret:
        return render_template("access/sign_in.html", to=to, email=email, problem=Problem("", WRONG)), 401
    _signed_in(secret)
    return redirect(to or "/")


def _here() -> Installation:
    return services().installation


def _browser() -> operations.Browser:
    return operations.Browser(asker(), request.headers.get("User-Agent", ""))


def _signed_in(secret: str) -> None:
    """Puts a browser's secret into a fresh session: what was in the old one is of no use to anybody."""
    read_anew()
    found = accounts.signed_in(reading(), digest_of(secret), services().clock.now() - operations.SIGNED_IN_FOR)
    assert found is not None
    session.clear()
    login_user(Person(found[1], found[0], secret))
    session.permanent = True


def _own_page(address: str) -> str:
    """An address of these pages; empty for any other (no open redirect)."""
    plain = address.startswith("/") and not address.startswith(("//", "/\\")) and "\\" not in address
    return address[:1000] if plain and all(ord(sign) > 31 for sign in address) else ""


@signing_in.post("/out")
def sign_out() -> Any:
    """Ends this browser's session."""
    if current_user.is_authenticated:
        operations.end_browser(_here(), current_user.account_id, current_user.browser_id)
    logout_user()
    session.clear()
    return redirect(url_for(".show"))


@signing_in.get("/first")
def first() -> Any:
    """The first owner; from elsewhere with the code of the data folder."""
    if accounts.there_are_any(reading()):
        return redirect(url_for(".show"))
    if not is_local():
        first_code(services().settings.home)
    return render_template("access/first.html", needs_code=not is_local(), given={}, problem=None)


@signing_in.post("/first")
def make_first() -> Any:
    """Makes the first owner, and signs them in."""
    given = {name: request.form.get(name, "")[:320] for name in ("email", "name")}
    try:
        if not is_local():
            spent = tries.spend(hash(asker()), services().clock.now())
            code = request.form.get("code", "").strip()
            right = hmac.compare_digest(code.encode(), first_code(services().settings.home).encode())
            if "Retry-After" in spent or not right:
                raise Invalid([Problem("code", "That is not the code.", "It stands in first-owner.code.")])
        password = request.form.get("password", "")
        secret = operations.make_first(_here(), given["email"], given["name"], password, _browser())
    except Invalid as error:
        page = render_template("access/first.html", needs_code=not is_local(), given=given, problem=error.problems[0])
        return page, 422
    _signed_in(secret)
    (services().settings.home / "first-owner.code").unlink(missing_ok=True)
    flash("From now on everybody signs in. Invite the others here.", "good")
    return redirect(url_for("accounts.index"))


@signing_in.get("/join/<secret>")
def join(secret: str) -> Any:
    """An invitation's link."""
    row = accounts.invitation(reading(), digest_of(secret), services().clock.now())
    if row is None:
        abort(404, "The invitation was used, withdrawn, or is older than a week. Ask for another.")
    return render_template("access/join.html", invitation=row, secret=secret, name="", problem=None)


@signing_in.post("/join/<secret>")
def take_up(secret: str) -> Any:
    """Makes the account of an invitation, and signs them in."""
    name = request.form.get("name", "")[:200]
    try:
        signed = operations.join(_here(), secret, name, request.form.get("password", ""), _browser())
    except NotFound as error:
        abort(404, error.problems[0].what)
    except Invalid as error:
        invitation = accounts.invitation(reading(), digest_of(secret), services().clock.now())
        page = render_template(
            "access/join.html", invitation=invitation, secret=secret, name=name, problem=error.problems[0]
        )
        return page, 422
    _signed_in(signed)
    return redirect("/")


# ---- one's own account ----------------------------------------------------------------------------------------------


@own.get("")
def account() -> Any:
    return _account_page()


def _account_page(problem: Problem | None = None, status: int = 200) -> Any:
    if g.get("person") is None:
        return redirect(url_for("sign_in.first"))
    browsers = accounts.browsers(reading(), g.person.account_id)
    return render_template("access/account.html", browsers=browsers, roles=ROLES, problem=problem), status


@own.post("/password")
def password() -> Any:
    """Another password; every other browser is signed out."""
    _person()
    try:
        old, new = request.form.get("old", ""), request.form.get("new", "")
        operations.change_own_password(_here(), g.person.account_id, old, new, g.person.browser_id)
    except Invalid as error:
        return _account_page(error.problems[0], 422)
    flash("The password is changed. Every other browser is signed out.", "good")
    return redirect(url_for(".account"))


@own.post("/browsers/<int:browser_id>/sign-out")
def end_browser(browser_id: int) -> Any:
    """Signs one of one's own browsers out."""
    _person()
    operations.end_browser(_here(), g.person.account_id, browser_id)
    flash("That browser is signed out.", "good")
    return redirect(url_for(".account"))


def _person() -> None:
    if g.get("person") is None:
        abort(403, "Nobody is signed in: there are no accounts yet.")


# ---- others ---------------------------------------------------------------------------------------------------------


@others.get("")
def index() -> Any:
    return _index()


def _index(link: str = "", problem: Problem | None = None, status: int = 200) -> Any:
    if g.get("person") is None:
        return redirect(url_for("sign_in.first"))
    return (
        render_template(
            "access/accounts.html",
            rows=accounts.listed(reading()),
            invitations=accounts.invitations(reading(), g.now),
            roles=ROLES,
            link=link,
            problem=problem,
            given=request.form if problem else {},
        ),
        status,
    )


@others.post("/invite")
def invite() -> Any:
    """Makes an invitation's link, which is shown this once."""
    _person()
    try:
        email, role = request.form.get("email", ""), request.form.get("role", "")
        secret = operations.make_invitation(_here(), email, role, g.person.name)
    except Invalid as error:
        return _index(problem=error.problems[0], status=422)
    read_anew()
    rows = stored.stores(reading())
    if rows:
        g.store = rows[0]  # the page has the shop around it
    return _index(link=f"{public_address()}{url_for('sign_in.join', secret=secret)}")


@others.post("/invitations/<int:invitation_id>/withdraw")
def withdraw(invitation_id: int) -> Any:
    """Ends an invitation."""
    _person()
    operations.withdraw_invitation(_here(), invitation_id)
    flash("The invitation is withdrawn.", "good")
    return redirect(url_for(".index"))


@others.post("/<int:account_id>")
def change(account_id: int) -> Any:
    """Another role, or whether they may sign in."""
    _person()
    act = request.form.get("act", "role")
    try:
        if act == "role":
            role = request.form.get("role", "")
            told = f"{operations.give_role(_here(), account_id, role, g.person.name)} is {role} now."
        else:
            name = operations.let_in(_here(), account_id, act != "disable", g.person.name)
            told = f"{name} may {'not sign in any more' if act == 'disable' else 'sign in again'}."
    except NotFound as error:
        abort(404, error.problems[0].what)
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".index"))
    flash(told, "good")
    return redirect(url_for(".index"))
