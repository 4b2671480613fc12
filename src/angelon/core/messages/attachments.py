"""What goes with an email: which files are wanted, what they really are, whether they may go, and calendar entries."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import io
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

import filetype
from pydantic import TypeAdapter

from angelon.core.problems import Invalid, Problem
from angelon.core.specs.gateway import Limits
from angelon.core.specs.message import Attachment
from angelon.core.templates import BadTemplate, Compiled, compile_template
from angelon.core.values import Day, Value, show

MOST_PIXELS = 50_000_000
"""Of a picture that is kept or shown."""
SHORTEST = 60
"""Characters that a document in base64 has at the least."""
_SPECS: TypeAdapter[list[Attachment]] = TypeAdapter(list[Attachment])


@dataclass(frozen=True, slots=True)
class File:
    """A file as it goes with a mail. `content_id` is set for a picture that the page itself shows."""

    name: str
    type: str
    data: bytes
    content_id: str = ""


@dataclass(frozen=True, slots=True)
class AttachmentRequest:
    """An attachment of one send, before its bytes are there."""

    kind: Literal["library", "url", "calendar", "document"]
    number: int
    required: bool = False
    shelf: str = ""
    url: str = ""
    name: str = ""
    title: str = ""
    place: str = ""
    day: str = ""
    through: str = ""
    of: str = ""
    on: dt.date | None = None

    @property
    def names(self) -> frozenset[str]:
        return frozenset({self.day}) if self.day else frozenset()

    def filled(self, texts: Mapping[str, str], values: Mapping[str, Value]) -> AttachmentRequest | None:
        """With its texts and day; None for a calendar entry whose variable has no day."""
        made = replace(
            self,
            url=texts.get("url", ""),
            name=texts.get("name", ""),
            title=texts.get("title", ""),
            place=texts.get("place", ""),
        )
        if self.kind != "calendar":
            return made
        value = values.get(self.day)
        if not isinstance(value, Day):
            return None
        return replace(made, on=value.value.date() if isinstance(value.value, dt.datetime) else value.value)


def compile_attachment(
    specs: list[Any], problems: list[Problem]
) -> tuple[Mapping[str, Compiled | AttachmentRequest], ...]:
    """A message's attachments with their templates compiled; what is wrong is added to `problems`."""
    made: list[Mapping[str, Compiled | AttachmentRequest]] = []
    for number, spec in enumerate(_SPECS.validate_python(specs)):
        parts: dict[str, Compiled | AttachmentRequest] = {
            "wanted": AttachmentRequest(
                spec.kind,
                number,
                getattr(spec, "required", False),
                getattr(spec, "shelf", ""),
                day=getattr(spec, "day", ""),
                through=getattr(spec, "through", ""),
                of=getattr(spec, "of", ""),
            )
        }
        for part in ("url", "name", "title", "place"):
            source = getattr(spec, part, "")
            if not source:
                continue
            try:
                parts[part] = compile_template(source)
            except BadTemplate as error:
                problems.append(error.problem.at(f"attachments.{number}.{part}"))
        if spec.kind == "url" and not spec.url.strip():
            problems.append(
                Problem(
                    f"attachments.{number}.url",
                    "The attachment has no address.",
                    "Write one, choose a variable that holds one, or take the attachment out.",
                )
            )
        made.append(parts)
    return tuple(made)


@dataclass(frozen=True, slots=True)
class LibraryFile:
    """A file of the library, without its bytes: on which shelf, and for which orders (`by` is empty for all)."""

    id: int
    shelf: str
    name: str
    type: str
    size: int
    by: Literal["", "sku", "reference", "locale"] = ""
    match: str = ""


def files_for_order(
    files: Sequence[LibraryFile], shelf: str, skus: Collection[str], references: Collection[str], locale: str
) -> list[LibraryFile]:
    """The files of a shelf that go with one order: those for all, and those kept for its skus, its reference, its
    language.
    """
    language = locale.partition("-")[0].lower()
    found = []
    for file in files:
        fits = (
            file.by == ""
            or (file.by == "sku" and file.match in skus)
            or (file.by == "reference" and file.match in references)
            or (file.by == "locale" and file.match.lower() in (locale.lower(), language))
        )
        if file.shelf == shelf and fits:
            found.append(file)
    return found


