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
    flash,
    g,
    jsonify,
    redirect,
    render_template,
    request,
    stream_with_context,
    url_for,
)
from sqlmodel import Session

from angelon.core import event_types, usage
from angelon.core.deliveries import without_secrets
from angelon.core.numbers import decimal_sign
from angelon.core.payload.body import NotReadable
from angelon.core.payload.redact import BLOT, redacted, secret
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.recipes.evaluate import label
from angelon.core.recipes.steps import STEPS
from angelon.core.shape import Shape, compare
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.source import Signing
from angelon.core.specs.variable import Type
from angelon.core.values import regional
from angelon.db import events, orders, shapes, specs
from angelon.db.tables import DeliveryRow, EventRow, SourceRow
from angelon.engine.intake import KEPT_BODY
from angelon.engine.operations import events as event_operations
from angelon.engine.operations import sources as operations
from angelon.engine.usage import among
from angelon.web import sample_event as sample_events
from angelon.web.conflicts import edits_seen
from angelon.web.forms import CODE, TEXT, WORDS, Spelling, filled, pairs
from angelon.web.numbers import whole
from angelon.web.services import kinds_of_events, live, services, session, store_id, work
from angelon.web.sources import look_ups, mapping

pages = Blueprint("sources", __name__, url_prefix="/sources", template_folder="templates")

WATCHERS = threading.BoundedSemaphore(24)
WATCH_SECONDS = 120


def _source(key: str) -> tuple[Source, int]:
    setup_now = live()
    if key not in setup_now.setup.sources:
        abort(404, f"There is no source “{key}”. It may have been taken away.")
    return setup_now.setup.sources[key], setup_now.source_ids[key]


def address(key: str) -> str:
    """Where a store delivers to."""
    return f"{services().settings.base_url or request.url_root.rstrip('/')}/in/{key}"


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
            mapping.drifting(source, known.get(ids[key], {})),
        )
        for key, source in live().setup.sources.items()
    ]
    return render_template("sources/index.html", rows=rows, variables=len(live().setup.variables))


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    try:
        with work() as unit:
            key = operations.create(unit, name)
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}".strip(), "bad")
        return redirect(url_for(".index"))
    return redirect(url_for(".connect", key=key))


# ---- connect ------------------------------------------------------------------------------------------------------


@pages.get("/<key>")
def show(key: str) -> Any:
    _, source_id = _source(key)
    if not events.recent(session(), source_id, 1):
        return redirect(url_for(".connect", key=key))
    return redirect(url_for(".read", key=key))


@pages.get("/<key>/connect")
def connect(key: str) -> Any:
    source, source_id = _source(key)
    return _connect_page(source, source_id)


def _connect_page(
    source: Source, source_id: int, problems: Sequence[Problem] = (), spec: dict[str, Any] | None = None
) -> Any:
    """The page; `spec` is what was typed, where it could not be saved."""
    spec = spec or source.model_dump(mode="json")
    row = specs.by_key(session(), SourceRow, store_id(), source.key)
    statuses = [status for status in orders.statuses(session(), source_id) if status not in spec["statuses"]]
    return render_template(
        "sources/connect.html",
        source=source,
        edits=request.form.get("edits", row.edits),
        address=address(source.key),
        secrets=services().vault.get(session(), "source", source_id, g.now),
        unnamed=events.unnamed(session(), source_id),
        problems=problems,
        spec=spec,
        types=kinds_of_events(),
        latest=events.recent(session(), source_id, 1),
        unmapped_statuses=[(status, "") for status in statuses],
        observed=_observed(shapes.of_source(session(), source_id).values()),
    )


def _observed(known: Iterable[Shape]) -> str | None:
    """The decimal sign that the samples of a source show; None where they differ, empty where none shows one."""
    signs = {sign for shape in known for field in shape.paths.values() if (sign := decimal_sign(field.sample))}
    return None if len(signs) > 1 else next(iter(signs), "")


_CONNECT: dict[str, Spelling] = {
    **dict.fromkeys(("name", "orders_at", "same_body_minutes", "max_bytes"), TEXT),
    **dict.fromkeys((f"signing.{name}" for name in Signing.model_fields), TEXT),
    **dict.fromkeys(("challenge.method", "challenge.parameter", "decimal_sign"), TEXT),
    "country": CODE,
    "allow_from": WORDS,
}


