"""The door: every request is read here, without a thread, until it is whole; only then does anything work on it.

A body that comes slowly, or never, holds a connection and a few bytes. A reader that takes its time holds its answer.
Deliveries are answered right here, since they wait for a commit and for nothing else; pages run in threads.
"""

from __future__ import annotations

import asyncio
import contextlib
import io
import sys
import threading
from collections import deque
from collections.abc import Awaitable, Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import structlog
from granian.rsgi import ProtocolClosed  # type: ignore[attr-defined]

from angelon.db.records import NewDelivery
from angelon.engine.arrivals.intake import Answer, Intake
from angelon.engine.arrivals.writer import Busy, GroupCommit
from angelon.engine.counters import delivered
from angelon.engine.long_lived import tell_ready, tune_interpreter
from angelon.web.customers.guesses import BODY, LET_IN, Guesses
from angelon.web.intake.views import MOST_READ, PREFIX, as_http, query_of
from angelon.web.origins import Proxies

log = structlog.get_logger()
_T = TypeVar("_T")

MOST_BODY = 21 * 1024 * 1024
"""Bytes that a page's form may have."""
BETWEEN_PIECES = 8.0
"""Seconds that may pass between two pieces of a body."""
WHOLE_BODY = 60.0
"""Seconds within which a body has to be whole."""
SMALL, SMALL_BODY = 64 * 1024, 10.0
"""A body of so many bytes or fewer has to be whole within so many seconds."""
BUFFERED = 256 * 1024 * 1024
"""Bytes of bodies that are held at the same time."""
PAGES, STREAMS = 64, 40
"""Threads for pages; how many of them may be pages that go on being written."""
STORED = 30.0
"""Seconds that a delivery may take to be stored."""
LARGE = 64 * 1024
"""Bytes from which a delivery is taken apart in a thread, so that others are answered meanwhile."""
SLOW_READER = 30.0
"""Seconds that a reader of a stream may take for one piece."""


class _TooSlow(Exception):
    """A body did not come in time."""


class _TooMuch(Exception):
    """A body is larger than may be, or more are held than there is room for."""

    def __init__(self, busy: bool) -> None:
        super().__init__()
        self.busy = busy


class _Answered:
    """Futures that are done, told to the event loop once for all that a commit has stored."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._ready: deque[asyncio.Future[None]] = deque()
        self._called = False

    def teller(self, future: asyncio.Future[None]) -> Callable[[], None]:
        def tell() -> None:
            self._ready.append(future)
            if not self._called:
                self._called = True
                self._loop.call_soon_threadsafe(self._flush)

        return tell

    def _flush(self) -> None:
        self._called = False
        while self._ready:
            future = self._ready.popleft()
            if not future.done():
                future.set_result(None)


class _Deadlines:
    """Ends tasks that wait for too long: one look a second for all of them, in place of a timer for each."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._until: dict[asyncio.Task[Any], float] = {}
        self._ended: set[asyncio.Task[Any]] = set()
        self._look()

    async def within(self, seconds: float, awaited: Awaitable[_T]) -> _T:
        """What is awaited. Raises TimeoutError where it takes longer, by up to a second."""
        task = asyncio.current_task(self._loop)
        assert task is not None
        self._until[task] = self._loop.time() + seconds
        try:
            return await awaited
        except asyncio.CancelledError:
            if task not in self._ended:
                raise
            self._ended.discard(task)
            task.uncancel()
            raise TimeoutError from None
        finally:
            del self._until[task]

    def _look(self) -> None:
        self._loop.call_later(1, self._look)  # first, so that nothing that follows ends it
        now = self._loop.time()
        for task, until in self._until.items():
            if until < now and task not in self._ended:
                self._ended.add(task)
                task.cancel()