def detect_media_type(data: bytes) -> str:
    """The media type that a file's content shows, whatever its name: `application/octet-stream` where it shows none."""
    if data.lstrip()[:15].upper().startswith(b"BEGIN:VCALENDAR"):
        return "text/calendar"
    found = filetype.guess_mime(data[:8192])
    if found:
        return str(found)
    start = data[:4096].lstrip().lower()
    if start.startswith((b"<!doctype html", b"<html", b"<script", b"<svg", b"<?xml")):
        return "image/svg+xml" if b"<svg" in start else "text/html"
    try:
        data.decode()
    except UnicodeDecodeError:
        return "application/octet-stream"
    return "application/octet-stream" if b"\x00" in data else "text/plain"


def check_picture(data: bytes) -> None:
    """Raises Invalid for a picture that fills a gigabyte once it is unpacked, as its own head says."""
    if not detect_media_type(data).startswith("image/"):
        return
    from PIL import Image  # takes a while to import

    try:
        with Image.open(io.BytesIO(data)) as picture:
            width, height = picture.size
    except Image.DecompressionBombError:
        width = height = 0
        large = True
    except Exception:  # one that can't be read fills nothing
        return
    else:
        large = width * height > MOST_PIXELS
    if large:
        size = f"{width:,} × {height:,} pixels" if width else "far too many pixels"
        what = f"The picture has {size}; it may have {MOST_PIXELS // 10**6} million in all."
        raise Invalid([Problem("file", what, "Make it smaller: a mail shows 1,200 across at most.")])


def limit_violation(files: Sequence[File], limits: Limits) -> str:
    """Why these attachments may not go through a gateway, as a sentence; empty where they may."""
    if len(files) > limits.attachments:
        return f"It would have {len(files)} attachments, and the gateway takes {limits.attachments}."
    total = sum(len(file.data) for file in files)
    if total > limits.total_bytes:
        return f"Its attachments come to {total / 1e6:.1f} MB, and the gateway takes {limits.total_bytes / 1e6:.1f} MB."
    for file in files:
        if file.type not in limits.types:
            return (
                f"“{file.name}” is {file.type} by its content, and the gateway takes "
                f"{', '.join(limits.types) or 'no files'}."
            )
    return ""


@lru_cache(maxsize=256)
def calendar_entry(uid: str, on: dt.date, title: str, place: str, stamp: dt.datetime) -> bytes:
    """A whole day as iCalendar (RFC 5545, section 3.6.1). `stamp` is when it was made (aware)."""
    from icalendar import Calendar, Event  # read where a mail has an entry only

    calendar = Calendar()
    calendar.add("prodid", "-//Angelon//Orders//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    event = Event()
    event.add("uid", uid)
    event.add("dtstamp", stamp.astimezone(dt.UTC).replace(microsecond=0))
    event.add("dtstart", on)
    event.add("dtend", on + dt.timedelta(days=1))
    event.add("summary", title or "Delivery")
    event.add("transp", "TRANSPARENT")
    if place:
        event.add("location", place)
    calendar.add_component(event)
    return bytes(calendar.to_ical())


def file_name(wanted: str, otherwise: str) -> str:
    """A name for a file that no system trips over: no path, no control characters, at most 100 characters."""
    name = "".join(c for c in show(wanted) if c.isprintable() and c not in '/\\:*?"<>|').strip(" .")[-100:]
    return name or otherwise


def mark_of(data: bytes) -> str:
    """A short fingerprint of a file's content."""
    return hashlib.sha256(data).hexdigest()[:16]


def written_out(text: str) -> bytes | None:
    """A document that is written in a text itself: base64 (RFC 4648), with `data:` (RFC 2397) or without, of a type
    that its content shows; None where the text is none.
    """
    head, comma, rest = text.partition(",")
    if head[:5].lower() == "data:":
        text = rest if comma and head.lower().endswith(";base64") else ""
    elif len(text) < SHORTEST or "://" in text[:20]:
        return None
    try:
        data = base64.b64decode("".join(text.split()).encode("ascii"), validate=True)
    except ValueError:
        return None
    return data if data and detect_media_type(data) not in ("application/octet-stream", "text/plain") else None
