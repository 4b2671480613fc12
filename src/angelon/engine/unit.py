"""One change at a time: one transaction, who makes it, what is kept of it, and what follows once it is stored."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db import locks
from angelon.db.access.secrets import Vault
from angelon.db.setup import changes, specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.installation import Installation
from angelon.engine.repositories import Events, Sends, Specs


@dataclass(frozen=True, slots=True)
class Actor:
    """Who makes a change."""

    name: str


MACHINE = Actor("this machine")
"""Whoever works on the machine itself, until there are accounts."""


ThingT = TypeVar("ThingT")


class Work:
    """One transaction of one store. What is written through it is stored together, or not at all."""

    def __init__(self, installation: Installation, store_id: int, actor: Actor, begin: Callable[[], Session]) -> None:
        """`begin` opens the transaction: when it is first asked for, so that what takes long can be done before."""
        self._installation = installation
        self._begin = begin
        self._session: Session | None = None
        self.store_id = store_id
        self.actor = actor
        self.now: dt.datetime = installation.clock.now()
        self.setup_changed = False
        self.wakes = False
        """Whether workers have something to do once this is stored."""
        self.specs = Specs(self)
        self.sends = Sends(self)
        self.events = Events(self)
        self._live: LiveSetup | None = None

    @property
    def session(self) -> Session:
        """The transaction. It begins here, and others can't write until it ends."""
        if self._session is None:
            self._session = self._begin()
        return self._session

    @property
    def begun(self) -> bool:
        return self._session is not None

    @contextmanager
    def look(self) -> Iterator[Work]:
        """The same work before its transaction begins, to read and to work out what takes long; nothing that is changed
        through it is kept. What was read may be others' by the time that it is written: `still` says.
        """
        if self.begun:
            yield self
            return
        with self._installation.database.reading() as session:
            yield Work(self._installation, self.store_id, self.actor, lambda: session)

    def still(self, looked: Work, *pairs: tuple[Any, Any]) -> None:
        """Raises Invalid where the set-up was changed since it was looked at; `pairs` are what else has to be the same,
        then and now.
        """
        if self.live.version != looked.live.version or any(then != now for then, now in pairs):
            what = "It was changed by somebody else while it was being checked."
            raise Invalid([Problem("", what, "Look at it as it is now, and try again.")])

    @property
    def connection(self) -> Connection:
        return self.session.connection()

    @property
    def clock(self) -> Clock:
        return self._installation.clock

    @property
    def vault(self) -> Vault:
        return self._installation.vault

    @property
    def live(self) -> LiveSetup:
        """The store's set-up as it is live before this change; read in this transaction where it is newer."""
        if self._live is None:
            setups = self._installation.setups
            cached = setups.cached(self.store_id)
            fresh = cached is not None and specs.versions(self.session).get(self.store_id) == cached.version
            self._live = cached if fresh and cached is not None else setups.read(self.session, self.store_id)
        return self._live

    def change_setup(self) -> None:
        """Has every process load the store's set-up anew once this is stored."""
        self.setup_changed = True

    def wake(self) -> None:
        """Wakes the workers once this is stored."""
        self.wakes = True

    def record(self, action: str, kind: str, key: str, before: Any = None, after: Any = None) -> None:
        """Keeps what is changed, by whom and when. `before` and `after` are plain data, without secrets."""
        changes.add(self.session, self.store_id, self.now, self.actor.name, action, kind, key, before, after)

    def record_many(self, action: str, kind: str, notes: Sequence[tuple[str, Any]]) -> None:
        """The same for many things that are alike: (key, what each is now)."""
        changes.add_many(self.connection, self.store_id, self.now, self.actor.name, action, kind, notes)

    @property
    def country(self) -> str:
        """The store's, as it is set up; read before anything is written."""
        return self._installation.setups.get(self.store_id).setup.store.country


@contextmanager
def unit(installation: Installation, store_id: int, actor: Actor = MACHINE) -> Iterator[Work]:
    """A unit of work: committed at its end, rolled back where anything is raised in it. Its transaction begins when
    something is first read or written through its session.

    After the commit the fresh set-up is loaded at its next use, and workers are woken where the work says so.
    """
    with ExitStack() as stack:

        def begin() -> Session:
            return stack.enter_context(installation.database.writing(locks.of_store(store_id), compiles=False))

        work = Work(installation, store_id, actor, begin)
        yield work
        if work.setup_changed:
            specs.touch(work.session, store_id)
    if work.setup_changed:
        installation.setups.forget()
    if work.wakes:
        installation.notifier.notify()


def found(thing: ThingT | None, what: str) -> ThingT:
    """The thing itself. Raises NotFound where it is None; `what` names it."""
    if thing is None:
        raise NotFound(what)
    return thing