@pages.post("/<key>/connect")
def save_connect(key: str) -> Any:
    """Signing, where the event's name and the delivery's id stand, and what the names mean."""
    source, source_id = _source(key)
    form = request.form
    spec, problems = filled(form, source, _CONNECT, {}, ("on",) if "more" in form else ())
    for locator in ("event_name", "delivery_id"):
        text = form.get(f"{locator}.text", "").strip()
        spec[locator] = {form.get(f"{locator}.kind", "path"): text} if text else {}
    spec["event_names"] = pairs(form, "theirs", "ours") | pairs(form, "theirs_own", "own_kind")
    if "status" in form:
        spec["statuses"] = pairs(form, "status", "status_means")
    if "challenge.method" in form and not form["challenge.method"]:
        spec["challenge"] = None
    try:
        if problems:
            raise Invalid(problems)
        with work() as unit:
            operations.save(unit, read_spec(Source, spec), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return _connect_page(source, source_id, error.problems, spec), 422
    flash("Saved. The next delivery is read this way.", "good")
    return redirect(url_for(".connect", key=key))


@pages.post("/<key>/names")
def name_event(key: str) -> Any:
    """Says what one of the store's names means: a kind that is known, or one of its own."""
    theirs = request.form.get("theirs", "").strip()
    ours = request.form.get("own_kind", "").strip() or request.form.get("ours", "").strip()
    try:
        with work() as unit:
            kept = operations.name_event(unit, key, theirs, ours)
    except NotFound:
        raise
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".connect", key=key))
    read = f" {kept:,} kept deliveries are read so; nobody was written to about them." if kept else ""
    flash(f"“{theirs}” now means {event_types.label(ours)}.{read}", "good")
    return redirect(url_for(".connect", key=key))


@pages.post("/<key>/secret")
def rotate_secret(key: str) -> Any:
    """Takes a pasted secret or makes one; the old one stays valid for as long as was chosen."""
    hours = whole(request.form.get("overlap_hours"), operations.LONGEST_OVERLAP) or 0
    try:
        with work() as unit:
            operations.rotate_secret(unit, key, request.form.get("secret", "").strip(), hours)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".connect", key=key))
    more = f" The old one works for another {hours} h." if hours else ""
    flash(f"The secret is new. Give it to the store.{more}", "good")
    return redirect(url_for(".connect", key=key))


def _save(source: Source) -> None:
    with work() as unit:
        unit.specs.save(source)


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


