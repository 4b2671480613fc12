"""Signing in and out, one's own account, and the accounts of others."""

from __future__ import annotations

import hmac
from collections.abc import Sequence
from typing import Any

from flask import (
    Blueprint,
    Response,
    abort,
    after_this_request,
    current_app,
    flash,
    g,
    redirect,
    render_template,
    request,
    session,
    url_for,
)
from flask_login import current_user, login_user, logout_user
from markupsafe import Markup

from angelon.core.access import ROLES
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db.access import accounts
from angelon.db.setup import specs as stored
from angelon.engine.followers.alerts import tell_person
from angelon.engine.installation import Installation
from angelon.engine.operations import accounts as operations
from angelon.engine.operations import second_step as operations_second
from angelon.engine.operations.accounts import CODE_FILE, first_code
from angelon.engine.operations.guessing import Browser, remembered
from angelon.engine.operations.tokens import digest_of
from angelon.web import stores
from angelon.web.access.guard import Person, asker, is_local
from angelon.web.api.limits import Limits
from angelon.web.services import public_address, read_anew, services
from angelon.web.services import session as reading

signing_in = Blueprint("sign_in", __name__, url_prefix="/sign-in", template_folder="templates")
own = Blueprint("own_account", __name__, url_prefix="/account", template_folder="templates")
others = Blueprint("accounts", __name__, url_prefix="/accounts", template_folder="templates")
tries = Limits(rate=0.1, burst=10)
"""Tries to sign in from one address."""
KNOWN, KNOWN_FOR = "angelon_known", 31_536_000
"""The cookie by which a browser is told from strangers that was signed in before, and its seconds."""
SECOND_WITHIN = 300.0
"""Seconds within which the code has to follow the password."""
WRONG_CODE = (
    "The code does not fit. Type the newest one of your app, or a recovery code; after five tries, wait a few minutes."
)
WRONG = "The email address or the password is wrong. After five wrong tries, wait three minutes for each other one."


# ---- signing in -----------------------------------------------------------------------------------------------------


@signing_in.get("")
def show() -> Any:
    return _door(_own_page(request.args.get("next", "")))


@signing_in.post("")
def sign_in() -> Any:
    """Answers alike to a wrong address and a wrong password."""
    email, to = request.form.get("email", "")[:320], _own_page(request.form.get("next", ""))
    spent = tries.spend_by(asker(), services().clock.now())
    if "Retry-After" in spent:
        problem = Problem("", "Too many tries from your address.", f"Wait {spent['Retry-After']} seconds.")
        page = _door(to, email, problem)
        return Response(page, 429, {"Retry-After": spent["Retry-After"]})
    tried = operations.try_to_sign_in(_here(), email, request.form.get("password", ""), _browser())
    if tried.second_step_of:
        session.clear()
        session["second"] = [tried.second_step_of, services().clock.now().timestamp() + SECOND_WITHIN]
        return redirect(url_for(".second", next=to or None))
    if not tried.secret:
        return _door(to, email, Problem("", WRONG)), 401
    _signed_in(tried.secret)
    return redirect(to or "/")


def _waiting() -> int:
    """Whose second step is waited for in this browser; 0 for nobody's."""
    account_id, until = session.get("second") or (0, 0)
    return int(account_id) if services().clock.now().timestamp() < until else 0


@signing_in.get("/second")
def second() -> Any:
    """The code that is asked for after the password."""
    if not _waiting():
        return redirect(url_for(".show"))
    return render_template("access/second.html", to=_own_page(request.args.get("next", "")), problem=None)


@signing_in.post("/second")
def take_code() -> Any:
    """A code by time, or a recovery code."""
    account_id, to = _waiting(), _own_page(request.form.get("next", ""))
    if not account_id:
        flash("It took longer than five minutes. Sign in again.", "bad")
        return redirect(url_for(".show"))
    spent = tries.spend_by(asker(), services().clock.now())
    secret = ""
    if "Retry-After" not in spent:
        secret = operations.try_second_step(_here(), account_id, request.form.get("code", ""), _browser())
    if not secret:
        return render_template("access/second.html", to=to, problem=Problem("", WRONG_CODE)), 401
    _signed_in(secret)
    return redirect(to or "/")


