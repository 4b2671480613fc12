"""What takes long is done before a write begins: inside one, hashing, asking, calling and checking are refused, since
everybody who writes would wait for it. Pure but for the context that it keeps.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_WRITE: ContextVar[str] = ContextVar("write", default="")
_COMPILES: ContextVar[bool] = ContextVar("compiles", default=True)


class InsideWrite(RuntimeError):
    """Something that takes long was begun inside a write: a fault of ours."""


@contextmanager
def writing(purpose: str, compiles: bool = True) -> Iterator[None]:
    """Marks what is done within as a write, of a purpose that is named where something is refused. `compiles` is
    whether texts may be compiled, as by what decides about sends, which has that done before as far as it can.
    """
    tokens = _WRITE.set(purpose or "a write"), _COMPILES.set(compiles)
    try:
        yield
    finally:
        _WRITE.reset(tokens[0])
        _COMPILES.reset(tokens[1])


class CompiledInside(RuntimeWarning):
    """A text was compiled inside a unit of work. That takes milliseconds, so it is told, and refused by the tests."""


def note_compiling() -> None:
    """Warns of CompiledInside inside a write in which no text should be compiled: a unit of work."""
    purpose = _WRITE.get()
    if purpose and not _COMPILES.get():
        warnings.warn(f"compiling a text inside a write ({purpose})", CompiledInside, stacklevel=3)


def refuse_inside(what: str) -> None:
    """Raises InsideWrite inside a write; `what` names what was begun."""
    purpose = _WRITE.get()
    if purpose:
        raise InsideWrite(f"{what} inside a write ({purpose}): everybody who writes would wait for it")
