"""The pages of a source, and the edits that they make."""

from __future__ import annotations

import datetime as dt
import json
import secrets
import shlex
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

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

from angelon.core import event_types
from angelon.core.deliveries import digest, read_delivery, without_secrets
from angelon.core.payload.body import NotReadable
from angelon.core.payload.redact import BLOT, redacted, secret
from angelon.core.problems import Invalid
from angelon.core.shape import compare
from angelon.core.signatures import well_made
from angelon.core.specs import Source, Variable
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.variable import Type
from angelon.core.values import regional
from angelon.db import events, orders, setup, shapes
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.tables import DeliveryRow, EventRow, SourceRow
from angelon.engine.intake import KEPT_BODY
from angelon.web import hand as hands
from angelon.web.services import live, services, session, store
from angelon.web.sources import asking, bench

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
    rows = []
    for key, source in live().setup.sources.items():
        source_id = live().source_ids[key]
        latest = events.recent(session(), source_id, 1)
        rows.append(
            Health(
                source,
                latest[0] if latest else None,
                events.counted(session(), source_id, g.now - dt.timedelta(days=1)),
                events.refused_count(session(), source_id, g.now - dt.timedelta(days=7)),
                events.silence(session(), source_id, g.now),
                bench.drifting(source, shapes.of_source(session(), source_id)),
            )
        )
    return render_template("sources/index.html", rows=rows, variables=len(live().setup.variables))


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = key_of(name)
    if not key:
        flash("Give the source a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    row = store()
    assert row.id is not None
    try:
        new = read_spec(
            Source,
            {
                "key": key,
                "name": name,
                "event_name": {"header": "Store-Event"},
                "delivery_id": {"header": "Store-Delivery"},
            },
        )
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].mend}", "bad")
        return redirect(url_for(".index"))
    with services().database.writing() as writing:
        if writing.exec(setup.select(SourceRow).where(SourceRow.key == key)).first():
            flash(f"There is a source with the key “{key}” already. Choose another name.", "bad")
            return redirect(url_for(".index"))
        made = setup.save_plain(writing, SourceRow, row.id, new, g.now)
        services().vault.put(writing, "source", made.id, secrets.token_urlsafe(24), g.now)
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
    source: Source, source_id: int, problems: list[Any] | None = None, given: dict[str, str] | None = None
) -> Any:
    held = services().vault.get(session(), "source", source_id, g.now)
    return render_template(
        "sources/connect.html",
        source=source,
        address=address(source.key),
        secrets=held,
        unnamed=events.unnamed(session(), source_id),
        problems=problems or [],
        given=given or {},
        types=event_types.LABELS,
        latest=events.recent(session(), source_id, 1),
        unmapped_statuses=[(s, "") for s in orders.statuses(session(), source_id) if s not in source.statuses],
    )


@pages.post("/<key>/connect")
def save_connect(key: str) -> Any:
    """Signing, where the event's name and the delivery's id stand, and what the names mean."""
    source, source_id = _source(key)
    form = request.form
    spec = source.model_dump(mode="json")
    spec["name"] = form.get("name", source.name)
    spec["signing"] = {
        "scheme": form.get("scheme", source.signing.scheme),
        "header": form.get("header", source.signing.header),
        "encoding": form.get("encoding", source.signing.encoding),
        "prefix": form.get("prefix", ""),
        "timestamp_header": form.get("timestamp_header", ""),
        "tolerance_seconds": form.get("tolerance_seconds") or 300,
    }
    for locator in ("event_name", "delivery_id"):
        kind, text = form.get(f"{locator}.kind", "path"), form.get(f"{locator}.text", "").strip()
        spec[locator] = {kind: text} if text else {}
    names = {}
    for theirs, ours in zip(form.getlist("theirs"), form.getlist("ours"), strict=False):
        if theirs.strip() and ours.strip():
            names[theirs.strip()] = ours.strip()
    spec["event_names"] = names
    if "status" in form:
        spec["statuses"] = {
            s.strip(): ours
            for s, ours in zip(form.getlist("status"), form.getlist("status_means"), strict=False)
            if s.strip() and ours
        }
    if "more" in form:
        spec |= {name: form.get(name, "").strip() or spec[name] for name in ("same_body_minutes", "max_bytes")}
        spec |= {
            "orders_at": form.get("orders_at", "").strip(),
            "country": form.get("country", "").strip().upper(),
            "on": form.get("on") == "yes",
        }
        spec["allow_from"] = form.get("allow_from", "").split()
        method = form.get("challenge.method", "")
        spec["challenge"] = (
            {"method": method, "parameter": form.get("challenge.parameter", "challenge")} if method else None
        )
    try:
        made = read_spec(Source, spec)
        _check_paths(made)
    except Invalid as error:
        return _connect_page(source, source_id, error.problems, dict(form)), 422
    _save(made)
    flash("Saved. The next delivery is read this way.", "good")
    return redirect(url_for(".connect", key=key))


