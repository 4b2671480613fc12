"""Customer pages: notice and footer by language, sign-up pages, and how each page looks with a real order."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import segno
from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, url_for
from markupsafe import Markup

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.planning.subjects import asking
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import PageTexts, SignUp
from angelon.db.log import questions
from angelon.db.setup import changes
from angelon.engine.feedback.preferences import Reader
from angelon.engine.operations import store as operations
from angelon.web.conflicts import edits_seen
from angelon.web.customers import follow, frame, preferences, sign_up, why
from angelon.web.customers import questions as question_pages
from angelon.web.customers.follow_words import follow_words
from angelon.web.customers.words import sign_up_words
from angelon.web.forms import with_text
from angelon.web.services import live, public_address, session, store, store_id, work, work_or_back

pages = Blueprint("customer_pages", __name__, url_prefix="/customer-pages", template_folder="templates")

KIND = "customer pages"
"""What they are called among the changes."""
TEXTS = ("notice", "footer", "follow_title", "follow_none", "follow_quiet")
OF_SIGN_UP = ("title", "about", "words", "thanks")


@pages.get("")
def index() -> Any:
    return _index(live().setup.store.pages.current)


def _index(shown: PageTexts, problems: list[Problem] | None = None) -> str:
    shop, locale = live().setup.store, _locale()
    asked = [message for message in asking(live().setup) if _newest(message.key) is not None]
    previews = [(f"question-{one.key}", one.name) for one in asked]
    previews += [("follow", "Parcels"), ("preferences", "Preferences"), ("why", "Why you got this")]
    previews += [(f"sign-up-{one.key}", f"Sign-up: {one.key}") for one in shown.sign_ups]
    chosen = request.values.get("page", "")
    return render_template(
        "customer_pages/index.html",
        shown=shown,
        problems=problems or [],
        locale=locale,
        languages=_languages(),
        edits=request.form.get("edits", store().edits),
        previews=previews,
        chosen=chosen if chosen in dict(previews) else previews[0][0],
        drafted=shop.pages.draft is not None,
        revisions=_revisions(),
        sign_ups=[_with_address(one) for one in shown.sign_ups],
        channels={key: CHANNEL_LABELS[key] for key in ("email", "sms", "chat")},
        messages=sorted(live().setup.messages.values(), key=lambda one: one.name.casefold()),
        said=sign_up_words(locale),
        asks_for=sorted(shop.consent),
        following=follow_words(locale),
        where=f"{public_address()}/where/{shop.key}",
        carriers=[one for one in shop.carriers if one.on],
    )


def _revisions() -> list[Any]:
    """What was published so far, newest first."""
    rows = changes.listed(session(), store_id(), KIND, limit=60)
    before = [(row.before or {}).get("pages", {}) for row in rows]
    after = [(row.after or {}).get("pages", {}) for row in rows]
    told = zip(rows, before, after, strict=True)
    return [row for row, was, now in told if _published(was) != _published(now)][:8]


def _published(spec: dict[str, Any]) -> dict[str, Any]:
    return {name: part for name, part in spec.items() if name != "draft"}


def _with_address(page: SignUp) -> dict[str, Any]:
    """A sign-up page with its address, a button for the shop's own pages, and a picture to scan."""
    address = f"{public_address()}/s/{live().setup.store.key}/{page.key}"
    drawn = segno.make(address, error="m").svg_inline(scale=3, border=2, dark="#111", light="#fff", omitsize=True)
    button = f'<a href="{address}?order=ORDER-NUMBER">{sign_up_words(_locale()).title}</a>'
    channel = sign_up_words(_locale()).channels[page.channel]
    code = Markup(drawn)  # noqa: S704 - made by the library from an address of ours
    return {"page": page, "address": address, "button": button.format(channel=channel), "code": code}


@pages.post("")
def save() -> Any:
    """Keeps what was typed as a draft, or makes it live: every page opened from now on has it then."""
    publish = request.form.get("act") == "publish"
    try:
        typed = _typed()
        with work() as unit:
            was = _published(operations.current(unit).pages.model_dump(mode="json"))
            made = typed if publish else was | {"draft": typed}
            operations.change(unit, {"pages": made}, edits_seen(), KIND)
    except Invalid as error:
        if error.is_conflict:
            raise
        return _index(PageTexts.model_construct(**_form()), error.problems), 422
    flash("Published. Every page that is opened from now on has it." if publish else "The draft is saved.", "good")
    return redirect(url_for(".index", locale=_locale(), page=request.form.get("page") or None))


@pages.post("/discard")
def discard() -> Any:
    """Goes back to what is live."""
    _change(lambda spec: spec.update(draft=None))
    return redirect(url_for(".index"))


@pages.post("/revisions/<int:change_id>")
def restore(change_id: int) -> Any:
    """Makes what was published once the draft; what is live stays until that is published."""
    row = next((one for one in _revisions() if one.id == change_id), None)
    if row is None:
        abort(404, "There is no such revision.")
    _change(lambda spec: spec.update(draft=_published((row.after or {}).get("pages", {}))))
    flash("That revision is the draft now. What is live stays until you publish.", "good")
    return redirect(url_for(".index"))


def _change(how: Callable[[dict[str, Any]], None]) -> None:
    with work_or_back(url_for(".index")) as unit:
        spec = operations.current(unit).pages.model_dump(mode="json")
        how(spec)
        operations.change(unit, {"pages": spec}, None, KIND)


