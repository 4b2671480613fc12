"""Signing in by an identity provider (OpenID Connect Core 1.0, code flow with PKCE): the request, and its answer."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import httpx
from authlib.common.security import generate_token
from authlib.integrations.base_client.errors import OAuthError
from authlib.integrations.httpx_client import OAuth2Client
from authlib.oauth2.rfc6749.errors import OAuth2Error
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from angelon.settings import Settings

KEPT_FOR = 3600.0
"""Seconds for which the provider's description and keys are kept."""
LEEWAY = 60
"""Seconds that its clock may be off."""
ALGORITHMS = ["RS256", "RS512", "PS256", "ES256", "ES384", "EdDSA"]


WAIT = 10.0
"""Seconds for one answer, whole."""
MOST = 1_000_000
"""Bytes of one answer."""


class _Bounded(httpx.HTTPTransport):
    """Answers that are not packed, of so many bytes and seconds at most."""

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        request.headers["Accept-Encoding"] = "identity"
        answer, until, body = super().handle_request(request), time.monotonic() + WAIT, b""
        try:
            if answer.headers.get("Content-Encoding", "identity") != "identity":
                raise httpx.DecodingError("an answer that is packed was not asked for", request=request)
            for piece in answer.iter_raw():
                body += piece
                if len(body) > MOST or time.monotonic() > until:
                    raise httpx.ReadTimeout("its answer takes too long, or is too large", request=request)
        finally:
            answer.close()
        return httpx.Response(answer.status_code, headers=answer.headers, content=body)


class CantSignIn(RuntimeError):
    """Why nobody was signed in, as a sentence."""


@dataclass(frozen=True, slots=True)
class Identity:
    """Who the provider says it is."""

    subject: str
    """Issuer and the provider's own id."""
    email: str
    verified: bool
    name: str


class Provider:
    """One provider, as the settings name it."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._known: tuple[float, dict[str, Any], KeySet] | None = None

    def begin(self, back: str) -> tuple[str, dict[str, str]]:
        """The address that the browser is sent to, and what is kept in its session until it comes back. Raises
        CantSignIn.
        """
        described, _ = self._description()
        kept = {"state": generate_token(32), "nonce": generate_token(32), "verifier": generate_token(64)}
        with self._client(back) as client:
            url, _ = client.create_authorization_url(
                described["authorization_endpoint"],
                state=kept["state"],
                nonce=kept["nonce"],
                code_verifier=kept["verifier"],
            )
        return str(url), kept

    def finish(self, address: str, back: str, kept: dict[str, str]) -> Identity:
        """Who has come back to `address`. Raises CantSignIn."""
        described, keys = self._description()
        try:
            with self._client(back) as client:
                token = client.fetch_token(
                    described["token_endpoint"],
                    authorization_response=address,
                    state=kept["state"],
                    code_verifier=kept["verifier"],
                )
        except (OAuthError, OAuth2Error) as error:
            raise CantSignIn(f"The identity provider refused: {str(error)[:200]}") from None
        except (httpx.HTTPError, ValueError, TypeError, AttributeError, RecursionError) as error:
            raise CantSignIn(f"The identity provider can't be asked: {type(error).__name__}.") from None
        id_token = str(token.get("id_token", ""))
        try:
            return self._identity(id_token, keys, described, kept["nonce"])
        except CantSignIn:
            self._known = None  # it may sign by another key by now
            described, keys = self._description()
            return self._identity(id_token, keys, described, kept["nonce"])

    def _identity(self, id_token: str, keys: KeySet, described: dict[str, Any], nonce: str) -> Identity:
        """What an ID token says, once signature, issuer, audience, times and nonce are right (section 3.1.3.7)."""
        try:
            claims = jwt.decode(id_token, keys, algorithms=ALGORITHMS).claims
            jwt.JWTClaimsRegistry(
                leeway=LEEWAY,
                iss={"essential": True, "value": described["issuer"]},
                aud={"essential": True, "value": self._settings.oidc_client_id},
                exp={"essential": True},
                sub={"essential": True},
                nonce={"essential": True, "value": nonce},
                iat={"essential": True},
            ).validate(claims)
            self._for_us(claims)
        except (JoseError, ValueError, KeyError) as error:
            raise CantSignIn(f"The identity provider’s answer is not valid: {str(error)[:200]}") from None
        return Identity(
            f"{claims['iss']}#{claims['sub']}",
            str(claims.get("email", "")).strip().lower(),
            claims.get("email_verified") is True,
            str(claims.get("name") or claims.get("email") or "")[:100],
        )

    def _for_us(self, claims: dict[str, Any]) -> None:
        """Audiences that nobody here trusts, and another party that the token was made for, are refused (items 3 to
        5). Raises ValueError.
        """
        ours, audiences = self._settings.oidc_client_id, claims["aud"]
        if (audiences if isinstance(audiences, list) else [audiences]) != [ours]:
            raise ValueError("it is for others, too")
        if claims.get("azp", ours) != ours:
            raise ValueError("it was made for another party (azp)")
        if not isinstance(claims["sub"], str) or not claims["sub"] or len(claims["sub"]) > 255:
            raise ValueError("it names nobody (sub)")

    def _client(self, back: str) -> OAuth2Client:
        return OAuth2Client(
            self._settings.oidc_client_id,
            self._settings.oidc_client_secret,
            scope="openid email profile",
            redirect_uri=back,
            code_challenge_method="S256",
            timeout=WAIT,
            transport=_Bounded(),
        )

    def _description(self) -> tuple[dict[str, Any], KeySet]:
        """What the provider says of itself (Discovery 1.0), and its keys."""
        if self._known is not None and time.monotonic() - self._known[0] < KEPT_FOR:
            return self._known[1], self._known[2]
        issuer = self._settings.oidc_issuer.rstrip("/")
        try:
            with httpx.Client(timeout=WAIT, transport=_Bounded()) as client:
                described = client.get(f"{issuer}/.well-known/openid-configuration").raise_for_status().json()
                if described["issuer"].rstrip("/") != issuer:
                    raise CantSignIn(f"The identity provider calls itself {described['issuer'][:200]}, not {issuer}.")
                for name in ("authorization_endpoint", "token_endpoint", "jwks_uri"):
                    if urlsplit(described[name]).scheme not in ("https", urlsplit(issuer).scheme):
                        raise ValueError(f"its {name} is no address of the web")
                keys = KeySet.import_key_set(client.get(described["jwks_uri"]).raise_for_status().json())
        except (httpx.HTTPError, ValueError, KeyError, TypeError, AttributeError, RecursionError, JoseError) as error:
            raise CantSignIn(f"The identity provider {issuer} can't be asked: {type(error).__name__}.") from None
        self._known = (time.monotonic(), described, keys)
        return described, keys
