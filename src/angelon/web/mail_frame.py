"""The document that mails are shown in: empty, with a policy of its own, so that no other page has to allow the styles
that mails carry.
"""

from __future__ import annotations

import secrets

from flask import Blueprint, Flask, Response, g

pages = Blueprint("mail_frame", __name__)

PAGE = '<!doctype html><html><head><meta charset="utf-8"><title>A mail</title></head><body></body></html>'
FRAME_POLICY = (
    "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; font-src 'self'; base-uri 'none'; "
    "form-action 'none'; frame-ancestors 'self'; sandbox allow-same-origin"
)
"""Nothing runs in it, nothing is sent from it, and nothing is fetched from elsewhere."""
POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self'{nonce}; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; frame-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; "
    "frame-ancestors 'none'"
)
"""Every other page's (Content Security Policy, level 3). The nonce is for the text editor's own styles, on pages that
have one.
"""


@pages.get("/mail-frame")
def empty() -> Response:
    """An empty document; the page around it puts the mail in."""
    answer = Response(PAGE, mimetype="text/html")
    answer.headers["Content-Security-Policy"] = FRAME_POLICY
    answer.headers["Cache-Control"] = "private, max-age=3600"
    return answer


def style_nonce() -> str:
    """The nonce of the page that is being made."""
    if "style_nonce" not in g:
        g.style_nonce = secrets.token_urlsafe(16)
    return str(g.style_nonce)


def policy() -> str:
    """The policy of the page that was made."""
    nonce = g.get("style_nonce", "")
    return POLICY.format(nonce=f" 'nonce-{nonce}'" if nonce else "")


def install(app: Flask) -> None:
    app.register_blueprint(pages)
    app.jinja_env.globals["style_nonce"] = style_nonce
