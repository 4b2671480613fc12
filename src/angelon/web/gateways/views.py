"""The pages of gateways: a mail server, an SMS provider, a chat provider, another system that is called."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for
from pydantic import ValidationError

from angelon.core import calls, curl_commands, openapi_operations
from angelon.core.payload.tree import fields as payload_fields
from angelon.core.problems import Invalid, Problem
from angelon.core.retries import RetryPolicy
from angelon.core.sending import codes
from angelon.core.specs import Gateway
from angelon.core.specs.base import problems_of, read_spec
from angelon.core.specs.gateway import ApprovedTexts, Auth, HttpCall, Quota, Receipts, Review
from angelon.db.derived import counts
from angelon.db.setup import specs
from angelon.db.setup.specs import StoredMessage
from angelon.db.tables import GatewayRow
from angelon.db.upkeep import gateway_health, gateway_use, test_answers
from angelon.engine.operations import gateways as operations
from angelon.engine.unit import found
from angelon.gateways.probing import Stage
from angelon.gateways.probing import probe as probe_gateway
from angelon.web.conflicts import edits_seen
from angelon.web.forms import COMMAS, HEADERS, MEGABYTES, OR_ZERO, RAW, TEXT, Spelling, filled
from angelon.web.gateways import retry_picture
from angelon.web.gateways.states import gateway_states
from angelon.web.receipts.views import address_of
from angelon.web.services import actor, close_session, live, messages, services, session, store_id, work, work_or_back

pages = Blueprint("gateways", __name__, url_prefix="/gateways", template_folder="templates")

_BLANK_REVIEW = Review(submit=HttpCall(), look=HttpCall(), texts=ApprovedTexts(call=HttpCall(method="GET"))).model_dump(
    mode="json"
)
_TEMPLATES = {"smtp": "gateways/edit.html", "call": "gateways/system.html"}
_TEXT_PLACES = tuple(name for name in ApprovedTexts.model_fields if name.endswith("_at"))
EXAMPLES: dict[str, dict[str, Any]] = {
    "call": {
        "to": "+353209150001",
        "sender": "Shop",
        "text": "Hello “you”",
        "key": "sd-1",
        "locale": "en",
        "encoding": "GSM-7",
        "segments": 1,
        "template": "t-1",
        "values": ["a"],
        "header": {"kind": "none"},
        "footer": "",
        "buttons": [],
    },
    "submit": {
        "text_key": "received",
        "locale": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "Hello {1}!",
        "footer": "",
        "buttons": [],
        "samples": ["Jo"],
        "placeholders": 1,
    },
    "look": {"id": "t-1"},
    "list": {},
}
"""Values that a request is tried with before it is kept."""


@pages.get("")
def index() -> Any:
    states = counts.states_by(session().connection(), store_id(), "gateway_id", g.today - dt.timedelta(days=6))
    ids, now = live().gateway_ids, gateway_states()
    rows = [(one, states.get(ids[key], {}), now[key]) for key, one in live().setup.gateways.items()]
    return render_template("gateways/index.html", rows=rows, kinds=operations.KINDS)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    kind = request.form.get("kind", "smtp")
    with work_or_back(url_for(".index", name=name[:200], kind=kind[:20])) as unit:
        key = operations.create(unit, name, kind)
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/probe")
def probe(key: str) -> Any:
    """Has one send tried at once by a gateway that is taken to be unreachable."""
    gateway = _gateway(key)
    with work() as unit:
        unreachable = operations.probe(unit, gateway)
    flash(f"{gateway.name} is tried now, with one send." if unreachable else f"{gateway.name} is reachable.", "good")
    return redirect(url_for(".index") if request.form.get("from") == "list" else url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    return _page(_gateway(key))


@pages.get("/<key>/retry-times")
def retry_times(key: str) -> Any:
    """The picture of a policy that is being typed; or, in words, why it is none."""
    _gateway(key)
    form = {name: request.args.get(f"retry.{name}", "") for name in RetryPolicy.model_fields}
    try:
        policy = RetryPolicy.model_validate(form)
    except ValidationError as error:
        return render_template("gateways/_retry_times.html", wrong=problems_of(error)[0])
    return render_template("gateways/_retry_times.html", drawn=retry_picture.draw(policy))


def _gateway(key: str) -> Gateway:
    found = live().setup.gateways.get(key)
    if found is None:
        abort(404, f"There is no gateway “{key}”.")
    return found


def _page(
    gateway: Gateway,
    problems: Sequence[Problem] = (),
    spec: dict[str, Any] | None = None,
    stages: Sequence[Stage] = (),
    tests: Sequence[StoredMessage] = (),
    **curl: Any,
) -> str:
    """A gateway's page; `spec` is what was typed, where it could not be saved, `stages` how trying it went, `tests` the
    messages of which a test can be sent. Of a `curl` command: itself, its `curl_problems`, or what was `curl_found`.
    """
    gateway_id = live().gateway_ids[gateway.key]
    kept = services().vault.get(session(), "gateway", gateway_id, g.now)
    code = services().vault.get(session(), "sender-code", gateway_id, g.now)
    row = found(specs.by_key(session(), GatewayRow, store_id(), gateway.key), "gateway")
    template = {"smtp": "gateways/edit.html", "call": "gateways/system.html"}.get(
        gateway.kind, "gateways/provider.html"
    )
    return render_template(
        template,
        gateway=gateway,
        problems=problems,
        spec=spec or gateway.model_dump(mode="json"),
        edits=row.edits if stages else request.form.get("edits", row.edits),
        has_password=bool(kept),
        code_sent=bool(code),
        kinds=operations.KINDS,
        blank_review=_BLANK_REVIEW,
        text_places=_TEXT_PLACES,
        blank_receipts=Receipts().model_dump(mode="json"),
        receipts_at=address_of(gateway.key),
        stages=stages,
        answer_codes=codes.listed(gateway.kind),
        drawn=retry_picture.draw(gateway.retry),
        health=gateway_health.load(session().connection()).get(gateway_id),
        now_state=gateway_states()[gateway.key],
        tests=tests,
        use=gateway_use.load(session().connection()).get(gateway_id),
        answered=test_answers.of(session(), gateway_id),
        payload_fields=payload_fields,
        **curl,
    )


_RETRY: dict[str, Spelling] = {f"retry.{name}": TEXT for name in RetryPolicy.model_fields} | {
    **dict.fromkeys((f"quota.{name}" for name in Quota.model_fields), OR_ZERO),
    "balance_at": TEXT,
}
_MAIL: dict[str, Spelling] = _RETRY | {
    **dict.fromkeys(("name", "timeout_seconds", "host", "port", "tls", "username"), TEXT),
    **dict.fromkeys(("sender.address", "sender.name", "sender.reply_to", "limits.attachments", "return_path"), TEXT),
    **dict.fromkeys(("price", "attachment_price"), OR_ZERO),
    "limits.total_bytes": MEGABYTES,
    "limits.types": COMMAS,
}


def _call(path: str) -> dict[str, Spelling]:
    """The fields of an HTTP request."""
    return {
        **dict.fromkeys((f"{path}.{name}" for name in HttpCall.model_fields), TEXT),
        f"{path}.headers": HEADERS,
        f"{path}.body": RAW,
        f"{path}.refused": COMMAS,
        f"{path}.later": COMMAS,
    }


_PROVIDER: dict[str, Spelling] = _RETRY | {
    **dict.fromkeys(("name", "timeout_seconds", "sender_id", "addresses", "price", "max_segments"), TEXT),
    **dict.fromkeys((f"auth.{part}" for part in Auth.model_fields), TEXT),
    **_call("call"),
    **dict.fromkeys(("receipts.id_at", "receipts.state_at", "receipts.text_at", "receipts.from_at"), TEXT),
    **dict.fromkeys((f"receipts.{word}" for word in ("delivered", "read", "failed", "answered", "complained")), COMMAS),
}
_CHAT: dict[str, Spelling] = _PROVIDER | {
    **_call("review.submit"),
    **_call("review.look"),
    **dict.fromkeys(("review.approved", "review.rejected"), COMMAS),
    **_call("review.texts.call"),
    **dict.fromkeys((f"review.texts.{place}" for place in _TEXT_PLACES), TEXT),
}
_CALL: dict[str, Spelling] = _RETRY | {
    **dict.fromkeys(("name", "timeout_seconds", "price"), TEXT),
    **dict.fromkeys((f"auth.{part}" for part in Auth.model_fields), TEXT),
    **_call("call"),
}
_FIELDS = {"smtp": _MAIL, "sms": _PROVIDER, "chat": _CHAT, "call": _CALL}
_OPTIONAL: dict[str, dict[str, str]] = {
    "smtp": {},
    "call": {},
    "sms": {"receipts": "receipts.on"},
    "chat": {"receipts": "receipts.on", "review.texts": "review.texts.on", "review": "review.on"},
}


@pages.post("/<key>")
def save(key: str) -> Any:
    gateway = _gateway(key)
    refused = _saved(gateway)
    if refused is not None:
        return refused
    flash("Saved. The next try uses it.", "good")
    return redirect(url_for(".edit", key=key))


def _saved(gateway: Gateway) -> Any:
    """Saves what the form says; gives nothing, or the page that says what is wrong and holds all that was typed."""
    switches = ("dkim",) if gateway.kind == "smtp" and "host" in request.form else ()
    spec, problems = filled(request.form, gateway, _FIELDS[gateway.kind], _OPTIONAL[gateway.kind], switches)
    try:
        if problems:
            raise Invalid(problems)
        made = read_spec(Gateway, spec)
        found = _tried(made)
        if found:
            raise Invalid(found)
        if made == gateway and not request.form.get("password"):
            return None
        with work() as unit:
            operations.save(unit, made, request.form.get("password", ""), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return _page(gateway, error.problems, spec), 422
    return None


def going_out(released: int) -> str:
    """What is said of held sends that go out now; empty where there are none."""
    return (
        f" {released} held send{'s' if released > 1 else ''} go{'es' if released == 1 else ''} out now."
        if released
        else ""
    )


def _tried(gateway: Gateway) -> list[Problem]:
    """What is wrong with a provider's requests, found by making them with example values."""
    if gateway.kind == "smtp":
        return []
    if gateway.kind == "call":
        return calls.auth_problems(gateway.auth) + calls.problems_of_calls(gateway)
    tried: list[tuple[str, HttpCall, str]] = [("call", gateway.call, "call")]
    if gateway.review:
        tried += [("review.submit", gateway.review.submit, "submit"), ("review.look", gateway.review.look, "look")]
        if gateway.review.texts:
            tried.append(("review.texts.call", gateway.review.texts.call, "list"))
    found = [problem for where, call, example in tried for problem in calls.problems_of(call, where, EXAMPLES[example])]
    missing = calls.text_missing(gateway)
    found += [missing] if missing is not None else []
    return calls.auth_problems(gateway.auth) + found


