"""Accounts of people: the first owner, invitations, signing in, roles."""

from __future__ import annotations

import datetime as dt
import functools
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from email_validator import EmailNotValidError
from sqlmodel import Session

from angelon.core.access import FORMERLY, ROLES
from angelon.core.addresses import check_email
from angelon.core.outside import refuse_inside
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db.access import accounts
from angelon.db.database import Database
from angelon.db.tables import AccountRow, InvitationRow, SignedInRow
from angelon.engine.installation import Installation
from angelon.engine.operations import guessing, second_step
from angelon.engine.operations.guessing import Browser
from angelon.engine.operations.tokens import digest_of

HASHER = PasswordHasher()
"""Argon2id with the library's parameters, which follow RFC 9106."""
SHORTEST, LONGEST = 10, 200
"""Characters of a password."""
SIGNED_IN_FOR = dt.timedelta(days=14)
"""How long a browser stays signed in that is not used."""
SIGNED_IN_AT_MOST = dt.timedelta(days=60)
"""After which everybody signs in again."""
CODE_FILE = "first-owner.code"
INVITED_FOR = dt.timedelta(days=7)


@functools.cache
def _nobody_s() -> str:
    """What a password is compared with where there is no such account: so that it takes as long."""
    return HASHER.hash(secrets.token_urlsafe(16))


def hashed(password: str, email: str) -> str:
    """A password as it is kept: takes a while, and is done before the write that keeps it. Raises Invalid where it
    won't do.
    """
    _check_password(password, email.strip().lower())
    refuse_inside("hashing a password")
    return HASHER.hash(password)


def create(session: Session, email: str, name: str, password: str, role: str, now: dt.datetime) -> AccountRow:
    """A new account; `password` is as `hashed` gives it. Raises Invalid."""
    address = _email(email)
    if accounts.by_email(session, address) is not None:
        raise Invalid([Problem("email", f"There is an account for {address} already.", "Sign in with it.")])
    if not name.strip() or len(name) > 100:
        raise Invalid([Problem("name", "Write a name of up to 100 letters.", "Such as Nuala.")])
    role = _role(role)
    row = AccountRow(email=address, name=name.strip(), password=password, role=role, created_at=now)
    session.add(row)
    session.flush()
    return row


def first_owner(session: Session, email: str, name: str, password: str, now: dt.datetime) -> AccountRow:
    """The account that all others come from; `password` is as `hashed` gives it. Raises Invalid where there is one
    already.
    """
    if accounts.there_are_any(session):
        raise Invalid([Problem("", "There are accounts already.", "Sign in, or ask an owner for an invitation.")])
    return create(session, email, name, password, "owner", now)


def invite(session: Session, email: str, role: str, by: str, now: dt.datetime) -> str:
    """An invitation; gives the secret of its link, which is kept nowhere. Raises Invalid."""
    address = _email(email)
    role = _role(role)
    if accounts.by_email(session, address) is not None:
        raise Invalid([Problem("email", f"There is an account for {address} already.", "Change its role instead.")])
    secret = secrets.token_urlsafe(32)
    session.add(
        InvitationRow(
            digest=digest_of(secret),
            email=address,
            role=role,
            made_at=now,
            made_by=by,
            expires_at=now + INVITED_FOR,
        )
    )
    return secret


def take_up(session: Session, secret: str, name: str, password: str, now: dt.datetime) -> AccountRow:
    """Makes the account that an invitation is for; `password` is as `hashed` gives it. Raises Invalid and NotFound."""
    row = _invitation(session, secret, now)
    made = create(session, row.email, name, password, row.role, now)
    row.used_at = now
    return made


def _invitation(session: Session, secret: str, now: dt.datetime) -> InvitationRow:
    row = accounts.invitation(session, digest_of(secret), now)
    if row is None:
        raise NotFound("The invitation was used, withdrawn, or is older than a week. Ask for another.")
    return row


def withdraw(session: Session, invitation_id: int, now: dt.datetime) -> None:
    """Ends an invitation."""
    row = session.get(InvitationRow, invitation_id)
    if row is not None and row.used_at is None:
        row.expires_at = now