def _deliveries(reading: Session, found: Sequence[EventRow]) -> list[dict[str, Any]]:
    """Events with their deliveries, as the capture page shows them."""
    kept = events.deliveries(reading.connection(), {event.delivery_id for event in found})
    readable = {id_: _readable(delivery.body) for id_, delivery in kept.items()}
    return [
        {
            "event": event,
            "delivery": kept[event.delivery_id],
            "body": readable[event.delivery_id],
            "headers": kept[event.delivery_id].headers or {},
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
    source, source_id = _source(key)
    recent = _deliveries(session(), events.recent(session(), source_id, 12))
    refused = events.refused(session(), source_id, 12)
    after = max([d["event"].received_at for d in recent] + [r.at for r in refused], default=g.now)
    return render_template(
        "sources/capture.html",
        source=source,
        address=address(key),
        deliveries=recent,
        refused=refused,
        after=after.isoformat(),
        latest=events.recent(session(), source_id, 1),
    )


@pages.get("/<key>/live")
def watch(key: str) -> Any:
    """Server-sent events: each delivery as it comes in, as the page's own HTML."""
    _, source_id = _source(key)
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
                    yield f"id: {after.isoformat()}\nevent: delivery\ndata: {json.dumps({'html': body})}\n\n"
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
    _, source_id = _source(key)
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


# ---- read: the mapping --------------------------------------------------------------------------------------------


@pages.get("/<key>/read")
def read(key: str) -> Any:
    source, source_id = _source(key)
    return render_template("sources/read.html", **_mapping(source, source_id, request.args.get("open", "")))


def _mapping(source: Source, source_id: int, opened: str) -> dict[str, Any]:
    sample = sample_events.select(live(), [source.key], changed=source)
    samples = sample_events.samples(live(), source, source_id)
    the_store = live().setup.store
    locale = regional(
        (sample.reading.text("language") if sample.reading else "") or the_store.locale, the_store.country
    )
    laid = mapping.lay_out(
        source, dict(live().setup.variables), sample, opened, locale, samples, shapes.of_source(session(), source_id)
    )
    return {
        "source": source,
        "sample": sample,
        "mapping": laid,
        "used": _used(opened),
        "types": [t.value for t in Type],
        "column": mapping.column,
        "step_label": label,
        "locale": locale,
        "address": address(source.key),
        "latest": events.recent(session(), source_id, 1),
    }


@pages.post("/<key>/read")
def edit(key: str) -> Any:
    """One edit of the mapping. Answers with the page’s part anew, or goes back to the page where there is no script."""
    source, source_id = _source(key)
    given = {name: str(value) for name, value in request.form.items()}
    act, field_id = given.get("act", ""), given.get("field", "")
    opened, problem = field_id, ""
    try:
        if act == "new_variable":
            with work() as unit:
                name = operations.create_variable(unit, given.get("name", ""), given.get("type", ""))
            opened = f"recipes.{name}"
            source = live().setup.sources[key]
            if given.get("path", "").strip():
                source = mapping.edit(source, opened, "path", given)
                _save(source)
        elif act == "drop_variable":
            with work() as unit:
                operations.delete_variable(unit, field_id.partition(".")[2])
            source, opened = live().setup.sources[key], ""
        elif act == "set_variable":
            with work() as unit:
                changes = {name: given[name] for name in ("type", "about") if name in given}
                required = given.get("required") == "on"
                operations.change_variable(unit, field_id.partition(".")[2], changes | {"required": required})
            source = live().setup.sources[key]
        elif act == "take_sure":
            source = _take_sure(source, source_id)
            opened = ""
        elif act == "set_table":
            source = _table(source, given)
            _save(source)
        elif act in ("drop_table", "drop_steps"):
            drop = operations.delete_table if act == "drop_table" else operations.delete_kept_steps
            with work() as unit:
                drop(unit, key, given.get("table", ""))
            source = live().setup.sources[key]
        elif act in ("clear", "drop_path") and given.get("sure") != "yes" and _last_path(source, field_id):
            used = _used(field_id)
            if used:
                raise mapping.InvalidEdit(
                    f"{field_id.partition('.')[2]} is used in {usage.listed(used)}: without a mapping those are held "
                    f"for orders of {source.name}. Click once more to do it all the same."
                )
            source = mapping.edit(source, field_id, act, given)
            _save(read_spec(Source, source.model_dump(mode="json")))
        elif act != "open":
            source = mapping.edit(source, field_id, act, given)
            _save(read_spec(Source, source.model_dump(mode="json")))
    except mapping.InvalidEdit as error:
        problem = str(error)
    except Invalid as error:
        problem = f"{error.problems[0].where and error.problems[0].where + ': '}{error.problems[0].what}".strip()
        problem = f"{problem} {error.problems[0].mend}".strip()
    if request.headers.get("X-Fragment"):
        if problem:
            return jsonify({"detail": problem}), 422
        return render_template("sources/_mapping.html", **_mapping(source, source_id, opened))
    if problem:
        flash(problem, "bad")
    return redirect(url_for(".read", key=key, open=opened))


def _take_sure(source: Source, source_id: int) -> Source:
    """Takes every suggestion that is sure, lists first so that their items' parts follow."""
    for _ in range(2):
        laid = _mapping(source, source_id, "")["mapping"]
        for row in laid.sure:
            source = mapping.edit(
                source, row.field_id, "take", {"recipe": json.dumps(row.suggestion.recipe.model_dump())}
            )
        _save(read_spec(Source, source.model_dump(mode="json")))
        source = live().setup.sources[source.key]
    return source


def _last_path(source: Source, field_id: str) -> bool:
    """Whether a field is mapped by one path alone, so that nothing is left when that goes."""
    kind, _, name = field_id.partition(".")
    recipe = getattr(source, kind, {}).get(name)
    return recipe is not None and not recipe.or_paths


def _used(field_id: str) -> list[usage.Use]:
    """Where a variable, or a part of the order, is used."""
    kind, _, name = field_id.partition(".")
    if kind not in ("recipes", "reading"):
        return []
    return usage.of_name(name if kind == "recipes" else f"order.{name}", among(session(), live()))


def _table(source: Source, given: dict[str, str]) -> Source:
    """Keeps a small table for the step lookup: a line a row, `what = what to use`."""
    name = key_of(given.get("table", ""), "_")
    if not name or not name[0].isalpha():
        raise mapping.InvalidEdit("Give the table a name that starts with a letter, such as short_names.")
    rows = {}
    for number, line in enumerate(given.get("rows", "").splitlines(), 1):
        if line.strip():
            what, equals, use = line.partition("=")
            if not equals or not what.strip():
                raise mapping.InvalidEdit(f"Line {number} of the table is no row: write it as HER-180 = the Heron.")
            rows[what.strip()] = use.strip()
    tables = {key: dict(table) for key, table in source.lookups.items()} | {name: rows}
    return read_spec(Source, {**source.model_dump(mode="json"), "lookups": tables})


@pages.post("/<key>/split")
def split_orders(key: str) -> Any:
    """Has each order of a delivery's list read by itself."""
    source, _ = _source(key)
    at = request.form.get("at", "")
    try:
        _save(read_spec(Source, source.model_dump(mode="json") | {"orders_at": at}))
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
    else:
        flash(f"Each order at {at} is an event of its own from now on.", "good")
    return redirect(url_for(".read", key=key))


@pages.post("/<key>/sample")
def add_sample(key: str) -> Any:
    """Keeps a pasted or uploaded payload as a sample: it is read like a delivery, and makes no send."""
    _source(key)
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
        flash(f"Not kept: {error.problem.what} {error.problem.mend}", "bad")
        return redirect(url_for(".capture", key=key))
    except Invalid as error:
        flash(f"Not kept: {error.problems[0].what}", "bad")
        return redirect(url_for(".capture", key=key))
    flash("Kept as a sample. It is read like a delivery, and makes no send.", "good")
    return redirect(url_for(".read", key=key, sample=id_))


@pages.post("/<key>/events/<event_id>/pin")
def pin(key: str, event_id: str) -> Any:
    """Keeps a delivery among the samples however old it gets; again, and it is one of many once more."""
    _, source_id = _source(key)
    with work() as unit:
        pinned = event_operations.pin(unit, source_id, event_id)
    flash("Pinned: it stays among the samples." if pinned else "No longer pinned.", "good")
    return redirect(url_for(".capture", key=key))


@pages.get("/<key>/compare")
def compare_samples(key: str) -> Any:
    """What one sample has, lacks, or says otherwise than another."""
    source, source_id = _source(key)
    samples = sample_events.samples(live(), source, source_id, 30)
    by_id = {s.event.id: s for s in samples if s.event}
    now = by_id.get(request.args.get("now", "")) or (samples[0] if samples else None)
    was = by_id.get(request.args.get("was", "")) or next(
        (s for s in samples[1:] if s.event and now and now.event and s.event.name == now.event.name),
        samples[-1] if samples else None,
    )
    found = compare(was.payload, now.payload) if was and now else []
    return render_template(
        "sources/compare.html",
        source=source,
        samples=samples,
        was=was,
        now=now,
        found=found,
        latest=events.recent(session(), source_id, 1),
        kinds=("gone", "added", "changed"),
    )


@pages.app_context_processor
def steps_for_forms() -> dict[str, Any]:
    return {"step_kinds": lambda: STEPS, "curl": curl}


# ---- asked elsewhere ----------------------------------------------------------------------------------------------


@pages.get("/<key>/ask")
def asked(key: str) -> Any:
    return look_ups.page(*_source(key))


@pages.post("/<key>/ask")
def keep_asked(key: str) -> Any:
    return look_ups.save(*_source(key))


@pages.post("/<key>/ask/drop")
def drop_asked(key: str) -> Any:
    return look_ups.remove(_source(key)[0])


@pages.post("/<key>/ask/allow")
def allow_asked(key: str) -> Any:
    return look_ups.allow(_source(key)[0])
