"""SMS, chat and calls by HTTP (RFC 9110), as a gateway's settings describe its request; over one connection that is
kept.
"""

from __future__ import annotations

import datetime as dt
import zlib
from dataclasses import replace
from email.utils import parsedate_to_datetime
from typing import Any

import httpx

from angelon.core.calls import CantCall, Request, call_request, make_request, read_answer, read_balance, text_missing
from angelon.core.outside import refuse_inside
from angelon.core.specs.gateway import Gateway, HttpCall
from angelon.gateways.deadline import Deadline, Line, whole_try
from angelon.gateways.interface import Outcome, ProviderMessage
from angelon.gateways.tokens import CantGetToken, Tokens
from angelon.gateways.trust import trusted

MAX_ANSWER = 100_000
"""Bytes of an answer that are looked at."""
KEPT_ANSWER = 2_000_000
"""Bytes of an answer to a call that may be kept: it may hold a document."""
OF_ACCOUNT = (401, 402)
"""Statuses of an account whose credentials or credit are wrong: any other message would meet them as well."""


class HttpTransport:
    """One provider's API. Not for use by several threads."""

    def __init__(self, gateway: Gateway, secret: str = "") -> None:
        self._gateway = gateway
        self._secret = secret
        self._line = Line()
        self._tokens = Tokens(gateway.auth, secret, self._ask_for_token) if gateway.auth.scheme == "oauth" else None
        self._client = httpx.Client(
            verify=trusted(),
            timeout=gateway.timeout_seconds,
            follow_redirects=False,
            trust_env=False,
            limits=httpx.Limits(max_keepalive_connections=1),
        )

    def deliver(self, mail: ProviderMessage, key: str) -> Outcome:
        """One message to one recipient.

        2xx is accepted unless the settings say otherwise of its outcome; 401 and 402 (which any other message would
        meet as well), 408, 425, 429 and 5xx are temporary, with `Retry-After` heeded; other answers
        permanent. A connection lost after the request was written is unknown.
        """
        outcome = self._deliver(mail, key)
        if outcome.code == "401" and self._tokens is not None and self._tokens.held:
            self._tokens.forget()  # withdrawn before its time: once more with a new one
            outcome = self._deliver(mail, key)
        return outcome

    def _deliver(self, mail: ProviderMessage, key: str) -> Outcome:
        gateway = self._gateway
        try:
            if gateway.kind == "call":
                request = call_request(gateway, self._secret, mail.values, key, dt.datetime.now(dt.UTC))
            elif (missing := text_missing(gateway)) is not None:
                raise CantCall(missing)
            else:
                request = make_request(gateway.call, gateway.auth, self._secret, {**mail.values, "key": key})
            if self._tokens is not None:
                request = replace(
                    request, headers={**request.headers, "Authorization": f"Bearer {self._tokens.token()}"}
                )
        except CantCall as error:
            return Outcome(
                "temporary", "", f"The gateway’s settings make no request: {error.problem}", unreachable=True
            )
        except CantGetToken as error:
            return Outcome("temporary", "", str(error), unreachable=True)
        most = KEPT_ANSWER if gateway.kind == "call" else MAX_ANSWER
        outcome, body = ask(self._client, request, gateway.call, self._line, ("outcome_at", "id_at"), most)
        if len(body) <= most:
            outcome = replace(outcome, body=body)
        left = read_balance(gateway.balance_at, body) if outcome.kind == "accepted" and gateway.balance_at else None
        return replace(outcome, balance=left) if left is not None else outcome

    def _ask_for_token(self, request: Request) -> tuple[Outcome, bytes]:
        return ask(self._client, request, HttpCall(), self._line)

    def close(self) -> None:
        self._client.close()
        self._line.drop()