class RsgiServer:
    """The application as the server calls it (RSGI 1.x)."""

    def __init__(
        self,
        pages: Callable[..., Iterable[bytes]],
        intake: Intake,
        writer: GroupCommit,
        proxies: Proxies,
        guesses: Guesses,
    ) -> None:
        self._pages = pages
        self._guesses = guesses
        self._intake = intake
        self._writer = writer
        self._proxies = proxies
        self._threads = ThreadPoolExecutor(PAGES, "page")
        self._streams = threading.Semaphore(STREAMS)
        self._held = 0

    def __rsgi_init__(self, loop: asyncio.AbstractEventLoop) -> None:
        tune_interpreter()
        self._loop = loop
        self._told = _Answered(loop)
        self._deadlines = _Deadlines(loop)
        tell_ready()

    def __rsgi_del__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._threads.shutdown(wait=False, cancel_futures=True)

    async def __rsgi__(self, scope: Any, protocol: Any) -> None:
        if scope.proto != "http":
            protocol.close(400)
            return
        headers = _headers(scope.headers)
        is_delivery = scope.path.startswith(PREFIX)
        if not is_delivery and (odd := [name for name in scope.headers.keys() if name not in headers]):  # noqa: SIM118
            # RFC 9110, section 5.5: what can't be read is not the same as what was not sent
            _refuse(protocol, 400, f"The header {odd[0][:60]} holds what is no ASCII text.")
            return
        held = 0
        try:
            declared = _length(headers)
            limit = MOST_READ if is_delivery else MOST_BODY
            if scope.method in ("GET", "HEAD") and not declared and "transfer-encoding" not in headers:
                body = b""
            elif declared is None or declared > limit:
                if declared is None or not is_delivery:
                    _refuse(
                        protocol,
                        400 if declared is None else 413,
                        "The length of the body is no number." if declared is None else "The body is too large.",
                    )
                    return
                body = b""  # the source's own page says how much it takes, and keeps what it refused
            else:
                body = await (self._small_body(protocol) if 0 < declared <= SMALL else self._body(protocol, limit))
                held = len(body)
            if is_delivery:
                await self._deliver(scope, protocol, headers, body, declared or len(body))
            else:
                await self._page(scope, protocol, headers, body)
        except _TooSlow:
            _refuse(
                protocol,
                408,
                f"The body did not come in time: at most {WHOLE_BODY:.0f} s are waited for all of it.",
                ("connection", "close"),
            )
        except _TooMuch as error:
            if error.busy:
                _refuse(protocol, 503, "Too much is coming in at the same time.", ("retry-after", "5"))
            else:
                _refuse(protocol, 413, "The body is too large.")
        except ProtocolClosed:  # the sender hung up: nobody is left to be told
            log.info("a request was not sent to its end", path=scope.path[:100])
        except Exception:
            log.exception("a request failed", path=scope.path[:100])
            with contextlib.suppress(Exception):
                _refuse(protocol, 500, "Something went wrong inside Angelon. The log says more.")
        finally:
            self._held -= held

    async def _small_body(self, protocol: Any) -> bytes:
        """A body that says that it is small, at once: the server reads no more of it than it says. Raises _TooSlow."""
        try:
            body: bytes = await self._deadlines.within(SMALL_BODY, protocol())
        except TimeoutError:
            raise _TooSlow from None
        self._held += len(body)
        return body

    async def _body(self, protocol: Any, limit: int) -> bytes:
        """The body, once all of it has come. Raises _TooSlow and _TooMuch."""
        pieces: list[bytes] = []
        size = 0
        until = self._loop.time() + WHOLE_BODY
        coming = protocol.__aiter__()
        try:
            while True:
                left = min(BETWEEN_PIECES, until - self._loop.time())
                try:
                    piece = await asyncio.wait_for(coming.__anext__(), left)
                except StopAsyncIteration:
                    return b"".join(pieces)
                except TimeoutError:
                    raise _TooSlow from None
                size += len(piece)
                self._held += len(piece)
                if size > limit:
                    raise _TooMuch(False)
                if self._held > BUFFERED:
                    raise _TooMuch(True)
                pieces.append(bytes(piece))
        except BaseException:
            self._held -= size
            raise

    async def _deliver(self, scope: Any, protocol: Any, headers: dict[str, str], body: bytes, length: int) -> None:
        began = self._loop.time()
        remote = self._proxies.sender(_peer(scope.client), headers.get("x-forwarded-for", ""))
        arguments = (
            scope.path[len(PREFIX) :],
            scope.method,
            headers,
            body,
            length,
            query_of(scope.query_string),
            remote,
        )
        if len(body) > LARGE:
            taken = await self._loop.run_in_executor(self._threads, lambda: self._intake.take(*arguments))
        else:
            taken = self._intake.take(*arguments)
        answer = await self._stored(taken) if isinstance(taken, NewDelivery) else taken
        status, found, said = as_http(answer, scope.method)
        delivered(arguments[0].partition("/")[0], status, self._loop.time() - began)  # who is answered is counted
        protocol.response_bytes(status, found, said)

    async def _stored(self, delivery: NewDelivery) -> Answer:
        future = self._loop.create_future()
        try:
            job = self._writer.submit(delivery, self._told.teller(future))
            await self._deadlines.within(STORED, future)
        except (Busy, TimeoutError):
            return self._intake.not_stored(Busy())
        if job.error is not None:
            return self._intake.not_stored(job.error)
        return self._intake.stored(delivery, job.ids)

    async def _page(self, scope: Any, protocol: Any, headers: dict[str, str], body: bytes) -> None:
        refused = self._guesses.refused(scope.path, _peer(scope.client), headers.get("x-forwarded-for", ""))
        if refused is not None:  # here, since a thread for each guess would cost pages their turn
            protocol.response_bytes(429, refused, BODY)
            return
        environ = _environ(scope, headers, body)
        answer = await self._loop.run_in_executor(self._threads, self._run, environ, protocol)
        if answer is not None:
            protocol.response_bytes(*answer)

    def _run(self, environ: dict[str, Any], protocol: Any) -> tuple[int, list[tuple[str, str]], bytes] | None:
        """A page, worked out in a thread; None where it went on being written and is at its end."""
        given: list[Any] = []

        def start_response(status: str, headers: list[tuple[str, str]], error: Any = None) -> Callable[[bytes], None]:
            given[:] = [int(status[:3]), [(name.lower(), value) for name, value in headers]]
            return lambda _: None

        answer = self._pages(environ, start_response)
        status, headers = given
        try:
            if (
                any(name == "content-length" for name, _ in headers)
                or status in (204, 304)
                or environ["REQUEST_METHOD"] == "HEAD"
            ):
                return status, headers, b"".join(answer)
            if not self._streams.acquire(blocking=False):
                return (
                    503,
                    [("content-type", "text/plain; charset=utf-8"), ("retry-after", "10")],
                    b"Too many pages are being written to just now. Reload this one in a moment.",
                )
            try:
                self._write(status, headers, answer, protocol)
            finally:
                self._streams.release()
            return None
        finally:
            _close(answer)

    def _write(self, status: int, headers: list[tuple[str, str]], answer: Iterable[bytes], protocol: Any) -> None:
        """Writes a page's pieces as they come."""

        async def begin() -> Any:
            return protocol.response_stream(status, headers)

        async def send(piece: bytes) -> None:
            await stream.send_bytes(piece)

        stream: Any = None
        try:
            stream = asyncio.run_coroutine_threadsafe(begin(), self._loop).result(SLOW_READER)
            for piece in answer:
                if piece:
                    asyncio.run_coroutine_threadsafe(send(piece), self._loop).result(SLOW_READER)
        except (
            Exception
        ) as error:  # the reader is gone or too slow, or the page failed in the middle: nobody is left to be told
            log.info("a page was not written to its end", why=type(error).__name__)
        finally:
            stream = None  # an error's frames may hold this one for long, and the connection would stay open