@dataclass(frozen=True, slots=True)
class Compared:
    """What comparing a password with an account's came to, before anything is written."""

    account_id: int = 0
    """0 where there is no such account."""
    was: str = ""
    """The password's hash as it was compared with."""
    right: bool = False
    rehashed: str = ""
    """A newer hash of the same password, where its parameters have changed."""


def compare(database: Database, email: str, password: str) -> Compared:
    """Compares a password with that of an account, in no transaction: it takes as long as hashing does, also where
    there is no such account.
    """
    with database.reading() as session:
        row = accounts.by_email(session, email[:320])
        found = (row.id or 0, row.password) if row is not None else (0, "")
    right = _is_password(found[1] or _nobody_s(), password)
    newer = HASHER.hash(password) if right and found[0] and HASHER.check_needs_rehash(found[1]) else ""
    return Compared(*found, right and bool(found[0]), newer)


def check(
    session: Session, compared: Compared, counted: Sequence[guessing.Place], now: dt.datetime
) -> AccountRow | None:
    """The account whose password was right; None where it was not, was changed meanwhile, there were too many wrong
    tries, or the account is disabled. The caller's transaction keeps what was counted.
    """
    row = accounts.get(session, compared.account_id) if compared.account_id else None
    if row is None or row.disabled_at is not None or guessing.held(session, counted, now):
        return None
    if not compared.right or row.password != compared.was:
        guessing.wrong(session, counted, now)
        return None
    guessing.right(session, counted)
    row.password = compared.rehashed or row.password
    return row


def sign_in(session: Session, row: AccountRow, browser: Browser, now: dt.datetime) -> str:
    """A browser is signed in from now on; gives the secret of its cookie."""
    secret = secrets.token_urlsafe(32)
    session.add(
        SignedInRow(
            account_id=row.id or 0,
            digest=digest_of(secret),
            began_at=now,
            seen_at=now,
            address=browser.address[:60],
            agent=browser.agent[:300],
        )
    )
    return secret


def set_role(session: Session, account_id: int, role: str) -> AccountRow:
    """Raises Invalid where the last owner would be none, and NotFound."""
    role = _role(role)
    row = _found(session, account_id)
    if row.role == "owner" and role != "owner":
        _keep_an_owner(session, row)
    row.role = role
    return row


def disable(session: Session, account_id: int, disabled: bool, now: dt.datetime) -> AccountRow:
    """Lets somebody sign in no more, and signs them out everywhere; or lets them again. Raises Invalid and NotFound."""
    row = _found(session, account_id)
    if disabled:
        _keep_an_owner(session, row)
        accounts.sign_out(session, account_id)
    row.disabled_at = now if disabled else None
    return row


def _found(session: Session, account_id: int) -> AccountRow:
    row = accounts.get(session, account_id)
    if row is None:
        raise NotFound("There is no such account.")
    return row


def _keep_an_owner(session: Session, row: AccountRow) -> None:
    if row.role == "owner" and row.disabled_at is None and accounts.owners(session) < 2:
        raise Invalid([Problem("role", f"{row.name} is the only owner.", "Make somebody else an owner first.")])


def _is_password(kept: str, password: str) -> bool:
    refuse_inside("comparing a password")
    try:
        return HASHER.verify(kept, password[:LONGEST])
    except (VerificationError, InvalidHashError):
        return False


def _check_password(password: str, email: str) -> None:
    if not SHORTEST <= len(password) <= LONGEST:
        what = f"The password has {len(password)} characters, and needs {SHORTEST} to {LONGEST}."
        raise Invalid([Problem("password", what, "A few words that nobody would guess do well.")])
    if password.lower() in (email, email.partition("@")[0]) or len(set(password)) < 5:
        raise Invalid([Problem("password", "The password is easily guessed.", "Choose a few unrelated words.")])


def _role(role: str) -> str:
    """A role by its name, also by one that it had before. Raises Invalid."""
    role = FORMERLY.get(role, role)
    if role not in ROLES:
        raise Invalid([Problem("role", f"“{role[:40]}” is no role.", f"Choose among {', '.join(ROLES)}.")])
    return role