def _check_paths(source: Source) -> None:
    from angelon.core.payload.paths import BadPath, compile_path

    problems = []
    for name, path in (
        ("event_name", source.event_name.path),
        ("delivery_id", source.delivery_id.path),
        ("orders_at", source.orders_at),
    ):
        if path:
            try:
                compile_path(path)
            except BadPath as error:
                problems.append(error.problem.at(name))
    if problems:
        raise Invalid(problems)


@pages.post("/<key>/names")
def name_event(key: str) -> Any:
    """Says what one of the store's names means; events that came under it before are left as they were."""
    source, _ = _source(key)
    theirs, ours = request.form.get("theirs", "").strip(), request.form.get("ours", "").strip()
    try:
        made = read_spec(
            Source, {**source.model_dump(mode="json"), "event_names": {**source.event_names, theirs: ours}}
        )
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".connect", key=key))
    _save(made)
    flash(f"“{theirs}” now means {event_types.label(ours)}.", "good")
    return redirect(url_for(".connect", key=key))


@pages.post("/<key>/secret")
def new_secret(key: str) -> Any:
    """Takes a pasted secret or makes one; the old one stays valid for as long as was chosen."""
    source, source_id = _source(key)
    text = request.form.get("secret", "").strip()
    if not text:
        raw = secrets.token_bytes(24)
        import base64

        text = (
            "whsec_" + base64.b64encode(raw).decode()
            if source.signing.scheme == "standard-webhooks"
            else secrets.token_urlsafe(24)
        )
    problem = well_made(source.signing, text)
    if problem:
        flash(f"{problem.what} {problem.mend}", "bad")
        return redirect(url_for(".connect", key=key))
    try:
        hours = min(max(int(request.form.get("overlap_hours") or 0), 0), 24 * 30)
    except ValueError:
        hours = 0
    with services().database.writing() as writing:
        services().vault.put(
            writing, "source", source_id, text, g.now, g.now + dt.timedelta(hours=hours) if hours else None
        )
        setup.touch(writing, store().id or 0)
    services().setups.forget()
    flash(
        "The secret is new. Give it to the store." + (f" The old one works for another {hours} h." if hours else ""),
        "good",
    )
    return redirect(url_for(".connect", key=key))


def _save(source: Source) -> None:
    row = store()
    assert row.id is not None
    with services().database.writing() as writing:
        setup.save_plain(writing, SourceRow, row.id, source, g.now)
    services().setups.forget()
    g.pop("live", None)


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
        from urllib.parse import unquote_plus

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
    event = session().get(EventRow, event_id)
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


# ---- read: the bench ----------------------------------------------------------------------------------------------


@pages.get("/<key>/read")
def read(key: str) -> Any:
    source, source_id = _source(key)
    return render_template("sources/read.html", **_bench(source, source_id, request.args.get("open", "")))


def _bench(source: Source, source_id: int, opened: str) -> dict[str, Any]:
    hand = hands.take(live(), [source.key], changed=source)
    samples = hands.samples(live(), source, source_id)
    the_store = live().setup.store
    locale = regional((hand.reading.text("language") if hand.reading else "") or the_store.locale, the_store.country)
    laid = bench.lay_out(
        source, dict(live().setup.variables), hand, opened, locale, samples, shapes.of_source(session(), source_id)
    )
    return {
        "source": source,
        "hand": hand,
        "bench": laid,
        "types": [t.value for t in Type],
        "column": bench.column,
        "locale": locale,
        "address": address(source.key),
        "latest": events.recent(session(), source_id, 1),
    }


