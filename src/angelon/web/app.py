"""Puts the application together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import Blueprint, Flask, Response, current_app, g, jsonify, render_template, request, session
from flask_wtf import CSRFProtect
from flask_wtf.csrf import CSRFError
from pydantic import ValidationError
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException, UnprocessableEntity
from werkzeug.exceptions import NotFound as NotFoundPage

from angelon.core.problems import Conflict, Invalid, NotFound
from angelon.core.specs.base import problems_of
from angelon.db.database import is_busy, is_database_failure
from angelon.engine.feedback.preferences import Links
from angelon.web import compressing, conflicts, formats, forms, frame, mail_frame, mail_pictures, origins, stores
from angelon.web.access import guard
from angelon.web.customers.guesses import Guesses
from angelon.web.intake.views import IntakeMiddleware
from angelon.web.metrics.views import install as count_requests
from angelon.web.numbers import RowId
from angelon.web.origins import Proxies
from angelon.web.services import Services, close_session


def create_app(made: Services, more: Sequence[Blueprint] = ()) -> Flask:
    """The application. `more` are blueprints of layers above: the stand-ins' pages."""
    app = Flask(__name__, static_folder="static", template_folder="templates")
    app.config.update(
        SECRET_KEY=made.vault.derived("sessions"),
        SECRET_KEY_FALLBACKS=[made.settings.key()],  # who was signed in before keys had a purpose still is
        WTF_CSRF_TIME_LIMIT=None,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_NAME="angelon",
        SESSION_COOKIE_SECURE=made.settings.base_url.startswith("https://"),
        MAX_CONTENT_LENGTH=20 * 1024 * 1024,
        SEND_FILE_MAX_AGE_DEFAULT=3600,
    )
    app.extensions["angelon"] = made
    app.url_map.converters["int"] = RowId
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    compressing.install(app)  # first: what is done to a response comes before it
    formats.install(app)
    forms.install(app)
    frame.install(app)  # before the others: it knows the shop, and their error pages have the frame, too
    origins.install(app, made.settings)
    guard.install(app)
    csrf = CSRFProtect(app)

    for blueprint in (*_pages(), *more):
        app.register_blueprint(blueprint)
    for blueprint in _asked_by_programs():
        app.register_blueprint(blueprint)
        csrf.exempt(blueprint)  # what they show, a token or a signature, no browser sends by itself
    mail_frame.install(app)
    app.register_blueprint(mail_pictures.pages)
    app.teardown_appcontext(close_session)
    app.after_request(_headers)
    app.register_error_handler(HTTPException, _error)
    app.register_error_handler(DBAPIError, _database_error)
    app.register_error_handler(Conflict, conflicts.show)
    app.register_error_handler(Invalid, _invalid)
    app.register_error_handler(ValidationError, _invalid)
    stores.install(app)
    count_requests(app)
    proxies = Proxies(made.settings.proxies())
    guarded = Guesses(app.wsgi_app, Links(made.vault), made.clock, proxies)
    app.extensions["angelon.guesses"] = guarded
    app.wsgi_app = IntakeMiddleware(guarded, made.intake, proxies)  # type: ignore[method-assign]
    return app


def _pages() -> tuple[Blueprint, ...]:
    """The blueprints of what people look at. They are imported here: no layer below needs them."""
    from angelon.web.access.views import others, own, signing_in
    from angelon.web.api.views import documentation as api_documentation
    from angelon.web.changes.views import pages as changes
    from angelon.web.checks.views import pages as checks
    from angelon.web.customer_pages.views import pages as customer_pages
    from angelon.web.documents.settings_views import pages as document_settings
    from angelon.web.documents.views import pages as documents
    from angelon.web.events.views import pages as events
    from angelon.web.find.views import pages as find
    from angelon.web.forecast.views import pages as forecast
    from angelon.web.gateways.views import pages as gateways
    from angelon.web.guide.views import pages as guide
    from angelon.web.handlers.views import pages as handlers
    from angelon.web.health.views import pages as health
    from angelon.web.letterhead.views import pages as letterhead
    from angelon.web.library.views import pages as library
    from angelon.web.live.views import pages as live
    from angelon.web.messages.approved_views import pages as approved
    from angelon.web.messages.question_views import pages as questions
    from angelon.web.messages.sheet_views import pages as sheets
    from angelon.web.messages.views import pages as messages
    from angelon.web.metrics.views import pages as metrics
    from angelon.web.orders.views import pages as orders
    from angelon.web.overview.views import pages as overview
    from angelon.web.parcels.carrier_views import pages as carriers
    from angelon.web.parcels.views import pages as parcels
    from angelon.web.people.views import pages as people
    from angelon.web.rehearsals.views import pages as rehearsals
    from angelon.web.routes.views import pages as routes
    from angelon.web.runs.views import pages as runs
    from angelon.web.segments.views import pages as segments
    from angelon.web.senders.views import pages as senders
    from angelon.web.sends.views import pages as sends
    from angelon.web.settings.alerts import pages as alerts
    from angelon.web.settings.views import pages as settings
    from angelon.web.sources.mapping_views import pages as mappings
    from angelon.web.sources.views import pages as sources
    from angelon.web.start.views import others as stores_pages
    from angelon.web.start.views import pages as start
    from angelon.web.suppressions.views import pages as suppressions
    from angelon.web.tables.views import pages as tables
    from angelon.web.tokens.views import pages as tokens
    from angelon.web.upkeep.views import pages as upkeep

    return (
        health,
        metrics,
        guide,
        upkeep,
        start,
        stores_pages,
        overview,
        events,
        find,
        live,
        orders,
        parcels,
        documents,
        document_settings,
        carriers,
        people,
        sends,
        sources,
        mappings,
        messages,
        questions,
        sheets,
        approved,
        letterhead,
        customer_pages,
        library,
        tables,
        routes,
        handlers,
        segments,
        gateways,
        forecast,
        senders,
        settings,
        alerts,
        signing_in,
        own,
        others,
        tokens,
        api_documentation,
        suppressions,
        rehearsals,
        checks,
        changes,
        runs,
    )


