"""The pages of a source, and the edits that they make."""

from __future__ import annotations

import datetime as dt
import json
import shlex
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote_plus

from flask import (
    Blueprint,
    Response,
    abort,
    current_app,
    flash,
    g,
    redirect,
    render_template,
    request,
    stream_with_context,
    url_for,
)
from sqlmodel import Session

from angelon.core import event_types
from angelon.core.deliveries import BY_STATE, without_secrets
from angelon.core.numbers import decimal_sign
from angelon.core.payload.body import NotReadable
from angelon.core.payload.redact import BLOT, redacted, secret
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.reading import drifting
from angelon.core.shape import Shape
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.source import Locator, Signing
from angelon.db.derived import shapes, status_words
from angelon.db.log import events
from angelon.db.setup import mappings, specs
from angelon.db.tables import DeliveryRow, EventRow, SourceRow
from angelon.engine.arrivals.intake import KEPT_BODY
from angelon.engine.operations import events as event_operations
from angelon.engine.operations import sources as operations
from angelon.engine.unit import found
from angelon.web.conflicts import edits_seen
from angelon.web.forms import CODE, TEXT, WORDS, Spelling, filled, pairs
from angelon.web.listing import Choice, Sort, narrowed
from angelon.web.numbers import whole
from angelon.web.services import kinds_of_events, live, services, session, store_id, work, work_or_back
from angelon.web.sources import fetching, files, look_ups, mails, naming
from angelon.web.sources.stored import address, name_guess, several_at, source_of
from angelon.web.stores import of_store

pages = Blueprint("sources", __name__, url_prefix="/sources", template_folder="templates")

WATCHERS = threading.BoundedSemaphore(24)
WATCH_SECONDS = 120


@dataclass(frozen=True)
class Health:
    """How a source is: its last delivery, how many came and were refused, whether it is silent for longer than usual,
    what drifts.
    """

    source: Source
    latest: EventRow | None
    day: int
    refused: int
    silent: dt.timedelta | None
    drifts: dict[str, Any]

    @property
    def states(self) -> list[str]:
        """What it can be found by."""
        said = {"quiet": not self.day, "refused": self.refused, "drift": self.drifts, "off": not self.source.on}
        return [word for word, holds in said.items() if holds]


@pages.get("")
def index() -> Any:
    ids = live().source_ids
    days = (g.now - dt.timedelta(days=1), g.now - dt.timedelta(days=7))
    deliveries = events.delivery_counts(session(), list(ids.values()), days[0])
    refused = events.refused_counts(session(), list(ids.values()), days[1])
    arrivals = events.last_arrivals(session(), list(ids.values()))
    known = shapes.of_sources(session(), list(ids.values()))
    latest = events.latest_of_each(session(), list(ids.values()))
    rows = [
        Health(
            source,
            latest.get(ids[key]),
            deliveries.get(ids[key], 0),
            refused.get(ids[key], 0),
            events.silence(arrivals.get(ids[key], []), g.now),
            drifting(source, known.get(ids[key], {})),
        )
        for key, source in live().sources.items()
    ]
    drafts = mappings.drafts(session(), store_id())
    found = narrowed(rows, lambda one: f"{one.source.name} {one.source.key}", _FILTERS, _SORTS)
    given = {"rows": found.rows, "list": found, "drafts": drafts}
    return render_template("sources/index.html", **given)


_STATES = [
    ("quiet", "nothing in a day"),
    ("refused", "with refused deliveries"),
    ("drift", "with drift"),
    ("off", "off"),
]
_SORTS = {
    "name": Sort("by name", lambda one: one.source.name.casefold()),
    "deliveries": Sort("most deliveries first", lambda one: one.day, largest_first=True),
    "refused": Sort("most refused first", lambda one: one.refused, largest_first=True),
}
_FILTERS = {"state": Choice("State", _STATES, lambda one: one.states)}


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    with work_or_back(url_for(".index", name=name[:200])) as unit:
        key = operations.create(unit, name)
    _secret_is_new(key)
    return redirect(url_for(".connect", key=key))


SHOWN_FOR = dt.timedelta(minutes=10)
"""How long a signing secret is shown after it was made or typed in."""


