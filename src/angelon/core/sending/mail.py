"""A prepared email with the bytes of its files, as SMTP takes it; and what is kept of it. Pure."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from angelon.core.messages.attachments import File, limit_violation
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.sending.due import DueSend
from angelon.core.sending.outgoing import Mail
from angelon.core.sending.prepare import Held, Ready
from angelon.core.specs.store import Store


@dataclass(frozen=True, slots=True)
class BuiltMail:
    """A mail, what is kept of it besides its text, and its files by their content's digest (SHA-256, hexadecimal)."""

    mail: Mail
    about: dict[str, Any]
    files: dict[str, bytes]


def build_mail(
    ready: Ready,
    send: DueSend,
    store: Store,
    files: Sequence[File],
    left_out: Sequence[str],
    now: dt.datetime,
    back_to: str = "",
) -> BuiltMail | Held:
    """The mail of a ready send. `left_out` are attachments that could not be had and need not be; `back_to` is where
    the mail goes that can't be delivered.
    """
    assert isinstance(ready.rendered, RenderedEmail)
    sender = ready.sender
    assert sender is not None
    refused = limit_violation([file for file in files if not file.content_id], ready.gateway.limits)
    if refused:
        return Held(refused)
    envelope = Envelope(
        sender.address,
        sender.name or store.name,
        ready.recipient,
        ready.recipient_name,
        f"{send.id}@{sender.address.rpartition('@')[2]}",
        now,
        ", ".join(ready.reply_to) or sender.reply_to or store.support_email,
        ready.cc,
        send.test,
    )
    try:
        data = build(ready.rendered, envelope, files)
    except ValueError as error:
        return Held(str(error))
    kept = {hashlib.sha256(file.data).hexdigest(): file.data for file in files}
    about = _about(envelope, ready, files, left_out)
    return BuiltMail(Mail(back_to or sender.address, ready.recipient, data, (*ready.cc, *ready.bcc)), about, kept)


def _about(envelope: Envelope, ready: Ready, files: Sequence[File], left_out: Sequence[str]) -> dict[str, Any]:
    about: dict[str, Any] = {
        "from": [envelope.from_address, envelope.from_name],
        "to": [envelope.to_address, envelope.to_name],
        "reply_to": envelope.reply_to,
        "cc": list(ready.cc),
        "bcc": list(ready.bcc),
        "message_id": envelope.message_id,
        "date": envelope.date.isoformat(),
        "files": [_file(file) for file in files if not file.content_id],
        "pictures": [_file(file) | {"content_id": file.content_id} for file in files if file.content_id],
        "left_out": list(left_out),
        "leave": ready.rendered.leave if isinstance(ready.rendered, RenderedEmail) else "",
    }
    return {name: value for name, value in about.items() if value}


def _file(file: File) -> dict[str, Any]:
    return {
        "name": file.name,
        "type": file.type,
        "bytes": len(file.data),
        "digest": hashlib.sha256(file.data).hexdigest(),
    }


def rebuild(mail: RenderedEmail, about: Mapping[str, Any], test: bool, data: Mapping[str, bytes]) -> bytes:
    """A mail as it went out, from what was kept of it; `data` are its files by digest. A file that is no longer kept is
    left out.
    """
    to_address, to_name = about["to"]
    envelope = Envelope(
        about["from"][0],
        about["from"][1],
        to_address,
        to_name,
        about["message_id"],
        dt.datetime.fromisoformat(about["date"]),
        about.get("reply_to", ""),
        tuple(about.get("cc", ())),
        test,
    )
    kept = [*about.get("pictures", ()), *about.get("files", ())]
    files = [
        File(one["name"], one["type"], data[one["digest"]], one.get("content_id", ""))
        for one in kept
        if one["digest"] in data
    ]
    return build(mail, envelope, files)