def _email(text: str) -> str:
    try:
        return check_email(text.strip()).lower()
    except EmailNotValidError as error:
        raise Invalid([Problem("email", f"“{text.strip()[:80]}” is no email address: {error}")]) from None


# ---- each in a transaction of its own: accounts are the installation's, not a store's ------------------


def first_code(installation: Installation, home: Path) -> str:
    """The code by which the first owner is made from elsewhere, in a file of the data folder. Where several machines
    share a database, it is the same on each.
    """
    file = home / CODE_FILE
    if not file.exists():
        shared = not installation.database.sqlite
        file.write_text(installation.vault.proof("first owner") if shared else secrets.token_hex(8))
        file.chmod(0o600)
    return file.read_text().strip()


def make_first(installation: Installation, email: str, name: str, password: str, browser: Browser) -> str:
    """Makes the first owner and signs them in; gives the secret of the cookie. Raises Invalid."""
    now = installation.clock.now()
    with installation.database.reading() as session:
        if accounts.there_are_any(session):
            raise Invalid([Problem("", "There are accounts already.", "Sign in, or ask an owner for an invitation.")])
    kept = hashed(password, email)
    with installation.database.writing() as session:
        row = first_owner(session, email, name, kept, now)
        accounts.record(session, now, row.name, "made the first owner", row.name)
        return sign_in(session, row, browser, now)


@dataclass(frozen=True, slots=True)
class Tried:
    """What a right password gives: the secret of the cookie; or, with a second step, whose code is asked for."""

    secret: str = ""
    second_step_of: int = 0


def try_to_sign_in(installation: Installation, email: str, password: str, browser: Browser) -> Tried:
    """Empty where nobody is to be signed in: a wrong password is counted."""
    now = installation.clock.now()
    compared = compare(installation.database, email, password)
    if not compared.account_id:
        return Tried()  # nothing is counted of somebody who is not there, and so nothing is written
    with installation.database.writing() as session:
        counted = guessing.places(installation.vault, compared.account_id, browser)
        row = check(session, compared, counted, now)
        if row is None:
            return Tried()
        return Tried(second_step_of=row.id or 0) if row.second_step else Tried(sign_in(session, row, browser, now))


def try_second_step(installation: Installation, account_id: int, code: str, browser: Browser) -> str:
    """Gives the secret of the cookie; empty where the code does not fit: a wrong one is counted as a wrong password
    is.
    """
    now = installation.clock.now()
    with installation.database.writing() as session:
        row = accounts.get(session, account_id)
        counted = guessing.places(installation.vault, account_id, browser)
        if row is None or row.disabled_at is not None or guessing.held(session, counted, now):
            return ""
        if not second_step.fits(installation, session, row, code[:40]):
            guessing.wrong(session, counted, now)
            return ""
        guessing.right(session, counted)
        return sign_in(session, row, browser, now)


def sign_in_by_provider(
    installation: Installation, subject: str, email: str, verified: bool, name: str, browser: Browser
) -> str:
    """Signs in whoever an identity provider names, by who they were before, else by an address that it has verified;
    an open invitation of that address is taken up. Gives the secret of the cookie. Raises Invalid.
    """
    now = installation.clock.now()
    unknown = hashed(secrets.token_urlsafe(32), "")  # nobody signs in by it
    with installation.database.writing() as session:
        row = accounts.by_subject(session, subject)
        if row is None and not (verified and email):
            raise Invalid(
                [Problem("email", "The identity provider has not verified your address.", "Verify it there.")]
            )
        row = row or accounts.by_email(session, email)
        invitation = accounts.invitation_for(session, email, now) if row is None else None
        if invitation is not None:
            row = create(session, email, name or email, unknown, invitation.role, now)
            invitation.used_at = now
            accounts.record(session, now, row.name, "joined", row.name, None, {"role": row.role})
        if row is None:
            raise Invalid([Problem("email", f"There is no account for {email}.", "Ask an owner for an invitation.")])
        if row.disabled_at is not None or (row.subject and row.subject != subject):
            raise Invalid([Problem("email", f"The account of {email} may not sign in so.", "Ask an owner.")])
        row.subject = subject
        return sign_in(session, row, browser, now)


