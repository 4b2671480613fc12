"""The whole demo in processes of its own: for tests in the browser, and for what is measured from outside."""

from __future__ import annotations

import datetime as dt
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import structlog
from click.testing import CliRunner
from sqlalchemy import create_engine
from sqlmodel import Session, select

from angelon.cli.main import main
from angelon.core.specs import Message, Route, Source
from angelon.db.log.sends import Said
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow, SourceRow, StoreRow
from angelon.standins.box import Box
from tests import made
from tests.sql import take_question_marks


class Running:
    """The whole demo as its own processes, on ports of its own."""

    def __init__(self, home: Path, database_url: str = "") -> None:
        """`database_url` is where it stores things; in `home` where it is not given."""
        self.home = home
        self._own = {"ANGELON_HOME": str(home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
        if database_url:
            self._own |= {"ANGELON_DATABASE_URL": database_url}
        self.environment = {**os.environ, **self._own}
        self._engine = create_engine(database_url or f"sqlite:///{home}/angelon.db")
        take_question_marks(self._engine)
        self._process: subprocess.Popen | None = None
        self.url = ""

    def start(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", "angelon", "demo", "--port", "0"],
            env=self.environment,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        for line in self._process.stdout:
            if line.startswith("Angelon is ready: "):
                self.url = line.removeprefix("Angelon is ready: ").strip()
                return
        raise RuntimeError("the demo did not start")

    def stop(self) -> int:
        self._process.send_signal(signal.SIGTERM)
        return self._process.wait(30)

    def cli(self, *arguments: str, code: int = 0) -> str:
        """What a command prints: over HTTP and the demo's database as any other, in this process for speed."""
        done = CliRunner().invoke(main, arguments, env=self._own)
        structlog.reset_defaults()  # the command logs to a stream that is closed by now
        assert done.exit_code == code, done.output
        return done.output

    def rows(self, sql: str, *parameters: object) -> list[tuple]:
        """What the demo's database holds."""
        with self._engine.connect() as connection:
            return [tuple(row) for row in connection.exec_driver_sql(sql, parameters)]

    def said(self, where: str, **values: object) -> dict[str, Said]:
        """What the demo's sends said that meet a condition, by their ids, oldest first."""
        with self._engine.connect() as connection:
            return made.said(connection, where, values)

    def change(self, sql: str, *parameters: object) -> None:
        """Changes the demo's database from outside."""
        with self._engine.begin() as connection:
            connection.exec_driver_sql(sql, parameters)

    def has(self, *made: Source | Message | Route) -> None:
        """The shop gets sources, messages and routes, as if somebody had made them and put them live."""
        now = dt.datetime.now(dt.UTC)
        with Session(self._engine) as session:
            store_id = session.exec(select(StoreRow.id).order_by(StoreRow.id)).first()
            for spec in made:
                if isinstance(spec, Source):
                    specs.save_live(session, SourceRow, store_id, spec, now)
                    continue
                row = specs.save_draft(
                    session, MessageRow if isinstance(spec, Message) else RouteRow, store_id, spec, now
                )
                specs.publish(session, row, now)
                if isinstance(row, RouteRow):
                    specs.switch(session, row, True, now)
            specs.touch(session, store_id)
            session.commit()

    def mails(self, to: str = "") -> list[dict]:
        return httpx.get(f"{self.url}/standins/mail.json", params={"to": to, "limit": 1000}).json()

    def wait_for(self, found, seconds: float = 20):
        """What `found` gives as soon as it gives something."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            value = found()
            if value:
                return value
            time.sleep(0.1)
        raise AssertionError("it did not come in time")


def copied(seeded: tuple[Path, str], home: Path, server=None, name: str = "") -> str:
    """Copies a loaded demo into a new data folder; gives its database's address, which on a server is a copy, too."""
    shutil.copytree(seeded[0], home)
    box = Box(home)
    for port in ("mail_port", "provider_port"):
        box.set(port, 0)  # it may be another copy's by now
    box.engine.dispose()
    return server.create(name, "seeded") if server else seeded[1]


@contextmanager
def running(home: Path) -> Iterator[str]:
    """A demo's address; it ends with the block."""
    demo = Running(home)
    demo.start()
    try:
        yield demo.url
    finally:
        demo.stop()