def ask(
    client: httpx.Client,
    request: Request,
    call: HttpCall,
    line: Line | None = None,
    promised: tuple[str, ...] = ("outcome_at",),
    most: int = MAX_ANSWER,
) -> tuple[Outcome, bytes]:
    """Makes one request and reads its outcome; gives it with the answer's body.

    `line` is the client's connection, so that a try can be cut off when its time is over. `promised` are the places
    that a good answer has to have something at, where the settings name them: one that lacks them is not accepted.
    `most` is how many bytes of the answer are read.
    """
    refuse_inside("asking a provider")
    where = httpx.URL(request.url).host
    line = line or Line()
    longest = whole_try(client.timeout.read or 30)

    def watch(event: str, info: dict[str, Any]) -> None:
        if event == "connection.connect_tcp.complete":
            connected = info["return_value"].get_extra_info("socket")
            if connected is not None:
                line.hold(connected)

    with Deadline(line, longest) as deadline:
        try:
            with client.stream(
                request.method,
                request.url,
                headers={**request.headers, "Accept-Encoding": "identity"},
                content=request.body or None,
                extensions={"trace": watch},
            ) as answer:
                body = b""
                for chunk in answer.iter_raw():
                    body += chunk
                    if len(body) > most:
                        break
                body = _unpacked(answer.headers.get("Content-Encoding", ""), body, most)
        except NotUnpacked as error:
            return Outcome("unknown", "", f"{where} had the message; its answer can’t be read: {error}"), b""
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout) as error:
            return Outcome("temporary", "", f"{where} can't be reached: {_why(error)}", unreachable=True), b""
        except (
            httpx.ReadTimeout,
            httpx.ReadError,
            httpx.RemoteProtocolError,
            httpx.WriteError,
            httpx.WriteTimeout,
        ) as error:
            why = f"it took longer than {longest:g} s in all" if deadline.over else _why(error)
            return Outcome("unknown", "", f"{where} had the message and gave no answer: {why}", unreachable=True), b""
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            return Outcome("temporary", "", f"{where}: {_why(error)}", unreachable=True), b""
    return _outcome(answer, body, call, promised), body


class NotUnpacked(ValueError):
    """An answer is compressed in a way that can't be read."""


def _unpacked(encoding: str, body: bytes, most: int) -> bytes:
    """An answer as it was before it was compressed (RFC 9110, section 8.4), though nobody asked for that; no more than
    `most` bytes and one of it are unpacked. Raises NotUnpacked.
    """
    coding = encoding.strip().lower()
    if not coding or coding == "identity":
        return body
    if coding not in ("gzip", "x-gzip", "deflate"):
        raise NotUnpacked(f"it is compressed as “{coding[:40]}”")
    unpacker = zlib.decompressobj(wbits=zlib.MAX_WBITS | 32)  # gzip or zlib, as its head says
    try:
        return unpacker.decompress(body, most + 1)
    except zlib.error as error:
        raise NotUnpacked(str(error)) from None


def _outcome(answer: httpx.Response, body: bytes, call: HttpCall, promised: tuple[str, ...]) -> Outcome:
    told = read_answer(call, body)
    said = " ".join((told.reason or told.outcome or body[:300].decode(errors="replace")).split())[:500]
    code = str(answer.status_code)
    if answer.is_success:
        has = {"outcome_at": told.outcome, "id_at": told.id}
        lacking = next((getattr(call, place) for place in promised if getattr(call, place) and not has[place]), "")
        if lacking:
            return Outcome(
                "unknown",
                code,
                f"The answer has nothing at {lacking}, so nobody can say whether the message was taken: "
                f"{said[:200] or 'it is empty'}",
                unreachable=True,
            )
        if told.outcome in call.refused:
            return Outcome("permanent", code, said, reference=told.id)
        if told.outcome in call.later:
            return Outcome("temporary", code, said, retry_after=retry_after(answer), reference=told.id)
        return Outcome("accepted", code, said, reference=told.id)
    of_account = answer.status_code in OF_ACCOUNT
    if answer.status_code in (408, 425, 429) or answer.is_server_error or of_account:
        unreachable = answer.is_server_error or of_account
        return Outcome("temporary", code, said, retry_after=retry_after(answer), unreachable=unreachable)
    return Outcome("permanent", code, said)


def retry_after(answer: httpx.Response) -> float | None:
    """The wait in seconds that an answer asks for (RFC 9110, section 10.2.3: seconds or a date)."""
    text = answer.headers.get("Retry-After", "").strip()
    if not text:
        return None
    if text.isascii() and text.isdigit():
        return float(text[:12])
    try:
        at = parsedate_to_datetime(text)
    except (ValueError, OverflowError):
        return None
    if at.tzinfo is None:
        at = at.replace(tzinfo=dt.UTC)
    return max(0.0, (at - dt.datetime.now(dt.UTC)).total_seconds())


def _why(error: Exception) -> str:
    if isinstance(error, httpx.TimeoutException):
        return "no answer in time"
    cause: Any = error.__cause__ or error
    text = str(cause)
    if "refused" in text:
        return "the connection is refused"
    if "not known" in text or "No address" in text:
        return "the host is not known"
    return " ".join(text.split())[:200] or type(error).__name__