@pages.post("/<key>/read")
def edit(key: str) -> Any:
    """One edit on the bench. Answers with the bench anew, or goes back to the page where there is no script."""
    source, source_id = _source(key)
    given = {name: str(value) for name, value in request.form.items()}
    act, mark = given.get("act", ""), given.get("mark", "")
    opened, problem = mark, ""
    try:
        if act == "new_variable":
            opened = _new_variable(given)
            source = live().setup.sources[key]
            if given.get("path", "").strip():
                source = bench.edit(source, opened, "path", given)
                _save(source)
        elif act == "drop_variable":
            _drop_variable(mark.partition(".")[2])
            source, opened = live().setup.sources[key], ""
        elif act == "set_variable":
            _set_variable(mark.partition(".")[2], given)
            source = live().setup.sources[key]
        elif act == "take_sure":
            source = _take_sure(source, source_id)
            opened = ""
        elif act in ("set_table", "drop_table"):
            source = _table(source, act, given)
            _save(source)
        elif act != "open":
            source = bench.edit(source, mark, act, given)
            _save(read_spec(Source, source.model_dump(mode="json")))
    except bench.BadEdit as error:
        problem = str(error)
    except Invalid as error:
        problem = str(error.problems[0])
    if request.headers.get("X-Fragment"):
        if problem:
            return jsonify({"detail": problem}), 422
        return render_template("sources/_bench.html", **_bench(source, source_id, opened))
    if problem:
        flash(problem, "bad")
    return redirect(url_for(".read", key=key, open=opened))


def _take_sure(source: Source, source_id: int) -> Source:
    """Takes every suggestion that is sure, lists first so that their items' parts follow."""
    for _ in range(2):
        laid = _bench(source, source_id, "")["bench"]
        for row in laid.sure:
            source = bench.edit(source, row.mark, "take", {"recipe": json.dumps(row.suggestion.recipe.model_dump())})
        _save(read_spec(Source, source.model_dump(mode="json")))
        source = live().setup.sources[source.key]
    return source


def _table(source: Source, act: str, given: dict[str, str]) -> Source:
    """Keeps or drops a small table for the step lookup: a line a row, `what = what to use`."""
    name = key_of(given.get("table", ""), "_")
    if not name or not name[0].isalpha():
        raise bench.BadEdit("Give the table a name that starts with a letter, such as short_names.")
    tables = {key: dict(rows) for key, rows in source.lookups.items()}
    if act == "drop_table":
        tables.pop(name, None)
    else:
        rows = {}
        for number, line in enumerate(given.get("rows", "").splitlines(), 1):
            if line.strip():
                what, equals, use = line.partition("=")
                if not equals or not what.strip():
                    raise bench.BadEdit(f"Line {number} of the table is no row: write it as HER-180 = the Heron.")
                rows[what.strip()] = use.strip()
        tables[name] = rows
    return read_spec(Source, {**source.model_dump(mode="json"), "lookups": tables})


@pages.post("/<key>/sample")
def add_sample(key: str) -> Any:
    """Keeps a pasted or uploaded payload as a sample: it is read like a delivery, and makes no send."""
    source, source_id = _source(key)
    file = request.files.get("file")
    raw = file.read() if file and file.filename else request.form.get("body", "").encode()
    if len(raw) > source.max_bytes:
        flash(f"Not kept: the payload has {len(raw):,} bytes, and this source takes {source.max_bytes:,}.", "bad")
        return redirect(url_for(".capture", key=key))
    name = request.form.get("name", "").strip()
    if (file and file.filename.endswith(".http")) or raw[:13].lower() == b"content-type:":
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
        received = read_delivery(source, headers, raw)[0]
    except NotReadable as error:
        flash(f"Not kept: {error.problem.what} {error.problem.mend}", "bad")
        return redirect(url_for(".capture", key=key))
    said = name or received.name
    id_ = services().clock.new_id("ev", g.now)
    with services().database.connection() as connection:
        sample = NewEvent.sample(id_, source_id, said, source.event_names.get(said, ""), g.now)
        events.add_sample(
            connection,
            NewDelivery(
                id_,
                source_id,
                g.now,
                headers.get("content-type", "")[:200],
                without_secrets(headers),
                raw,
                digest(raw),
                (sample,),
            ),
        )
    flash("Kept as a sample. It is read like a delivery, and makes no send.", "good")
    return redirect(url_for(".read", key=key, hand=id_))


