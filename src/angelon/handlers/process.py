"""The process that handlers run in: loads a folder of files, then answers one call after the other.

Started by Angelon as `python -m angelon.handlers.process FOLDER READ WRITE`: two pipes' file descriptors, on which JSON
travels, a line each way. What an author prints or logs is caught, up to a bound.
"""

from __future__ import annotations

import contextlib
import ctypes
import importlib.util
import inspect
import io
import json
import logging
import os
import resource
import signal
import sys
import time
import traceback
from pathlib import Path
from typing import Any

from angelon import handlers
from angelon.handlers.watching import Watch
from angelon.handlers.wire import event_from, pack

OUTPUT = 20_000
"""Characters of what one call prints that are kept."""
MEMORY = 768 * 1024 * 1024
"""Bytes of address space that a process may take."""
LARGEST_FILE = 50 * 1024 * 1024
"""Bytes that a handler may write to one file."""
LONGEST_SOURCE = 20_000
"""Characters of a function that are shown."""
MOST_ENDED = 1000
"""Processes that are ended after a call; who starts more of them meanwhile is ended itself, when its time is over."""
LARGEST_ASK = 1_000_000
"""Characters of what one call asks for."""


class CapturedOutput(io.TextIOBase):
    """Keeps the first characters that are written, and counts the others."""

    def __init__(self) -> None:
        self.parts: list[str] = []
        self.length = 0

    def writable(self) -> bool:
        return True

    def write(self, text: str) -> int:
        if self.length < OUTPUT:
            self.parts.append(text[: OUTPUT - self.length])
        self.length += len(text)
        return len(text)

    def text(self) -> str:
        left = self.length - OUTPUT
        return "".join(self.parts) + (f"\n… and {left:,} characters more" if left > 0 else "")


def load(folder: Path) -> tuple[dict[str, handlers.Registered], list[dict[str, str]]]:
    """The handlers of a folder's files by name, and what is wrong with files: a problem each."""
    sys.path.insert(0, str(folder))
    handlers.registered.clear()
    problems = []
    for file in sorted(folder.glob("*.py")):
        if file.name.startswith(("_", "test_", "conftest")):
            continue
        before = len(handlers.registered)
        try:
            spec = importlib.util.spec_from_file_location(file.stem, file)
            assert spec is not None
            assert spec.loader is not None
            module = importlib.util.module_from_spec(spec)
            sys.modules[file.stem] = module
            spec.loader.exec_module(module)
        except BaseException as error:
            del handlers.registered[before:]
            problems.append({"file": file.name, "problem": _told(error, folder)})
    found: dict[str, handlers.Registered] = {}
    for one in handlers.registered:
        name = one.function.__name__
        if name in found:
            what = f"There are two handlers called {name}. Give one of them another name."
            problems.append({"file": _file_of(one, folder), "problem": what})
        else:
            found[name] = one
    return found, problems


def described(found: dict[str, handlers.Registered], folder: Path) -> list[dict[str, Any]]:
    return [
        {
            "name": name,
            "file": _file_of(one, folder),
            "line": one.function.__code__.co_firstlineno,
            "about": (one.function.__doc__ or "").strip().partition("\n")[0][:200],
            "types": list(one.types),
            "sources": list(one.sources),
            "rank": one.rank,
            "timeout": one.timeout,
            "source": _source_of(one),
        }
        for name, one in found.items()
    ]


def _file_of(one: handlers.Registered, folder: Path) -> str:
    file = Path(one.function.__code__.co_filename)
    with contextlib.suppress(ValueError):
        return str(file.relative_to(folder))
    return file.name


def _source_of(one: handlers.Registered) -> str:
    """The function as it is written, with its decorators; empty where its text can't be had."""
    try:
        return inspect.getsource(one.function)[:LONGEST_SOURCE]
    except (OSError, TypeError):
        return ""


def _told(error: BaseException, folder: Path) -> str:
    """A traceback from the first line that is the author's."""
    frames = traceback.extract_tb(error.__traceback__)
    own = [frame for frame in frames if str(folder) in frame.filename]
    lines = traceback.format_list(own)
    text = "".join([*lines, *traceback.format_exception_only(type(error), error)])
    return text.replace(f"{folder}/", "")[:8000]