@pages.post("/sign-ups")
def add_sign_up() -> Any:
    """A new sign-up page, live at once."""
    key = key_of(request.form.get("name", ""))
    made = {"key": key, "channel": request.form.get("channel", "sms")}

    def add(spec: dict[str, Any]) -> None:
        if not key:
            raise Invalid([Problem("name", "Give the page a name with at least one letter.", "Such as By SMS.")])
        if any(one["key"] == key for one in spec["sign_ups"]):
            raise Invalid([Problem("name", f"There is a sign-up page “{key}” already.", "Choose another name.")])
        for part in (spec, spec["draft"] or {}):
            part.setdefault("sign_ups", []).append(made)

    _change(add)
    flash("The sign-up page is there. Link to it from the shop’s own pages.", "good")
    return redirect(url_for(".index", page=f"sign-up-{key}"))


@pages.post("/sign-ups/<key>/remove")
def remove_sign_up(key: str) -> Any:
    """Takes a sign-up page away; what was agreed to on it stays."""

    def remove(spec: dict[str, Any]) -> None:
        for part in (spec, spec["draft"] or {}):
            part["sign_ups"] = [one for one in part.get("sign_ups", []) if one["key"] != key]

    _change(remove)
    flash("The sign-up page is gone. What customers agreed to on it stays.", "good")
    return redirect(url_for(".index"))


@pages.get("/preview/<which>")
def preview(which: str) -> Any:
    """A customer page as it is drafted, with the newest real order, for the frame on this page."""
    g.pages = live().setup.store.pages.current
    kind, _, key = which.partition("-")
    made = _PREVIEWS[kind](key) if kind in _PREVIEWS else None
    if kind == "sign":
        made = _sign_up(key.removeprefix("up-"))
    if made is None:
        abort(404, "There is nothing to show yet.")
    page = made[0].replace(f'href="{request.path}/colours.css"', f'href="{_colours()}"')
    page = page.replace(f'src="{request.path}/logo"', f'src="{url_for(".logo")}"')
    answer = Response(page.replace("<form", "<form inert"), mimetype="text/html")
    answer.headers["Content-Security-Policy"] = frame.PREVIEW_POLICY
    return answer


def _colours() -> str:
    return url_for(".colours", theme=request.args.get("theme", ""))


@pages.get("/colours.css")
def colours() -> Any:
    return frame.colours_of(request.args.get("theme", ""))


@pages.get("/logo")
def logo() -> Any:
    return frame.logo_of()


def _newest(key: str) -> Any | None:
    rows = questions.listed(session(), store_id(), live().message_ids[key], limit=1)
    return rows[0] if rows else None


def _question(key: str) -> Any:
    row = _newest(key) if key in live().message_ids else None
    return question_pages.page_of(questions.by_id(session().connection(), row.id)) if row is not None else None


def _preferences(_: str) -> Any:
    return preferences.page_of(Reader(store_id(), "email:somebody@example.com", "", _locale()))


def _why(_: str) -> Any:
    found = why.newest()
    return why.page_of(found) if found is not None else None


def _sign_up(key: str) -> Any:
    page = next((one for one in live().setup.store.pages.current.sign_ups if one.key == key), None)
    return sign_up.page_of(live().setup.store.key, page) if page is not None else None


def _follow(_: str) -> Any:
    order = follow.newest()
    return follow.page_of(order) if order is not None else None


_PREVIEWS = {"follow": _follow, "question": _question, "preferences": _preferences, "why": _why}


def _languages() -> list[str]:
    shop = live().setup.store
    return list(dict.fromkeys([shop.locale, *shop.locales, *shop.pages.notice, *shop.pages.footer]))


def _locale() -> str:
    wanted = request.values.get("locale") or request.args.get("lang", "")
    return wanted if wanted in _languages() else live().setup.store.locale


def _typed() -> dict[str, Any]:
    """The texts with what was typed in one language. Raises Invalid."""
    return read_spec(PageTexts, _form()).model_dump(mode="json")


def _form() -> dict[str, Any]:
    spec, locale = live().setup.store.pages.current.model_dump(mode="json"), _locale()
    for part in TEXTS:
        spec[part] = with_text(spec[part], locale, request.form.get(part, ""))
    spec["why"] = bool(request.form.get("why"))
    spec["follow"] = bool(request.form.get("follow"))
    spec["follow_sign_up"] = request.form.get("follow_sign_up", "")
    notices = spec["follow_notices"] + [{"carriers": [], "countries": [], "text": {}}]
    for number, one in enumerate(notices):
        one["text"] = with_text(one["text"], locale, request.form.get(f"notice.{number}.text", ""))
        one["carriers"] = [key for key in request.form.getlist(f"notice.{number}.carriers") if key]
        one["countries"] = request.form.get(f"notice.{number}.countries", "").upper().replace(",", " ").split()
    new = notices.pop()
    spec["follow_notices"] = [one for one in notices if one["text"]]  # emptied is taken away
    spec["follow_notices"] += [new] if new["text"] or new["countries"] or new["carriers"] else []
    for one in spec["sign_ups"]:
        if f"{one['key']}.there" not in request.form:
            continue
        for part in OF_SIGN_UP:
            one[part] = with_text(one[part], locale, request.form.get(f"{one['key']}.{part}", ""))
        one["message"] = request.form.get(f"{one['key']}.message", "")
    return spec