@pages.post("/<key>/events/<event_id>/pin")
def pin(key: str, event_id: str) -> Any:
    """Keeps a delivery among the samples however old it gets; again, and it is one of many once more."""
    _, source_id = _source(key)
    with services().database.writing() as writing:
        event = writing.get(EventRow, event_id)
        if event is None or event.source_id != source_id:
            abort(404, "There is no such event.")
        event.pinned = not event.pinned
        flash("Pinned: it stays among the samples." if event.pinned else "No longer pinned.", "good")
    return redirect(url_for(".capture", key=key))


@pages.get("/<key>/compare")
def compare_samples(key: str) -> Any:
    """What one sample has, lacks, or says otherwise than another."""
    source, source_id = _source(key)
    samples = hands.samples(live(), source, source_id, 30)
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


def _new_variable(given: dict[str, str]) -> str:
    name = key_of(given.get("name", ""), "_")
    if not name or not name[0].isalpha():
        raise bench.BadEdit("Give the variable a name that starts with a letter, such as customer_name.")
    if name in live().setup.variables:
        raise bench.BadEdit(f"There is a variable “{name}” already. Choose it in the list.")
    variable = read_spec(Variable, {"name": name, "type": given.get("type") or "text"})
    with services().database.writing() as writing:
        setup.save_variable(writing, store().id or 0, variable)
    services().setups.forget()
    g.pop("live", None)
    return f"recipes.{name}"


def _set_variable(name: str, given: dict[str, str]) -> None:
    variable = live().setup.variables.get(name)
    if variable is None:
        raise bench.BadEdit(f"There is no variable “{name}”.")
    made = read_spec(
        Variable,
        {
            **variable.model_dump(mode="json"),
            "type": given.get("type", variable.type),
            "about": given.get("about", variable.about),
            "required": given.get("required") == "on",
        },
    )
    with services().database.writing() as writing:
        setup.save_variable(writing, store().id or 0, made)
    services().setups.forget()
    g.pop("live", None)


def _drop_variable(name: str) -> None:
    using = [m.name for m in live().setup.messages.values() if name in _names_of(m)]
    if using:
        raise bench.BadEdit(f"“{name}” is used by {', '.join(using)}. Take it out of the text first.")
    with services().database.writing() as writing:
        setup.drop_variable(writing, store().id or 0, name)
    services().setups.forget()
    g.pop("live", None)


def _names_of(message: Any) -> set[str]:
    from angelon.core.messages.parts import compiled_part

    names: set[str] = set()
    for locale in message.email:
        try:
            names |= compiled_part(message, "email", locale, live().setup.store).names
        except Invalid:
            continue
    return names


@pages.app_context_processor
def steps_for_forms() -> dict[str, Any]:
    from angelon.core.recipes.steps import STEPS

    return {"step_kinds": lambda: STEPS, "curl": curl}


# ---- asked elsewhere ----------------------------------------------------------------------------------------------


@pages.get("/<key>/ask")
def asked(key: str) -> Any:
    return asking.page(*_source(key))


@pages.post("/<key>/ask")
def keep_asked(key: str) -> Any:
    return asking.save(*_source(key))


@pages.post("/<key>/ask/drop")
def drop_asked(key: str) -> Any:
    return asking.drop(_source(key)[0])


@pages.post("/<key>/ask/allow")
def allow_asked(key: str) -> Any:
    return asking.allow(_source(key)[0])
