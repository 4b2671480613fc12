"""The second step of signing in: a code by time (RFC 6238: six digits, SHA-1, 30 seconds) from an authenticator app, or
one of eight recovery codes, each good once.
"""

from __future__ import annotations

import datetime as dt
import hmac
import secrets

import pyotp
from sqlmodel import Session

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db.access import accounts
from angelon.db.tables import AccountRow
from angelon.engine.installation import Installation
from angelon.engine.operations import guessing
from angelon.engine.operations.tokens import digest_of

STEP = 30
"""Seconds that a code is shown."""
DRIFT = 1
"""Steps that a clock may be off."""
RECOVERY_CODES = 8
SECRET, PENDING = "account-totp", "account-totp-new"
PENDING_FOR = dt.timedelta(minutes=30)


def begin(installation: Installation, account_id: int) -> str:
    """A new secret that is not used yet; gives its address for an authenticator app (`otpauth:`). Whoever calls this
    has seen that they know their password. Raises Invalid where there is a second step already: it is turned off first,
    with a code of it.
    """
    secret = pyotp.random_base32()
    now = installation.clock.now()
    with installation.database.writing() as session:
        row = _account(session, account_id)
        if row.second_step:
            raise Invalid([Problem("code", "There is a second step already.", "Turn it off first, with a code of it.")])
        installation.vault.put(session, PENDING, account_id, secret, now)
        installation.vault.expire(session, PENDING, account_id, now + PENDING_FOR)
        return address(secret, row.email)


def address(secret: str, email: str) -> str:
    """The address that an authenticator app reads from its picture."""
    return pyotp.TOTP(secret).provisioning_uri(name=email, issuer_name="Angelon")


def pending(installation: Installation, session: Session, account_id: int) -> str:
    """The secret that was begun and not confirmed; empty where there is none."""
    found = installation.vault.get(session, PENDING, account_id, installation.clock.now())
    return found[0].text if found else ""


def confirm(installation: Installation, account_id: int, code: str, browser_id: int) -> list[str]:
    """Turns the second step on once a code fits, and signs every other browser out; gives the recovery codes, which are
    kept nowhere. Raises Invalid.
    """
    now = installation.clock.now()
    with installation.database.writing() as session:
        row = _account(session, account_id)
        if row.second_step:
            raise Invalid([Problem("code", "There is a second step already.", "Turn it off first, with a code of it.")])
        secret = pending(installation, session, account_id)
        if not secret:
            raise Invalid([Problem("code", "The picture is older than half an hour.", "Begin again.")])
        step = _step_of(secret, code, now)
        if step is None:
            raise Invalid(
                [Problem("code", "The code does not fit.", "Check the clock of your device, and type the newest one.")]
            )
        codes = [f"{secrets.token_hex(2)}-{secrets.token_hex(2)}-{secrets.token_hex(2)}" for _ in range(RECOVERY_CODES)]
        installation.vault.put(session, SECRET, account_id, secret, now)
        installation.vault.expire(session, PENDING, account_id, now)
        row.second_step, row.last_step, row.recovery = True, step, [digest_of(_plain(one)) for one in codes]
        accounts.sign_out(session, account_id, leave=browser_id)
        accounts.record(session, now, row.name, "second step on", row.name)
    return codes


def fits(installation: Installation, session: Session, row: AccountRow, code: str) -> bool:
    """Whether a code lets somebody in now: one by time that was not used before, or a recovery code, which is spent by
    it. The caller's transaction keeps that.
    """
    now = installation.clock.now()
    found = installation.vault.get(session, SECRET, row.id or 0, now)
    step = _step_of(found[0].text, code, now) if found else None
    if step is not None and step > row.last_step:
        row.last_step = step
        return True
    digest = digest_of(_plain(code))
    left = [one for one in row.recovery or [] if not hmac.compare_digest(one, digest)]
    if len(left) == len(row.recovery or []):
        return False
    row.recovery = left
    return True


def turn_off(installation: Installation, account_id: int, code: str, browser_id: int = 0, by: str = "") -> None:
    """Takes the second step away, for a code that fits; an owner (`by`) does it for others without one. Raises
    Invalid and NotFound.
    """
    now = installation.clock.now()
    with installation.database.writing() as session:
        row, counted = _account(session, account_id), guessing.place_of(browser_id)
        waits = 0 if by else guessing.held(session, counted, now)
        fitting = bool(by) or (not waits and fits(installation, session, row, code))
        if not fitting and not waits:
            guessing.wrong(session, counted, now)
    if not fitting:
        raise Invalid([Problem("code", "The code does not fit.", wait_said(waits))])
    with installation.database.writing() as session:
        row = _account(session, account_id)
        installation.vault.expire(session, SECRET, account_id, now)
        row.second_step, row.recovery = False, None
        accounts.record(session, now, by or row.name, "second step off", row.name)


def wait_said(seconds: int) -> str:
    """What to do after a wrong password or code, where another try has to wait for so many seconds."""
    return f"After five wrong tries, wait {seconds} seconds for each other one." if seconds else "Type it again."


def _account(session: Session, account_id: int) -> AccountRow:
    row = accounts.get(session, account_id)
    if row is None:
        raise NotFound("There is no such account.")
    return row


def _plain(code: str) -> str:
    return "".join(sign for sign in code.lower() if sign.isalnum())


def _step_of(secret: str, code: str, now: dt.datetime) -> int | None:
    """The time step whose code this is, among those near to now."""
    digits = "".join(code.split())
    if len(digits) != 6 or not digits.isascii() or not digits.isdigit():
        return None
    at = int(now.timestamp()) // STEP
    totp = pyotp.TOTP(secret)
    for step in range(at - DRIFT, at + DRIFT + 1):
        if hmac.compare_digest(totp.at(step * STEP), digits):
            return step
    return None