def _secret_is_new(key: str) -> None:
    fresh: dict[str, dt.datetime] = current_app.extensions.setdefault("angelon.fresh_secrets", {})
    now = services().clock.now()
    for old in [one for one, at in fresh.items() if now - at > SHOWN_FOR]:
        del fresh[old]
    fresh[key] = now


def _shown_until(key: str) -> dt.datetime | None:
    """Until when a source's newest secret is shown; None where it is not any more."""
    at = current_app.extensions.get("angelon.fresh_secrets", {}).get(key)
    return at + SHOWN_FOR if at is not None and services().clock.now() - at <= SHOWN_FOR else None


# ---- connect ------------------------------------------------------------------------------------------------------


@pages.get("/<key>")
def show(key: str) -> Any:
    _, source_id = source_of(key)
    if not events.recent(session(), source_id, 1):
        return redirect(url_for(".connect", key=key))
    return redirect(url_for("mappings.read", key=key))


@pages.get("/<key>/connect")
def connect(key: str) -> Any:
    source, source_id = source_of(key)
    return _connect_page(source, source_id)


def _connect_page(
    source: Source, source_id: int, problems: Sequence[Problem] = (), spec: dict[str, Any] | None = None
) -> Any:
    """The page; `spec` is what was typed, where it could not be saved."""
    spec = spec or source.model_dump(mode="json")
    row = found(specs.by_key(session(), SourceRow, store_id(), source.key), "source")
    seen = status_words.of_source(session(), source_id)
    statuses = [
        StatusWords(part, label, spec[f"{part}es"], _left(seen, spec, part))
        for part, label in STATUS_LABELS.items()
        if part == "status" or part in source.reading or spec[f"{part}es"]
    ]
    return render_template(
        "sources/connect.html",
        source=source,
        edits=request.form.get("edits", row.edits),
        address=address(source.key),
        secrets=services().vault.get(session(), "source", source_id, g.now),
        shown_until=_shown_until(source.key),
        unnamed=events.unnamed(session(), source_id),
        problems=problems,
        spec=spec,
        types=kinds_of_events(),
        latest=events.recent(session(), source_id, 1),
        statuses=statuses,
        others=[one for one in live().setup.sources.values() if one.key != source.key],
        naming_it=[
            one for one in live().setup.sources.values() if one.same_orders and one.same_orders.source == source.key
        ],
        observed=_observed(shapes.of_source(session(), source_id).values()),
    )


STATUS_LABELS = {
    "status": "What its statuses mean",
    "payment_status": "What its payment statuses mean",
    "fulfilment_status": "What its fulfilment statuses mean",
    "return_status": "What its return statuses mean",
}


def _left(seen: dict[str, list[str]], spec: dict[str, Any], part: str) -> list[str]:
    """The words of one of the statuses that orders have had, and that mean nothing yet."""
    return [word for word in seen.get(part, []) if word not in spec[f"{part}es"]]


@dataclass(frozen=True)
class StatusWords:
    """One of an order's statuses on the page: what its words mean, and the words met so far that mean nothing yet."""

    part: str
    label: str
    known: dict[str, str]
    unmapped: list[str]

    @property
    def called(self) -> str:
        """What one of its words is."""
        return f"The store’s {self.part.replace('_', ' ')}"

    @property
    def pairs(self) -> list[tuple[str, str]]:
        """Each word with what it means, then those that mean nothing yet, then an empty row."""
        return [*self.known.items(), *((word, "") for word in self.unmapped), ("", "")]


def _observed(known: Iterable[Shape]) -> str | None:
    """The decimal sign that the samples of a source show; None where they differ, empty where none shows one."""
    signs = {sign for shape in known for field in shape.paths.values() if (sign := decimal_sign(field.sample))}
    return None if len(signs) > 1 else next(iter(signs), "")


_CONNECT: dict[str, Spelling] = {
    **dict.fromkeys(("name", "tells", "orders_at", "same_body_minutes", "max_bytes"), TEXT),
    **dict.fromkeys((f"signing.{name}" for name in Signing.model_fields), TEXT),
    **dict.fromkeys(("challenge.method", "challenge.parameter", "decimal_sign"), TEXT),
    **dict.fromkeys(("same_orders.source", "same_orders.by"), TEXT),
    "country": CODE,
    "allow_from": WORDS,
}