@pages.post("/<key>/curl")
def read_curl(key: str) -> Any:
    """Fills the form with what a `curl` command says; nothing is saved yet."""
    gateway = _gateway(key)
    command = request.form.get("curl", "")
    try:
        found = curl_commands.read(command)
    except Invalid as error:
        return _page(gateway, curl_command=command, curl_problems=error.problems), 422
    return _page(gateway, spec=found.over(gateway), curl_found=found)


@pages.post("/<key>/openapi")
def read_description(key: str) -> Any:
    """Fills the form with an operation of an OpenAPI description, once one is chosen; nothing is saved yet."""
    gateway = _gateway(key)
    upload = request.files.get("file")
    text = upload.read(openapi_operations.MOST + 1).decode("utf-8", "replace") if upload else ""
    text = text or request.form.get("description", "")
    mark = request.form.get("operation", "")
    try:
        document = openapi_operations.parse(text)
        if not mark:
            return _page(gateway, description=text, listed=openapi_operations.operations(document))
        found = openapi_operations.request(document, mark)
    except Invalid as error:
        return _page(gateway, description=text, description_problems=error.problems), 422
    return _page(gateway, spec=found.over(gateway), curl_found=found)


@pages.get("/<key>/try")
@pages.get("/<key>/curl")
@pages.get("/<key>/openapi")
def tried(key: str) -> Any:
    """The page that a try or a command was answered with, loaded anew."""
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/try")
def try_connection(key: str) -> Any:
    """Saves what is typed, and goes through the handshake without sending; the page says how each stage went."""
    gateway = _gateway(key)
    if "name" in request.form:
        refused = _saved(gateway)
        if refused is not None:
            return refused
        gateway = _gateway(key)
    secrets = services().vault.get(session(), "gateway", live().gateway_ids[key], g.now)
    close_session()  # the other side may take its time
    stages = probe_gateway(gateway, secrets[0].text if secrets else "")
    if gateway.untried and gateway.kind == "smtp" and all(stage.ok for stage in stages):
        with work() as unit:
            operations.found_working(unit, key)
        gateway = _gateway(key)
    return _page(gateway, stages=stages, tests=[row for row in messages() if row.spec.variants(gateway.channel)])


