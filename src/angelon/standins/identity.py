"""An identity provider (OpenID Connect) for tests and demos: whoever is chosen on its page is who signs in."""

from __future__ import annotations

import base64
import gzip
import hashlib
import secrets
import time
from functools import lru_cache
from typing import Any
from urllib.parse import urlencode

from flask import Blueprint, Response, jsonify, redirect, request
from joserfc import jwt
from joserfc.jwk import RSAKey
from markupsafe import escape

from angelon.standins.account import box

api = Blueprint("identity", __name__, url_prefix="/identity")
PEOPLE = ("nuala@brackwater.example", "tomas@brackwater.example", "stranger@example.net")
_codes: dict[str, dict[str, str]] = {}


@lru_cache(maxsize=2)
def _key(which: str) -> RSAKey:
    """The provider's key, and one that is none of its own."""
    return RSAKey.generate_key(2048, {"kid": "stand-in", "use": "sig", "alg": "RS256"}, auto_kid=False)


def issuer() -> str:
    return f"{request.host_url.rstrip('/')}/identity"


@api.get("/.well-known/openid-configuration")
def described() -> Any:
    here = issuer()
    return jsonify(
        issuer=here,
        authorization_endpoint=f"{here}/authorize",
        token_endpoint=f"{here}/token",
        jwks_uri=f"{here}/keys",
        response_types_supported=["code"],
        subject_types_supported=["public"],
        id_token_signing_alg_values_supported=["RS256"],
    )


@api.get("/keys")
def keys() -> Any:
    return jsonify(keys=[_key("own").as_dict(private=False)])


@api.get("/authorize")
def authorize() -> Any:
    """Asks who it is; `as=` answers at once."""
    given = {name: request.args.get(name, "") for name in ("redirect_uri", "state", "nonce", "code_challenge")}
    who = request.args.get("as", "")
    if not who:
        links = "".join(
            f'<p><a href="?{escape(urlencode({**request.args, "as": one}))}">{escape(one)}</a></p>' for one in PEOPLE
        )
        return Response(f"<!doctype html><title>Identity stand-in</title><h1>Who is it?</h1>{links}")
    code = secrets.token_urlsafe(16)
    _codes[code] = {**given, "email": who, "client": request.args.get("client_id", "")}
    return redirect(f"{given['redirect_uri']}?{urlencode({'code': code, 'state': given['state']})}")


@api.post("/token")
def token() -> Any:
    """An ID token for a code, once (RFC 6749, section 4.1.3; RFC 7636)."""
    known = _codes.pop(request.form.get("code", ""), None)
    proof = hashlib.sha256(request.form.get("code_verifier", "").encode()).digest()
    challenge = base64.urlsafe_b64encode(proof).decode().rstrip("=")
    if known is None or challenge != known["code_challenge"]:
        return jsonify(error="invalid_grant", error_description="The code is not good."), 400
    fault = box().setting("identity_fault", "none")
    now = int(time.time())
    claims = {
        "iss": issuer(),
        "sub": known["email"].partition("@")[0],
        "aud": {"other audience": "somebody-else", "more audiences": ["other", known["client"]]}.get(
            fault, [known["client"]] if fault == "one in a list" else known["client"]
        ),
        "iat": now,
        "exp": now + 300 if fault != "expired" else now - 3600,
        "nonce": known["nonce"] if fault != "replayed" else "another",
        "email": known["email"],
        "email_verified": fault != "not verified",
        "name": known["email"].partition("@")[0].capitalize(),
    }
    claims |= {"azp": "somebody-else"} if fault in ("other party", "more audiences") else {}
    claims |= (
        {"sub": ["a", "list"]} if fault == "odd subject" else {"sub": "renamed"} if fault == "other subject" else {}
    )
    if fault == "endless":
        return Response((b" " * 65536 for _ in range(10_000)), mimetype="application/json")
    if fault == "packed":
        bomb = gzip.compress(b" " * 20_000_000)
        return Response(bomb, mimetype="application/json", headers={"Content-Encoding": "gzip"})
    key = _key("own" if fault != "forged" else "forged")
    signed = jwt.encode({"alg": "RS256", "kid": "stand-in"}, claims, key)
    return jsonify({"access_token": secrets.token_urlsafe(16), "token_type": "Bearer", "id_token": signed})