def _close(answer: Any) -> None:
    close = getattr(answer, "close", None)
    if close is not None:
        close()


def _headers(given: Any) -> dict[str, str]:
    """Headers by name; what was given several times as one (RFC 9110, section 5.3; RFC 9113, section 8.2.3 for
    cookies).
    """
    headers: dict[str, str] = {}
    for name, value in given.items():
        headers[name] = value if name not in headers else f"{headers[name]}{'; ' if name == 'cookie' else ', '}{value}"
    return headers


def _length(headers: dict[str, str]) -> int | None:
    """What the sender says the body's size is, 0 where it does not; None where that is no number."""
    text = headers.get("content-length", "0").strip()
    return int(text) if text.isascii() and text.isdigit() and len(text) < 16 else None


def _peer(client: str) -> str:
    """The address without its port."""
    return client.rpartition(":")[0].strip("[]") or client


def _refuse(protocol: Any, status: int, text: str, *headers: tuple[str, str]) -> None:
    protocol.response_str(
        status, [("content-type", "text/plain; charset=utf-8"), ("x-content-type-options", "nosniff"), *headers], text
    )


def _environ(scope: Any, headers: dict[str, str], body: bytes) -> dict[str, Any]:
    """A request as WSGI has it (PEP 3333)."""
    host, _, port = scope.server.rpartition(":")
    environ: dict[str, Any] = {
        "REQUEST_METHOD": scope.method,
        "SCRIPT_NAME": "",
        "PATH_INFO": scope.path.encode("utf-8", "replace").decode("latin-1"),  # decoded by the server, once
        "QUERY_STRING": scope.query_string,
        "REMOTE_ADDR": _peer(scope.client),
        "SERVER_NAME": host,
        "SERVER_PORT": port,
        "SERVER_PROTOCOL": f"HTTP/{scope.http_version}",
        "CONTENT_LENGTH": str(len(body)),
        "wsgi.version": (1, 0),
        "wsgi.url_scheme": "http",
        "wsgi.input": io.BytesIO(body),
        "wsgi.errors": sys.stderr,
        "wsgi.multithread": True,
        "wsgi.multiprocess": False,
        "wsgi.run_once": False,
        "wsgi.input_terminated": True,
        LET_IN: True,
    }
    if scope.authority:
        environ["HTTP_HOST"] = scope.authority
    for name, value in headers.items():
        if name == "content-type":
            environ["CONTENT_TYPE"] = value
        elif name != "content-length" and "_" not in name:  # Store_Signature is not Store-Signature
            environ["HTTP_" + name.upper().replace("-", "_")] = value
    return environ