@signing_in.post("/demo")
def look_as() -> Any:
    """Shows the demo as somebody of a role sees it."""
    role = request.form.get("role", "")
    if not services().settings.demo or role not in ROLES or accounts.there_are_any(reading()):
        abort(404, "This is no demo, or it has accounts.")
    session["demo_role"] = role
    flash(f"The demo is shown as a person with the role {role} sees it: {ROLES[role][:1].lower()}{ROLES[role][1:]}.")
    return redirect("/")


@signing_in.get("/provider")
def to_provider() -> Any:
    """Sends the browser to the identity provider."""
    provider = _provider()
    from angelon.web.access.provider import CantSignIn

    try:
        address, kept = provider.begin(_back())
    except CantSignIn as error:
        flash(f"{error} Try it again, or sign in with a password.", "bad")
        return redirect(url_for(".show"))
    session["provider"] = {**kept, "to": _own_page(request.args.get("next", ""))}
    return redirect(address)


@signing_in.get("/provider/back")
def from_provider() -> Any:
    """Whom the identity provider names is signed in, where they have an account or an invitation."""
    provider, kept = _provider(), session.pop("provider", None)
    from angelon.web.access.provider import CantSignIn

    try:
        if not kept or request.args.get("state") != kept["state"]:
            raise CantSignIn("This answer belongs to no sign-in of this browser.")
        address = f"{_back()}?{request.query_string.decode()}"
        who = provider.finish(address, _back(), kept)
        secret = operations.sign_in_by_provider(_here(), who.subject, who.email, who.verified, who.name, _browser())
    except CantSignIn as error:
        flash(f"{error} Sign in again.", "bad")
        return redirect(url_for(".show"))
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(url_for(".show"))
    _signed_in(secret)
    return redirect(kept["to"] or "/")


def _back() -> str:
    """Where the identity provider sends the browser back to."""
    return f"{services().settings.base_url or request.url_root.rstrip('/')}{url_for('.from_provider')}"


def _provider() -> Any:
    if not services().settings.oidc_issuer:
        abort(404, "No identity provider is set: ANGELON_OIDC_ISSUER names one.")
    from angelon.web.access.provider import Provider  # what it needs takes a while to import

    found = current_app.extensions.get("angelon.provider")
    if found is None:
        found = current_app.extensions["angelon.provider"] = Provider(services().settings)
    return found


def _door(to: str, email: str = "", problem: Problem | None = None) -> str:
    """The page to sign in on."""
    return render_template("access/sign_in.html", provider=_provider_name(), to=to, email=email, problem=problem)


def _provider_name() -> str:
    """What the identity provider is called; empty where there is none."""
    chosen = services().settings
    return chosen.oidc_name if chosen.oidc_issuer else ""


def _here() -> Installation:
    return services().installation


def _browser() -> Browser:
    return Browser(asker(), request.headers.get("User-Agent", ""), request.cookies.get(KNOWN, "")[:100])


def _signed_in(secret: str) -> None:
    """Puts a browser's secret into a fresh session: what was in the old one is of no use to anybody."""
    read_anew()
    now = services().clock.now()
    found = accounts.signed_in(
        reading(), digest_of(secret), now - operations.SIGNED_IN_FOR, now - operations.SIGNED_IN_AT_MOST
    )
    assert found is not None
    session.clear()
    login_user(Person(found[1], found[0], secret))
    session.permanent = True
    proof = remembered(services().vault, found[1].id or 0)

    @after_this_request
    def _remember(response: Response) -> Response:
        secure = bool(current_app.config["SESSION_COOKIE_SECURE"])
        response.set_cookie(KNOWN, proof, KNOWN_FOR, secure=secure, httponly=True, samesite="Lax")
        return response


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
        first_code(_here(), services().settings.home)
    return render_template("access/first.html", needs_code=not is_local(), given={}, problem=None)


@signing_in.post("/first")
def make_first() -> Any:
    """Makes the first owner, and signs them in."""
    given = {name: request.form.get(name, "")[:320] for name in ("email", "name")}
    try:
        if not is_local():
            spent = tries.spend_by(asker(), services().clock.now())
            code = request.form.get("code", "").strip()
            right = hmac.compare_digest(code.encode(), first_code(_here(), services().settings.home).encode())
            if "Retry-After" in spent or not right:
                raise Invalid([Problem("code", "That is not the code.", "It is in first-owner.code.")])
        password = request.form.get("password", "")
        secret = operations.make_first(_here(), given["email"], given["name"], password, _browser())
    except Invalid as error:
        page = render_template("access/first.html", needs_code=not is_local(), given=given, problem=error.problems[0])
        return page, 422
    _signed_in(secret)
    (services().settings.home / CODE_FILE).unlink(missing_ok=True)
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