@pages.post("/<key>/balance")
def balance(key: str) -> Any:
    """What the provider's account holds now; empty has nobody count it."""
    gateway = _gateway(key)
    with work_or_back(url_for(".edit", key=key)) as unit:
        told = operations.set_balance(unit, gateway, request.form.get("balance", ""))
    flash(told, "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/pause")
def pause(key: str) -> Any:
    """Pauses, so that due sends are held; or resumes, and releases what was held for it."""
    gateway = _gateway(key)
    with work_or_back(url_for(".edit", key=key), "Not switched on") as unit:
        if request.form.get("paused") == "yes":
            operations.pause(unit, gateway)
            told = "Paused: what is due is held."
        else:
            told = f"It is active again. {operations.resume(unit, gateway)} held sends were released."
    flash(told, "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/verify")
def verify(key: str) -> Any:
    """Sends a code to the sender's own address through this gateway; or takes the code that was read there."""
    gateway = _gateway(key)
    if gateway.sender is None:
        abort(400, "Only a mail gateway has a sender's address to verify.")
    typed = request.form.get("code", "").strip()
    try:
        if typed:
            with work() as unit:
                released = operations.verify_sender(unit, gateway, typed)
            flash(f"{gateway.sender.address} is verified." + going_out(released), "good")
        else:
            operations.send_code(services().installation, store_id(), gateway, actor())
            flash(f"A code is on its way to {gateway.sender.address}.", "good")
    except Invalid as error:
        flash(f"{error.problems[0].what} {error.problems[0].hint}".strip(), "bad")
    return redirect(url_for(".edit", key=key))
