"""How pages show moments, spans and counts: as people say them, in the store's time zone."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any
from urllib.parse import quote, urlsplit
from zoneinfo import ZoneInfo

from flask import g
from markupsafe import Markup, escape

from angelon.core import event_types
from angelon.core.messages.blocks import with_pictures_at
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.values import show, unpack


def _zone() -> ZoneInfo:
    return g.get("zone") or ZoneInfo("UTC")


def moment(at: dt.datetime | None, now: dt.datetime | None = None) -> str:
    """`12:40` today, `Tue 14:10` within a week, else `3 Nov 09:41`; the year where it is another."""
    if at is None:
        return "never"
    here = at.astimezone(_zone())
    today = (now or dt.datetime.now(dt.UTC)).astimezone(_zone())
    days = (today.date() - here.date()).days
    if days == 0:
        return f"{here:%H:%M}"
    if days == 1:
        return f"yesterday {here:%H:%M}"
    if days == -1:
        return f"tomorrow {here:%H:%M}"
    if 1 < days < 7 or -7 < days < -1:
        return f"{here:%a %H:%M}"
    year = f" {here:%Y}" if here.year != today.year else ""
    return f"{here.day} {here:%b}{year} {here:%H:%M}"


def exact(at: dt.datetime | None) -> str:
    """A moment to the second, with its zone: for titles and logs."""
    if at is None:
        return ""
    here = at.astimezone(_zone())
    return f"{here:%A} {here.day} {here:%B %Y, %H:%M:%S} {here.tzname()}"


def span(delta: dt.timedelta | None) -> str:
    """A span in its two largest units."""
    if delta is None:
        return ""
    seconds = abs(delta.total_seconds())
    if seconds < 1:
        return f"{seconds * 1000:.0f}\u00a0ms"
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = int(seconds)
    units = ((86400, "d"), (3600, "h"), (60, "min"), (1, "s"))
    parts = []
    for size, name in units:
        if whole >= size:
            parts.append(f"{whole // size} {name}")
            whole %= size
        elif parts:
            break
        if len(parts) == 2:
            break
    return " ".join(parts)


def ago(at: dt.datetime | None) -> str:
    if at is None:
        return "never"
    delta = dt.datetime.now(dt.UTC) - at
    if delta.total_seconds() < 2:
        return "just now"
    return f"{span(delta).split(' ')[0]} {span(delta).split(' ')[1]} ago"


def time_tag(at: dt.datetime | None, how: str = "moment") -> Markup:
    if at is None:
        return Markup("never")
    said = ago(at) if how == "ago" else moment(at)
    return Markup('<time datetime="{}" title="{}">{}</time>').format(at.isoformat(), exact(at), said)


def count(number: int | None) -> str:
    return f"{number or 0:,}"


def size(number: int) -> str:
    return (
        f"{number} bytes"
        if number < 1000
        else f"{number / 1024:.0f} KB"
        if number < 1_000_000
        else f"{number / 1_048_576:.1f} MB"
    )


def plural(number: int, one: str, many: str | None = None) -> str:
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def shown(value: Any, locale: str = "en") -> str:
    return show(value, locale)


def stored(value: Any, locale: str = "en") -> str:
    """A value as it was packed with a send."""
    return show(unpack(value), locale)


def pretty(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, indent=2, default=str)


def as_json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, default=str)


def marked(text: str) -> Markup:
    """Text with `code` marks shown as code."""
    parts = str(escape(text)).split("`")
    return Markup("".join(f"<code>{p}</code>" if n % 2 else p for n, p in enumerate(parts)))  # noqa: S704 - escaped above


def pictured(page: str) -> str:
    """A made mail with the library's pictures at addresses that a page of ours can show."""
    return with_pictures_at(page, lambda mark: f"/files/shown/{quote(mark)}")


def capital(text: str) -> str:
    """A label as a heading: its first letter large."""
    return text[:1].upper() + text[1:]


def weekday(day: dt.date | None) -> str:
    """`today`, `tomorrow`, `Wed 2 December`; the year where it is another."""
    if day is None:
        return ""
    today = dt.datetime.now(dt.UTC).astimezone(_zone()).date()
    near = {0: "today", 1: "tomorrow", -1: "yesterday"}.get((day - today).days)
    return near or f"{day:%a} {day.day} {day:%B}{f' {day.year}' if day.year != today.year else ''}"


def day(at: dt.date | None) -> str:
    """`29 November 2026`."""
    return f"{at.day} {at:%B %Y}" if at is not None else ""


def bare(value: Any) -> Any:
    """A number as one would write it into a field: 10 for 10.0. What is no number stays."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


def install(app: Any) -> None:
    app.jinja_env.filters.update(
        after=lambda seconds: span(dt.timedelta(seconds=seconds)),
        moment=moment,
        exact=exact,
        span=span,
        ago=ago,
        time=time_tag,
        count=count,
        size=size,
        shown=shown,
        pretty=pretty,
        marked=marked,
        as_json=as_json,
        bare=bare,
        weekday=weekday,
        day=day,
        event_label=event_types.label,
        channel=lambda name: CHANNEL_LABELS.get(name, name),
        channel_title=lambda name: capital(str(CHANNEL_LABELS.get(name, name))),
        host=lambda url: urlsplit(url).netloc,
        pictured=pictured,
    )
    app.jinja_env.globals.update(plural=plural)
