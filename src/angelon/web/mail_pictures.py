"""Pictures of mails that stand at an address elsewhere, for previews: fetched by the server through the guard, so that
a page asks nobody but Angelon, and kept for a while.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from html import escape
from textwrap import wrap

from flask import Blueprint, Response, abort, request

from angelon.core.messages.attachments import check_picture, detect_media_type
from angelon.core.problems import Invalid
from angelon.gateways.fetching import CantFetch, fetch
from angelon.web.services import live

pages = Blueprint("mail_pictures", __name__)

LARGEST = 3_000_000
"""Bytes of one picture."""
LONGEST = 5.0
"""Seconds that one may take."""
KEPT_SECONDS = 600
KEPT = 40
AT_ONCE = 3
"""Pictures that are fetched at the same time: a slow host keeps no more threads than these."""
SHOWN = ("image/png", "image/jpeg", "image/gif", "image/webp")


class Pictures:
    """Pictures by address, the newest of them kept. For use by several threads."""

    def __init__(self) -> None:
        self._kept: OrderedDict[str, tuple[float, bytes, str]] = OrderedDict()
        self._lock = threading.Lock()
        self._turns = threading.BoundedSemaphore(AT_ONCE)

    def get(self, url: str, allowed: list[str]) -> tuple[bytes, str]:
        """The picture and its media type. Raises CantFetch."""
        with self._lock:
            at, data, kind = self._kept.get(url, (0.0, b"", ""))
        if data and time.monotonic() - at < KEPT_SECONDS:
            return data, kind
        if not self._turns.acquire(timeout=LONGEST):
            raise CantFetch("Other pictures are being fetched. Open the preview again.")
        try:
            data = fetch(url, allowed, LARGEST, LONGEST)
        finally:
            self._turns.release()
        kind = detect_media_type(data)
        if kind not in SHOWN:
            raise CantFetch(f"The content of {url[:80]} is no PNG, JPEG, GIF or WebP.", True)
        try:
            check_picture(data)
        except Invalid as error:
            raise CantFetch(error.problems[0].what, True) from None
        with self._lock:
            self._kept[url] = (time.monotonic(), data, kind)
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        return data, kind


_pictures = Pictures()


@pages.get("/mail-picture")
def picture() -> Response:
    """A picture of a mail that is looked at; where it can't be had, a drawing that says why."""
    if request.headers.get("Sec-Fetch-Site", "same-origin") != "same-origin":
        abort(403, "Pictures are fetched for Angelon’s own pages only.")
    url = request.args.get("src", "")[:2000]
    try:
        data, kind = _pictures.get(url, live().setup.store.private_hosts)
    except CantFetch as error:
        data, kind = _drawn(str(error)).encode(), "image/svg+xml"
    answer = Response(data, mimetype=kind)
    answer.headers["Cache-Control"] = "private, max-age=300" if kind in SHOWN else "no-store"
    answer.headers["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'; sandbox"
    return answer


def _drawn(why: str) -> str:
    lines = wrap(f"This picture can’t be shown. {why}", 58)[:6]
    rows = "".join(f'<tspan x="16" dy="1.5em">{escape(line)}</tspan>' for line in lines)
    height = 30 + 21 * len(lines)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="480" height="{height}" viewBox="0 0 480 {height}">'
        '<rect x=".5" y=".5" width="99.8%" height="98%" fill="#fdf6e9" stroke="#c9a25c" stroke-dasharray="5 4"/>'
        f'<text font-family="sans-serif" font-size="14" fill="#6d4a08" y="4">{rows}</text></svg>'
    )