def call(one: handlers.Registered, data: dict[str, Any], folder: Path, watch: bool = False) -> dict[str, Any]:
    """Runs one handler on one event; what it asked for, or why not, and what it printed. With `watch` also which lines
    it ran and the values in them.
    """
    watching = Watch(folder) if watch else None
    caught = CapturedOutput()
    logs = logging.StreamHandler(caught)
    logs.setFormatter(logging.Formatter("%(levelname)s %(message)s"))
    root = logging.getLogger()
    root.handlers[:] = [logs]
    root.setLevel(logging.INFO)
    outbox = handlers.Outbox()
    answer: dict[str, Any] = {}
    began = time.monotonic()
    try:
        with contextlib.redirect_stdout(caught), contextlib.redirect_stderr(caught):
            event = event_from(data)
            if watching is not None:
                sys.settrace(watching)
            try:
                one.function(event, outbox)
            finally:
                sys.settrace(None)
        asked = outbox._taken()
        for send in asked["sends"]:
            try:
                send["values"] = pack(send["values"])
            except TypeError as error:
                raise TypeError(f"outbox.send({send['message']!r}) in line {send['line']}: {error}") from None
        if len(json.dumps(asked)) > LARGEST_ASK:
            raise ValueError(f"It asks for more than {LARGEST_ASK:,} characters in all.")
        answer["asked"] = asked
    except BaseException as error:
        answer["problem"] = _told(error, folder) or f"{type(error).__name__}: {error}"
    answer["took"] = time.monotonic() - began
    answer["output"] = caught.text()
    if watching is not None:
        file = one.function.__code__.co_filename
        answer["values"] = {str(line): said for line, said in watching.values.get(file, {}).items()}
        answer["ran"] = sorted(set(watching.ran.get(file, [])))
    return answer


def _end_children() -> int:
    """Ends what the author's code has started and left; says how many that was."""
    ended = 0
    children = Path(f"/proc/self/task/{os.getpid()}/children")
    with contextlib.suppress(OSError):
        while (left := children.read_text().split()) and ended < MOST_ENDED:  # theirs are ours once they are gone
            for child in left:
                with contextlib.suppress(OSError):
                    os.kill(int(child), signal.SIGKILL)
                    os.waitpid(int(child), 0)
                    ended += 1
    return ended


def _without_network() -> str:
    """Leaves the network behind (Linux: a user and a network namespace of its own); says why that can't be done."""
    new_user, new_network = 0x10000000, 0x40000000
    if sys.platform == "linux" and ctypes.CDLL(None, use_errno=True).unshare(new_user | new_network) == 0:
        return ""
    return "ANGELON_HANDLER_NETWORK is off, and this system can't keep the network from a process: nothing is loaded."


def main() -> None:
    folder, reading, writing = Path(sys.argv[1]).resolve(), int(sys.argv[2]), int(sys.argv[3])
    own = os.getpid()
    if sys.platform == "linux":
        library = ctypes.CDLL(None, use_errno=True)
        library.prctl(1, signal.SIGKILL)  # ends with whoever started it, however that ended
        library.prctl(36, 1)  # what its children leave is its own child (PR_SET_CHILD_SUBREAPER)
    null = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(null, number)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (LARGEST_FILE, LARGEST_FILE))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    answers = os.fdopen(writing, "w", encoding="utf-8")
    asks = os.fdopen(reading, "r", encoding="utf-8")
    caught = CapturedOutput()
    with contextlib.redirect_stdout(caught), contextlib.redirect_stderr(caught):
        refused = "" if os.environ.pop("ANGELON_NETWORK", "yes") else _without_network()
        found, problems = ({}, [{"file": "the folder", "problem": refused}]) if refused else load(folder)

    def say(answer: dict[str, Any]) -> None:
        if os.getpid() != own:  # the author's code has copied this process, and the copy has come back here
            os._exit(0)
        left = _end_children()
        if left:
            answer["output"] = f"{answer.get('output', '')}\n{left} processes that it left were ended.".strip()
        answers.write(json.dumps(answer) + "\n")
        answers.flush()

    say({"handlers": described(found, folder), "problems": problems, "output": caught.text()})
    for line in asks:
        asked = json.loads(line)
        one = found.get(asked["handler"])
        if one is None:
            say({"problem": f"There is no handler {asked['handler']} in the folder any more.", "took": 0, "output": ""})
        else:
            say(call(one, asked["event"], folder, bool(asked.get("watch"))))


if __name__ == "__main__":
    main()
