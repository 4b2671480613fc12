"""The mapping's pages: edited as a draft with what it does to events that have come in, undone, published, brought
back.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Mapping
from typing import Any

from flask import (
    Blueprint,
    Response,
    flash,
    g,
    jsonify,
    redirect,
    render_template,
    request,
    stream_with_context,
    url_for,
)

from angelon.core import usage
from angelon.core.planning.effect import compare as compare_decisions
from angelon.core.planning.mapping_effect import value_changes
from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.evaluate import label
from angelon.core.recipes.kept import Part
from angelon.core.recipes.steps import STEPS
from angelon.core.shape import compare
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.mapping import changed_parts, mapping_of
from angelon.core.specs.variable import Type
from angelon.core.values import regional
from angelon.db.derived import shapes
from angelon.db.log import events
from angelon.db.setup import mappings, specs
from angelon.db.tables import SourceRow
from angelon.engine.operations import mappings as operations
from angelon.engine.operations import variables
from angelon.engine.operations.checks import ChecksFailed
from angelon.engine.past.rehearsals import Span, rehearse, with_source
from angelon.engine.past.usage import among
from angelon.engine.unit import found
from angelon.web import sample_event as sample_events
from angelon.web.conflicts import edits_seen
from angelon.web.numbers import whole
from angelon.web.rehearsals.views import EffectTally
from angelon.web.services import kinds_of_events, live, names, services, session, store_id, work
from angelon.web.sources import mapping
from angelon.web.sources.stored import address, name_guess, source_of

pages = Blueprint("mappings", __name__, url_prefix="/sources", template_folder="templates")

SPANS = {"100": Span(0, 100), "1000": Span(0, 1000), "7d": Span(7)}
SPAN_LABELS = {
    "100": "the last 100 events of each route",
    "1000": "the last 1,000 events of each route",
    "7d": "the last 7 days",
}


@pages.get("/<key>/read")
def read(key: str) -> Any:
    gone = request.args.get("gone", "")[:60]
    return render_template("sources/read.html", **_page(key, request.args.get("open", "")), gone=gone)


def _page(key: str, opened: str) -> dict[str, Any]:
    """The page's parts: the source as drafted, the sample event as it reads it, the draft's effect."""
    as_live, source_id = source_of(key)
    row = found(specs.by_key(session(), SourceRow, store_id(), key), "source")
    source, broken = as_live, ""
    try:
        source = operations.drafted(as_live, row)
    except Invalid as error:
        broken = f"The draft can’t be read as it is stored: {error.problems[0]} Discard it, and edit what is live."
    sample = sample_events.select(live(), [key], changed=source)
    samples = sample_events.samples(live(), source, source_id)
    the_store = live().setup.store
    locale = regional(
        (sample.reading.text("language") if sample.reading else "") or the_store.locale, the_store.country
    )
    newest = events.recent(session(), source_id, 1)
    return {
        "source": source,
        "name_guess": name_guess(as_live, newest[0] if newest else None),
        "kinds": kinds_of_events(),
        "sample": sample,
        "mapping": mapping.lay_out(
            source,
            dict(live().setup.variables),
            sample,
            opened,
            locale,
            samples,
            shapes.of_source(session(), source_id),
            as_live,
        ),
        "used": _used(opened),
        "types": [t.value for t in Type],
        "column": mapping.column,
        "step_label": label,
        "step_kinds": STEPS,
        "value_line": mapping.value_line,
        "locale": locale,
        "address": address(key),
        "latest": newest,
        "edits": row.edits,
        "broken_draft": broken,
        "draft": _draft(as_live, source, source_id, samples) if row.draft is not None and not broken else None,
        "revisions": specs.revisions(session(), mappings.KIND, source_id, 20),
    }


def _draft(as_live: Source, source: Source, source_id: int, samples: list[sample_events.SampleEvent]) -> dict[str, Any]:
    """What the draft changes, what it does to the samples, and what can be undone."""
    before = [sample_events.SampleEvent(one.event, source=as_live) for one in samples]
    sample_events.read(live(), before)
    pairs = [
        (old.number, (old.reading, old.variables), (new.reading, new.variables))
        for old, new in zip(before, samples, strict=True)
        if old.reading and old.variables and new.reading and new.variables
    ]
    return {
        "parts": [name.partition(".")[2] for name in changed_parts(mapping_of(as_live), mapping_of(source))],
        "values": value_changes(pairs, list(live().setup.variables)),
        "samples": len(pairs),
        "losses": operations.losses(among(session(), live()), as_live, source),
        "last": next(iter(mappings.steps(session(), source_id, 1)), None),
    }


@pages.post("/<key>/read")
def edit(key: str) -> Any:
    """One edit of the mapping. Answers with the page’s part anew, or goes back to the page where there is no script."""
    given = {name: str(value) for name, value in request.form.items()}
    act, field_id = given.get("act", ""), given.get("field", "")
    opened, problem = field_id, ""
    try:
        opened = _edit(key, act, field_id, given)
    except Invalid as error:
        first = error.problems[0]
        problem = f"{first.where and first.where + ': '}{first.what} {first.hint}".strip()
    if request.headers.get("X-Fragment"):
        if problem:
            return jsonify({"detail": problem}), 422
        return render_template("sources/_mapping.html", **_page(key, opened), gone=_gone(act, field_id))
    if problem:
        flash(problem, "bad")
    return redirect(url_for(".read", key=key, open=opened, gone=_gone(act, field_id) if not problem else None))


def _gone(act: str, field_id: str) -> str | None:
    """The variable that was deleted just now, to be offered back."""
    return field_id.partition(".")[2] if act == "drop_variable" else None


_KEPT: dict[str, Part] = {
    "rename_table": "lookups",
    "copy_table": "lookups",
    "rename_steps": "shared_steps",
    "copy_steps": "shared_steps",
}


def _edit(key: str, act: str, field_id: str, given: dict[str, str]) -> str:
    """Carries an edit out; gives the row that is open after it. Raises Invalid."""
    name = field_id.partition(".")[2]
    if act == "open":
        source_of(key)
        return field_id
    if act == "take_sure":
        listed = {field: field in request.form.getlist("want") for field in request.form.getlist("listed")}
        _take_sure(key, listed)
        return ""
    if act == "hundredths":
        asked = _page(key, "")["mapping"].hundredths
        with work() as unit:
            operations.in_hundredths(unit, key, asked.fields if asked else ())
        return ""
    with work() as unit:
        if act == "new_variable":
            created = variables.create(unit, given.get("name", ""), given.get("type", ""))
            if given.get("path", "").strip():
                operations.edit(unit, key, f"recipes.{created}", "path", given)
            return f"recipes.{created}"
        if act == "drop_variable":
            variables.delete(unit, name)
            return ""
        if act == "restore_variable":
            variables.restore(unit, name)
            return field_id
        if act == "rename_variable":
            return f"recipes.{variables.rename(unit, name, given.get('name', ''))}"
        if act == "copy_variable":
            return f"recipes.{variables.copy(unit, name)}"
        if act == "set_variable":
            changes = {part: given[part] for part in ("type", "about") if part in given}
            variables.change(unit, name, changes | {part: given.get(part) == "on" for part in ("required", "keep")})
        elif act == "new_part":
            operations.add_part(unit, key, given.get("kind", ""), given.get("name", ""), given.get("path", ""))
        elif act == "set_table":
            operations.save_table(unit, key, given.get("table", ""), given.get("rows", ""))
        elif act == "new_table":
            operations.add_table(unit, key, given.get("table", ""), given.get("rows", ""))
        elif act in ("rename_table", "rename_steps"):
            operations.rename_kept(unit, key, _KEPT[act], given.get("table", ""), given.get("name", ""))
        elif act in ("copy_table", "copy_steps"):
            operations.copy_kept(unit, key, _KEPT[act], given.get("table", ""))
        elif act == "drop_table":
            operations.delete_table(unit, key, given.get("table", ""))
        elif act == "drop_steps":
            operations.delete_kept_steps(unit, key, given.get("table", ""))
        elif act == "undo":
            operations.undo(unit, key)
        else:
            operations.edit(unit, key, field_id, act, given)
    return field_id


def _take_sure(key: str, listed: Mapping[str, bool]) -> None:
    """Takes every suggestion that is sure, lists first so that their items' parts follow; of those that were listed the
    ones that are ticked.
    """
    if listed and not any(listed.values()):
        raise Invalid([Problem("", "Nothing is ticked.", "Tick the suggestions to accept.")])
    taken = 0
    for _ in range(2):
        rows = [row for row in _page(key, "")["mapping"].sure if listed.get(row.field_id, True)]
        chosen = [(row.field_id, json.dumps(row.suggestion.recipe.model_dump())) for row in rows]
        with work() as unit:
            operations.take(unit, key, chosen, taken)
        taken += len(chosen)


def _used(field_id: str) -> list[usage.Use]:
    """Where a variable, or a part of the order, is used."""
    kind, _, name = field_id.partition(".")
    if kind not in ("recipes", "reading"):
        return []
    return usage.of_name(name if kind == "recipes" else f"order.{name}", among(session(), live()))


# ---- the draft ----------------------------------------------------------------------------------------------------


@pages.post("/<key>/read/publish")
def publish(key: str) -> Any:
    """Makes the draft live; where that unmaps what is used, or checks fail, it is asked about first."""
    back = url_for(".read", key=key)
    around = {
        "what": f"{source_of(key)[0].name}: mapping",
        "to": url_for(".publish", key=key),
        "back": back,
        "carried": {"edits": request.form.get("edits", "")},
    }
    try:
        with work() as unit:
            number = operations.publish(unit, key, edits_seen(), request.form.get("override") == "yes")
    except ChecksFailed as error:
        return render_template("checks/failed.html", outcomes=error.outcomes, **around), 409
    except (operations.InUse, operations.InDoubt) as error:
        doubt = isinstance(error, operations.InDoubt)
        return render_template("sources/in_use.html", problems=error.problems, doubt=doubt, **around), 409
    except Invalid as error:
        if error.is_conflict:
            flash("The mapping was changed while you looked at it. This is the current version.", "bad")
        else:
            flash(f"Not published: {error.problems[0].what} {error.problems[0].hint}".strip(), "bad")
        return redirect(back)
    flash(f"Revision {number} of the mapping is live: the next delivery is read this way.", "good")
    return redirect(back)


@pages.post("/<key>/read/discard")
def discard(key: str) -> Any:
    with work() as unit:
        operations.discard(unit, key)
    flash("The draft is discarded; you see what is live.", "good")
    return redirect(url_for(".read", key=key))


@pages.post("/<key>/read/restore")
def restore(key: str) -> Any:
    """Makes what was mapped in an older revision the draft."""
    number = whole(request.form.get("revision", "")) or 0
    with work() as unit:
        operations.restore(unit, key, number)
    flash(f"Revision {number} is the draft now. What is live stays as it is until you publish.", "good")
    return redirect(url_for(".read", key=key))


@pages.get("/<key>/read/effect")
def effect(key: str) -> Any:
    """What the draft does to what comes of events that have come in, by the routes that are live."""
    source, _ = source_of(key)
    chosen = request.args.get("span", "100")
    chosen = chosen if chosen in SPANS else "100"
    return render_template("sources/effect.html", source=source, spans=SPAN_LABELS, chosen=chosen)


@pages.get("/<key>/read/effect/run")
def run_effect(key: str) -> Any:
    """The comparison as it goes, a line of JSON for each step, and in the end the page's part as HTML."""
    as_live, _ = source_of(key)
    span = SPANS.get(request.args.get("span", ""), SPANS["100"])
    row = found(specs.by_key(session(), SourceRow, store_id(), key), "source")
    was = live()
    now = with_source(was, operations.drafted(as_live, row))
    active = [one.route for one in was.setup.routes if not one.route.handler]
    routes = [route for route in active if key in route.sources]
    called, moment = names(), g.now

    def lines() -> Iterator[str]:
        tally = EffectTally()
        seen: Counter[str] = Counter()
        with services().database.reading() as reading:  # the request's own is closed by the time that this is read
            for number, route in enumerate(routes):
                alone = {route.key: route.model_copy(update={"sources": [key]})}
                both = (rehearse(reading.connection(), setup, alone, span, moment) for setup in (was, now))
                for (done, of, before), (_, _, after) in zip(*both, strict=True):
                    for old, new in zip(before, after, strict=True):
                        seen[old.event_id] += 1
                        tally.take_changes(
                            old, compare_decisions(old.decisions[route.key], new.decisions[route.key]), route.name
                        )
                    yield json.dumps({"done": number * of + done, "of": len(routes) * of}) + "\n"
        tally.events = len(seen)
        page = render_template(tally.template, tally=tally, others=0, names=called, **tally.around())
        yield json.dumps({"html": page}, ensure_ascii=False) + "\n"

    return Response(stream_with_context(lines()), mimetype="application/x-ndjson", headers={"X-Accel-Buffering": "no"})


# ---- besides ------------------------------------------------------------------------------------------------------


@pages.post("/<key>/split")
def split_orders(key: str) -> Any:
    """Has each order of a delivery's list read by itself."""
    source, _ = source_of(key)
    at = request.form.get("at", "")
    try:
        with work() as unit:
            unit.specs.save(read_spec(Source, source.model_dump(mode="json") | {"orders_at": at}))
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
    else:
        flash(f"Each order at {at} is an event of its own from now on.", "good")
    return redirect(url_for(".read", key=key))


@pages.get("/<key>/compare")
def compare_samples(key: str) -> Any:
    """What one sample has, lacks, or says otherwise than another."""
    source, source_id = source_of(key)
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