def join(installation: Installation, secret: str, name: str, password: str, browser: Browser) -> str:
    """Makes the account of an invitation and signs them in; gives the secret of the cookie. Raises Invalid and
    NotFound.
    """
    now = installation.clock.now()
    with installation.database.reading() as session:
        invitation = _invitation(session, secret, now)
        if invitation.role != "owner" and not accounts.there_are_any(session):
            raise Invalid([Problem("role", "There is no account yet.", "The first one has to be an owner’s.")])
        email = invitation.email
    kept = hashed(password, email)
    with installation.database.writing() as session:
        row = take_up(session, secret, name, kept, now)
        accounts.record(session, now, row.name, "joined", row.name, None, {"role": row.role})
        return sign_in(session, row, browser, now)


def prove(installation: Installation, account_id: int, password: str, browser_id: int) -> None:
    """That who is signed in knows their password: asked before what a stolen session must not change. Wrong ones are
    counted by where they are signed in. Raises Invalid and NotFound.
    """
    with installation.database.reading() as session:
        row = _found(session, account_id)
        kept = Compared(account_id, row.password)
    compared = replace(kept, right=_is_password(kept.was, password))
    with installation.database.writing() as session:
        counted, now = guessing.place_of(browser_id), installation.clock.now()
        right = check(session, compared, counted, now) is not None
        seconds = guessing.held(session, counted, now)
    if not right:
        raise Invalid([Problem("password", "That is not your password.", second_step.wait_said(seconds))])


def end_browser(installation: Installation, account_id: int, browser_id: int) -> None:
    """Signs a person out in one browser."""
    with installation.database.writing() as session:
        accounts.sign_out(session, account_id, only=browser_id)


def seen(installation: Installation, browser_id: int) -> None:
    """Keeps that a browser is used now."""
    with installation.database.writing() as session:
        row = session.get(SignedInRow, browser_id)
        if row is not None:
            row.seen_at = installation.clock.now()


def change_own_password(installation: Installation, account_id: int, old: str, new: str, leave: int) -> None:
    """Another password; every other browser is signed out. Raises Invalid and NotFound."""
    prove(installation, account_id, old, leave)
    with installation.database.reading() as session:
        row = _found(session, account_id)
        email, was = row.email, row.password
    kept = hashed(new, email)
    with installation.database.writing() as session:
        row = _found(session, account_id)
        if row.password != was:
            raise Invalid([Problem("old", "The password was changed meanwhile.", "Sign in again with the new one.")])
        row.password = kept
        accounts.sign_out(session, account_id, leave=leave)


def make_invitation(installation: Installation, email: str, role: str, by: str) -> str:
    """Gives the secret of the link. Raises Invalid."""
    now = installation.clock.now()
    with installation.database.writing() as session:
        secret = invite(session, email, role, by, now)
        accounts.record(session, now, by, "invited", email.strip(), None, {"role": role})
        return secret


def withdraw_invitation(installation: Installation, invitation_id: int) -> None:
    with installation.database.writing() as session:
        withdraw(session, invitation_id, installation.clock.now())


def give_role(installation: Installation, account_id: int, role: str, by: str) -> str:
    """Gives the person's name. Raises Invalid and NotFound."""
    now = installation.clock.now()
    with installation.database.writing() as session:
        was = _found(session, account_id).role
        row = set_role(session, account_id, role)
        accounts.record(session, now, by, "role changed", row.name, {"role": was}, {"role": role})
        return row.name


def let_in(installation: Installation, account_id: int, may: bool, by: str) -> str:
    """Lets somebody sign in again, or no more; gives the person's name. Raises Invalid and NotFound."""
    now = installation.clock.now()
    with installation.database.writing() as session:
        row = disable(session, account_id, not may, now)
        accounts.record(session, now, by, "enabled" if may else "disabled", row.name)
        return row.name