def _account_page(problem: Problem | None = None, status: int = 200, codes: Sequence[str] = ()) -> Any:
    """One's own account; `codes` are the recovery codes, shown once."""
    if g.get("person") is None:
        return redirect(url_for("sign_in.first"))
    row = accounts.get(reading(), g.person.account_id)
    begun = operations_second.pending(_here(), reading(), g.person.account_id)
    page = render_template(
        "access/account.html",
        browsers=accounts.browsers(reading(), g.person.account_id),
        roles=ROLES,
        problem=problem,
        second_step=row is not None and row.second_step,
        recovery_left=len(row.recovery or []) if row is not None else 0,
        begun=begun,
        picture=_picture(operations_second.address(begun, g.person.email)) if begun else "",
        codes=codes,
    )
    return page, status


def _picture(address: str) -> Markup:
    """An address as a QR code (ISO/IEC 18004), drawn in the text's colour on white."""
    import segno

    drawn = segno.make(address, error="m").svg_inline(scale=4, border=3, dark="#111", light="#fff", omitsize=True)
    return Markup(drawn)  # noqa: S704 - the library's own drawing


@own.post("/password")
def password() -> Any:
    """Another password; every other browser is signed out."""
    _person()
    try:
        old, new = request.form.get("old", ""), request.form.get("new", "")
        operations.change_own_password(_here(), g.person.account_id, old, new, g.person.browser_id)
    except Invalid as error:
        return _account_page(error.problems[0], 422)
    _tell("Your password was changed.")
    flash("The password is changed. Every other browser is signed out.", "good")
    return redirect(url_for(".account"))


@own.post("/second-step")
def begin_second_step() -> Any:
    """A new secret for an authenticator app, with its picture."""
    _person()
    try:
        operations.prove(_here(), g.person.account_id, request.form.get("password", ""), g.person.browser_id)
        operations_second.begin(_here(), g.person.account_id)
    except Invalid as error:
        return _account_page(error.problems[0], 422)
    return redirect(url_for(".account"))


@own.post("/second-step/confirm")
def confirm_second_step() -> Any:
    """The first code: from now on one is asked for. The recovery codes are shown this once."""
    _person()
    try:
        code = request.form.get("code", "")[:20]
        codes = operations_second.confirm(_here(), g.person.account_id, code, g.person.browser_id)
    except Invalid as error:
        return _account_page(error.problems[0], 422)
    _tell("A second step of signing in was set up for your account.")
    read_anew()
    return _account_page(codes=codes)


@own.post("/second-step/off")
def end_second_step() -> Any:
    """No code is asked for any more."""
    _person()
    try:
        code = request.form.get("code", "")[:40]
        operations_second.turn_off(_here(), g.person.account_id, code, g.person.browser_id)
    except Invalid as error:
        return _account_page(error.problems[0], 422)
    _tell("The second step of signing in was turned off for your account.")
    flash("The second step is off: the password alone lets you in.", "good")
    return redirect(url_for(".account"))


def _tell(what: str) -> None:
    """Mails the person that this was changed: whoever did it may be somebody else."""
    tell_person(_here(), services().settings.home, g.person.email, what)


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
        g.store = stores.in_view(rows) or rows[0]  # the page has the shop around it
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
        elif act == "second-step-off":
            operations_second.turn_off(_here(), account_id, "", by=g.person.name)
            theirs = accounts.get(reading(), account_id)
            if theirs is not None:
                what = f"{g.person.name} turned the second step of signing in off for your account."
                tell_person(_here(), services().settings.home, theirs.email, what)
            told = "Their second step is off: they sign in with the password alone, and can set it up again."
        else:
            name = operations.let_in(_here(), account_id, act != "disable", g.person.name)
            told = f"{name} may {'not sign in any more' if act == 'disable' else 'sign in again'}."
    except NotFound as error:
        abort(404, error.problems[0].what)
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(url_for(".index"))
    flash(told, "good")
    return redirect(url_for(".index"))
