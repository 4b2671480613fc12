"""Access tokens that a gateway asks for with a client's credentials (RFC 6749, section 4.4), kept until they end."""

from __future__ import annotations

import time
from collections.abc import Callable

from angelon.core.calls import Request, auth_problems, read_token, token_request
from angelon.core.specs.gateway import Auth
from angelon.gateways.interface import Outcome

EARLY = 30.0
"""Seconds before its end from which a token is not used any more."""


class CantGetToken(RuntimeError):
    """No token was to be had; as a sentence."""


class Tokens:
    """The token of one gateway. Not for use by several threads."""

    def __init__(self, auth: Auth, secret: str, ask: Callable[[Request], tuple[Outcome, bytes]]) -> None:
        self._auth, self._secret, self._ask = auth, secret, ask
        self._token, self._until = "", 0.0

    @property
    def held(self) -> bool:
        return bool(self._token)

    def forget(self) -> None:
        self._token = ""

    def token(self) -> str:
        """A token that is good now; asked for where none is held. Raises CantGetToken."""
        if self._token and time.monotonic() < self._until:
            return self._token
        for problem in auth_problems(self._auth):
            raise CantGetToken(str(problem))
        if not self._secret:
            raise CantGetToken("The gateway has no client secret yet. Type it in on its page.")
        outcome, body = self._ask(token_request(self._auth, self._secret))
        if outcome.kind != "accepted":
            raise CantGetToken(f"No token: {self._auth.token_url} answered {outcome.code} {outcome.answer}".strip())
        try:
            token, seconds = read_token(body)
        except ValueError as error:
            raise CantGetToken(f"No token from {self._auth.token_url}: {error}.") from None
        self._token, self._until = token, time.monotonic() + max(1.0, seconds - EARLY)
        return token