def _asked_by_programs() -> tuple[Blueprint, ...]:
    from angelon.web.api.views import pages as api
    from angelon.web.customers.downloads import pages as downloads
    from angelon.web.customers.follow import pages as follow
    from angelon.web.customers.invoices import pages as invoices
    from angelon.web.customers.preferences import pages as preferences
    from angelon.web.customers.questions import pages as answers
    from angelon.web.customers.sign_up import pages as sign_ups
    from angelon.web.customers.why import pages as why
    from angelon.web.receipts.views import pages as receipts

    return api, receipts, preferences, answers, sign_ups, why, follow, downloads, invoices


MOST_FLASHED = 600
"""Letters of a message that waits for the next page: it travels in a cookie, and browsers drop one of over 4 kB."""


def _headers(response: Response) -> Response:
    waiting = session.get("_flashes")
    if waiting and sum(len(text) for _, text in waiting) > MOST_FLASHED:
        session["_flashes"] = [
            (kind, text if len(text) <= MOST_FLASHED else text[:MOST_FLASHED] + "…") for kind, text in waiting[-3:]
        ]
    if request.endpoint != "static":
        response.headers.setdefault("Cache-Control", "no-store")
    if response.mimetype == "text/html":
        response.headers.setdefault("Content-Security-Policy", mail_frame.policy())
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    if current_app.config["SESSION_COOKIE_SECURE"]:  # RFC 6797: whoever was here over TLS comes back over TLS
        response.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
    return response


def _invalid(error: Invalid | ValidationError) -> Any:
    """What a form or script sent can't be a spec, and its page did not say so itself."""
    problems = error.problems if isinstance(error, Invalid) else problems_of(error)
    if isinstance(error, NotFound):
        return _error(NotFoundPage(problems[0].what))
    detail = " ".join(str(problem) for problem in problems[:5])
    return _error(UnprocessableEntity(f"{detail} Nothing was changed. Go back: what you typed is still there."))


def _database_error(error: DBAPIError) -> Any:
    """503 where the database can't be worked with just now; whatever else it says is a fault of ours."""
    if not is_database_failure(error):
        raise error
    what = (
        "The database is in use by somebody else."
        if is_busy(error)
        else "The database can't be used: its disk may be full, or its file damaged."
    )
    text = f"{what} Nothing was changed. Try it again in a moment."
    return Response(text, 503, {"Retry-After": "5"}, mimetype="text/plain")


def _error(error: HTTPException) -> Any:
    """An error as a page, or as problem+json (RFC 9457) for a script."""
    detail = error.description or ""
    if isinstance(error, CSRFError):
        detail = "The page is older than your session. Reload it and try again; a draft is kept."
    if request.headers.get("X-Fragment") or request.path.startswith(
        ("/in/", "/api/", "/standins/mail.json", "/standins/sms.json", "/standins/chat.json")
    ):
        response = jsonify({"type": "about:blank", "title": error.name, "status": error.code, "detail": detail})
        response.mimetype = "application/problem+json"
        response.status_code = error.code or 500
        return response
    layout = "base.html" if g.get("role") else "access/door.html"  # a stranger is shown nothing of the shop
    return render_template("error.html", error=error, detail=detail, layout=layout), error.code