@pages.post("/<key>/connect")
def save_connect(key: str) -> Any:
    """Signing, where the event's name and the delivery's id stand, and what the names mean."""
    source, source_id = source_of(key)
    form = request.form
    spec, problems = filled(form, source, _CONNECT, {}, ("on",) if "more" in form else ())
    for locator in ("event_name", "delivery_id"):
        text = form.get(f"{locator}.text", "").strip()
        spec[locator] = {form.get(f"{locator}.kind", "path"): text} if text else {}
    spec["event_names"] = pairs(form, "theirs", "ours") | pairs(form, "theirs_own", "own_kind")
    for part in STATUS_LABELS:
        if part in form:
            spec[f"{part}es"] = pairs(form, part, f"{part}_means")
    if "challenge.method" in form and not form["challenge.method"]:
        spec["challenge"] = None
    if "same_orders.source" in form and not form["same_orders.source"]:
        spec["same_orders"] = None
    try:
        if problems:
            raise Invalid(problems)
        with work() as unit:
            kept = operations.save(unit, read_spec(Source, spec), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return _connect_page(source, source_id, error.problems, spec), 422
    read = f" {kept:,} kept {'delivery is' if kept == 1 else 'deliveries are'} read so, too." if kept else ""
    flash(f"Saved. The next delivery is read this way.{read}", "good")
    return redirect(url_for(".connect", key=key))


@pages.post("/<key>/name-from")
def name_from(key: str) -> Any:
    """Takes the place of the event's name, and what it means, as they were guessed from a delivery."""
    form = request.form
    back = form.get("back", "")
    back = back if back.startswith(f"/sources/{key}/") else url_for(".connect", key=key)
    with work_or_back(back) as unit:
        locator = read_spec(Locator, {"header": form.get("header", ""), "path": form.get("path", "")})
        theirs, ours = form.get("theirs", "").strip(), form.get("ours", "")
        kept = operations.name_from(unit, key, locator, {theirs: ours} if theirs and ours else {})
    read = f" {kept:,} kept {'delivery was' if kept == 1 else 'deliveries were'} read so." if kept else ""
    flash(f"Event names are read from {locator.path or locator.header} now.{read}", "good")
    return redirect(back)


@pages.get("/<key>/event-names")
def event_names(key: str) -> Any:
    """Where the names of events stand, and what each means."""
    return naming.page(key)


@pages.post("/<key>/event-names")
def save_event_names(key: str) -> Any:
    return naming.save(key)


@pages.post("/<key>/names")
def name_event(key: str) -> Any:
    """Says what one of the store's names means: a kind that is known, or one of its own."""
    theirs = request.form.get("theirs", "").strip()
    ours = request.form.get("own_kind", "").strip() or request.form.get("ours", "").strip()
    with work_or_back(url_for(".connect", key=key)) as unit:
        kept = operations.name_event(unit, key, theirs, ours)
    read = f" {kept:,} kept deliveries are read so; nobody was written to about them." if kept else ""
    flash(f"“{theirs}” now means {event_types.label(ours)}.{read}", "good")
    return redirect(url_for(".connect", key=key))


@pages.post("/<key>/secret")
def rotate_secret(key: str) -> Any:
    """Takes a pasted secret or makes one; the old one stays valid for as long as was chosen."""
    hours = whole(request.form.get("overlap_hours"), operations.LONGEST_OVERLAP) or 0
    with work_or_back(url_for(".connect", key=key)) as unit:
        operations.rotate_secret(unit, key, request.form.get("secret", "").strip(), hours)
    _secret_is_new(key)
    more = f" The old one works for another {hours} h." if hours else ""
    flash(f"The secret is new. Give it to the store.{more}", "good")
    return redirect(url_for(".connect", key=key))


# ---- capture ------------------------------------------------------------------------------------------------------


def _form_line(pair: str) -> str:
    name, equals, _ = pair.partition("=")
    return f"{name}={BLOT}" if equals and secret(name) else pair


def curl(delivery: DeliveryRow, key: str) -> str:
    """A delivery as a command for the shell; its signature has to be made anew."""
    kept = {
        n: v
        for n, v in (delivery.headers or {}).items()
        if n not in ("host", "content-length", "connection", "accept", "accept-encoding", "user-agent", "content-type")
        and "•" not in v
    }
    headers = {"content-type": delivery.content_type or "application/json", **kept}
    parts = [
        "curl",
        "-X",
        "POST",
        address(key),
        *(word for n, v in headers.items() for word in ("-H", f"{n}: {v}")),
        "--data-binary",
        delivery.body.decode(errors="replace"),
    ]
    return " ".join(shlex.quote(part) for part in parts)


def _headers(kept: Any) -> dict[str, str]:
    """All of a delivery's headers; the kind of its body stands beside the others."""
    return ({"content-type": kept.content_type} if kept.content_type else {}) | (kept.headers or {})


def _deliveries(reading: Session, found: Sequence[EventRow]) -> list[dict[str, Any]]:
    """Events with their deliveries, as the capture page shows them."""
    kept = events.deliveries(reading.connection(), {event.delivery_id for event in found})
    readable = {id_: _readable(delivery.body) for id_, delivery in kept.items()}
    return [
        {
            "event": event,
            "delivery": kept[event.delivery_id],
            "body": readable[event.delivery_id],
            "headers": _headers(kept[event.delivery_id]),
            "refused": None,
        }
        for event in found
        if event.delivery_id in kept
    ]


def _readable(body: bytes) -> str:
    text = body[: KEPT_BODY * 4].decode(errors="replace")
    try:
        return json.dumps(redacted(json.loads(body)), ensure_ascii=False, indent=2)[: KEPT_BODY * 8]
    except (ValueError, RecursionError):
        return (
            "\n".join(_form_line(unquote_plus(part)) for part in text.split("&"))
            if "=" in text and "{" not in text[:1]
            else text
        )


@pages.get("/<key>/capture")
def capture(key: str) -> Any:
    source, source_id = source_of(key)
    recent_events = events.recent(session(), source_id, 12)
    recent = _deliveries(session(), recent_events)
    refused = events.refused(session(), source_id, 12)
    after = max([d["event"].received_at for d in recent] + [r.at for r in refused], default=g.now)
    return render_template(
        "sources/capture.html",
        source=source,
        address=address(key),
        deliveries=recent,
        refused=refused,
        after=after.isoformat(),
        latest=recent_events[:1],
        name_guess=name_guess(source, recent_events[0] if recent_events else None),
        several=several_at(source, recent_events[0] if recent_events else None),
        nameless=sum(1 for one in recent_events if not one.type and one.name not in BY_STATE),
        types=kinds_of_events(),
        shown_refused=whole(request.args.get("refused")) or (refused[0].id if refused and not recent_events else 0),
        hours=_hours(source_id),
        sizes=sorted(events.newest_sizes(session(), source_id)),
    )


HOURS = 48


def _hours(source_id: int) -> list[tuple[dt.datetime, int]]:
    """When each of the last hours began, and how many events came in it."""
    first = (g.now - dt.timedelta(hours=HOURS - 1)).replace(minute=0, second=0, microsecond=0)
    counted = events.by_hour(session(), source_id, first)
    began = int(first.timestamp()) // 3600
    return [(first + dt.timedelta(hours=n), counted.get(began + n, 0)) for n in range(HOURS)]


@pages.get("/<key>/live")
def watch(key: str) -> Any:
    """Server-sent events: each delivery as it comes in, as the page's own HTML."""
    _, source_id = source_of(key)
    try:
        after = dt.datetime.fromisoformat(request.headers.get("Last-Event-ID") or request.args.get("after", ""))
    except ValueError:
        after = g.now
    if after.tzinfo is None or request.method == "HEAD":
        after = g.now
    database = services().database

    def stream(after: dt.datetime) -> Iterator[str]:
        if not WATCHERS.acquire(blocking=False):  # here, where it is sure to be released
            yield "retry: 15000\n: too many pages are watching just now\n\n"
            return
        try:
            yield "retry: 1500\n\n"
            until = time.monotonic() + WATCH_SECONDS
            quiet = time.monotonic()
            while time.monotonic() < until:
                with database.reading() as reading:
                    arrived, refused = events.since(reading, source_id, after)
                    came = _deliveries(reading, arrived)
                for at, kind, item in sorted(
                    [(d["event"].received_at, "came", d) for d in came] + [(r.at, "refused", r) for r in refused],
                    key=lambda x: x[0],
                ):
                    after = at
                    body = render_template(
                        "sources/_delivery.html",
                        d=item if kind == "came" else None,
                        r=item if kind == "refused" else None,
                        fresh=True,
                        source_key=key,
                    )
                    quiet = time.monotonic()
                    told = json.dumps({"html": of_store(body)})
                    yield f"id: {after.isoformat()}\nevent: delivery\ndata: {told}\n\n"
                if time.monotonic() - quiet > 10:
                    quiet = time.monotonic()
                    yield ": still here\n\n"
                time.sleep(0.3)
        finally:
            WATCHERS.release()

    return Response(
        stream_with_context(stream(after)),
        mimetype="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


@pages.get("/<key>/events/<event_id>.http")
def download(key: str, event_id: str) -> Any:
    """A delivery as an `.http` file: headers, blank line, body; fit for `angelon emit`."""
    _, source_id = source_of(key)
    event = events.rows_by_ids(session(), [event_id]).get(event_id)
    if event is None or event.source_id != source_id:
        abort(404, "There is no such event.")
    kept = events.delivery_of(session(), event)
    raw, content_type, headers = kept.body, kept.content_type, kept.headers or {}
    skip = {"host", "content-length", "connection", "accept-encoding", "accept", "user-agent", "content-type"}
    head = "".join(
        f"{name.title()}: {value}\n"
        for name, value in without_secrets(headers).items()
        if name not in skip and "•" not in value
    )
    return Response(
        f"Content-Type: {content_type or 'application/json'}\n{head}\n".encode() + raw,
        mimetype="text/plain",
        headers={"Content-Disposition": f'attachment; filename="{event_id}.http"'},
    )


# ---- samples ------------------------------------------------------------------------------------------------------


@pages.post("/<key>/sample")
def add_sample(key: str) -> Any:
    """Keeps a pasted or uploaded payload as a sample: it is read like a delivery, and makes no send."""
    source_of(key)
    file = request.files.get("file")
    raw = file.read() if file and file.filename else request.form.get("body", "").encode()
    name = request.form.get("name", "").strip()
    if (file and (file.filename or "").endswith(".http")) or raw[:13].lower() == b"content-type:":
        head, _, raw = raw.replace(b"\r\n", b"\n").partition(b"\n\n")
        headers = {
            k.strip().lower(): v.strip()
            for k, _, v in (line.partition(":") for line in head.decode(errors="replace").splitlines())
        }
        raw = raw.rstrip(b"\n")
    else:
        looks_like_form = raw.lstrip()[:1] not in (b"{", b"[") and b"=" in raw
        headers = {"content-type": "application/x-www-form-urlencoded" if looks_like_form else "application/json"}
    try:
        with work() as unit:
            id_ = operations.add_sample(unit, key, name, headers, raw)
    except NotReadable as error:
        flash(f"Not kept: {error.problem.what} {error.problem.hint}", "bad")
        return redirect(url_for(".capture", key=key))
    except Invalid as error:
        flash(f"Not kept: {error.problems[0].what}", "bad")
        return redirect(url_for(".capture", key=key))
    flash("Kept as a sample. It is read like a delivery, and makes no send.", "good")
    return redirect(url_for("mappings.read", key=key, sample=id_))


@pages.post("/<key>/refused/<int:refused_id>/signing")
def sign_as_refused(key: str, refused_id: int) -> Any:
    """Takes the way of signing from a refused delivery."""
    with work_or_back(url_for(".capture", key=key)) as unit:
        signing = operations.sign_as_refused(unit, key, refused_id)
    where = signing.header if signing.scheme == "hmac-sha256" else "webhook-signature"
    flash(f"The signature is now read from {where}. Have the store send the delivery again.", "good")
    return redirect(url_for(".capture", key=key))


@pages.post("/<key>/refused/<int:refused_id>/sample")
def sample_of_refused(key: str, refused_id: int) -> Any:
    """Keeps a refused delivery as a sample."""
    try:
        with work() as unit:
            id_ = operations.sample_of_refused(unit, key, refused_id)
    except NotReadable as error:
        flash(f"Not kept: {error.problem.what} {error.problem.hint}", "bad")
        return redirect(url_for(".capture", key=key))
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not kept: {error.problems[0]}", "bad")
        return redirect(url_for(".capture", key=key))
    flash("Kept as a sample. It is read like a delivery, and makes no send.", "good")
    return redirect(url_for("mappings.read", key=key, sample=id_))


@pages.post("/<key>/events/<event_id>/pin")
def pin(key: str, event_id: str) -> Any:
    """Keeps a delivery among the samples however old it gets; again, and it is one of many once more."""
    _, source_id = source_of(key)
    with work() as unit:
        pinned = event_operations.pin(unit, source_id, event_id)
    flash("Pinned: it stays among the samples." if pinned else "No longer pinned.", "good")
    return redirect(url_for(".capture", key=key))


@pages.app_context_processor
def curl_for_forms() -> dict[str, Any]:
    return {"curl": curl}


# ---- asked elsewhere ----------------------------------------------------------------------------------------------


@pages.get("/<key>/ask")
def asked(key: str) -> Any:
    return look_ups.page(*source_of(key))


@pages.post("/<key>/ask")
def keep_asked(key: str) -> Any:
    return look_ups.save(*source_of(key))


@pages.post("/<key>/ask/drop")
def drop_asked(key: str) -> Any:
    return look_ups.remove(source_of(key)[0])


@pages.post("/<key>/ask/allow")
def allow_asked(key: str) -> Any:
    return look_ups.allow(source_of(key)[0])


@pages.post("/<key>/ask/documentation")
def ask_from_documentation(key: str) -> Any:
    return look_ups.from_documentation(*source_of(key))


@pages.post("/<key>/fetch/documentation")
def fetch_from_documentation(key: str) -> Any:
    return fetching.from_documentation(*source_of(key))


@pages.get("/<key>/ask/documentation")
@pages.get("/<key>/fetch/documentation")
def documented(key: str) -> Any:
    """The page that a command was answered with, loaded anew."""
    return redirect(request.path.removesuffix("/documentation"))


# ---- fetched ------------------------------------------------------------------------------------------------------


@pages.get("/<key>/fetch")
def fetched(key: str) -> Any:
    return fetching.page(*source_of(key))


@pages.post("/<key>/fetch")
def save_fetched(key: str) -> Any:
    return fetching.save(*source_of(key))


@pages.post("/<key>/fetch/sample")
def sample_of_fetched(key: str) -> Any:
    return fetching.sample(*source_of(key))


@pages.post("/<key>/fetch/now")
def fetch_now(key: str) -> Any:
    return fetching.now(source_of(key)[0])


@pages.post("/<key>/fetch/again")
def fetch_again(key: str) -> Any:
    return fetching.again(source_of(key)[0])


# ---- mails --------------------------------------------------------------------------------------------------------


@pages.get("/<key>/mail", endpoint="mails")
def mails_of(key: str) -> Any:
    return mails.page(*source_of(key))


@pages.post("/<key>/mail")
def save_mails(key: str) -> Any:
    return mails.save(*source_of(key))


@pages.post("/<key>/mail/sample")
def sample_of_mail(key: str) -> Any:
    return mails.sample(*source_of(key))


# ---- files --------------------------------------------------------------------------------------------------------


@pages.get("/<key>/files")
def files_of(key: str) -> Any:
    return files.page(*source_of(key))


@pages.post("/<key>/files")
def upload_file(key: str) -> Any:
    return files.upload(source_of(key)[0])


@pages.post("/<key>/folder")
def save_folder(key: str) -> Any:
    return files.save_folder(source_of(key)[0])


@pages.get("/<key>/files/<int:import_id>")
def one_file(key: str, import_id: int) -> Any:
    return files.one(*source_of(key), import_id)


@pages.post("/<key>/files/<int:import_id>")
def change_file(key: str, import_id: int) -> Any:
    return files.change(*source_of(key), import_id)


@pages.get("/<key>/files/<int:import_id>/wrong.csv")
def wrong_rows(key: str, import_id: int) -> Any:
    return files.wrong(*source_of(key), import_id)


@pages.get("/<key>/files/<int:import_id>/told.csv")
def told_rows(key: str, import_id: int) -> Any:
    return files.told(*source_of(key), import_id)
