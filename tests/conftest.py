"""What tests start from: a data folder of their own, a small store in it, and the application over it."""

from __future__ import annotations

import collections
import dataclasses
import datetime as dt
import fcntl
import functools
import gc
import hashlib
import itertools
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import orjson
import pytest
import zstandard
from argon2 import PasswordHasher
from hypothesis import settings as hypothesis_settings
from jinja2 import FileSystemBytecodeCache
from sqlalchemy import Engine, event
from werkzeug.local import LocalProxy

from angelon.cli.serving import free_port
from angelon.core.specs import Bundle
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import bundles, specs
from angelon.db.tables.packed import json_of, with_traces
from angelon.demo import load
from angelon.engine.clock import Clock
from angelon.engine.followers import indexing
from angelon.engine.operations import accounts
from angelon.engine.planner import Planner
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.settings import Settings
from angelon.standins.box import Box
from angelon.standins.mailbox import Mailbox
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from cluster.postgresql import temporary
from tests import made, scans
from tests.demos import Running, copied
from tests.object_store import object_store
from tests.sql import take_question_marks

hypothesis_settings.register_profile("busy", deadline=None)  # how long an example takes says how busy the machine is
hypothesis_settings.load_profile("busy")
gc.set_threshold(20_000, 20, 50)  # a long session holds much that is never garbage


def pytest_addoption(parser):
    parser.addoption("--fuzz-seeds", type=int, default=0, help="run the long fuzz with so many seeds (make proof)")


LONGEST_FIRST = (
    *("browser/test_every_page", "browser/test_messages", "browser/test_right_person", "browser/test_sends"),
    *("browser/test_from_nothing", "browser/test_first_mail", "browser/test_routes", "browser/test_mapping"),
    *("web/test_server", "engine/test_processes", "engine/test_crash", "engine/test_poison", "test_proofs_short"),
    *("cli/test_commands", "engine/test_handlers", "gateways/test_misbehaving", "web/test_access", "web/test_fuzz"),
    *("web/test_look_ups", "web/test_every_name", "web/test_second_step", "core/test_steps", "engine/test_channels"),
)
"""Files that take long: begun first, so that the two cores end at the same time (each file stays on one)."""


ESSENTIAL = ("test_from_nothing",)
"""The browser's tests that `make test` runs; the others are long."""
LONG = {
    "core/test_sheets.py": ("many_rows", "bombs"),
    "core/test_timing.py": ("laws_hold",),
    "engine/test_crash.py": ("",),
    "engine/test_document_files.py": ("two_hundred",),
    "engine/test_document_numbers.py": ("killed",),
    "engine/test_processes.py": ("",),
    "engine/test_turns.py": ("all_goes_as_it_came",),
    "engine/test_waiting.py": ("late_answers",),
    "test_proofs_short.py": ("",),
    "web/test_api.py": ("whatever_is_asked",),
    "web/test_fuzz.py": ("",),
    "web/test_masks.py": ("",),
    "web/test_server.py": ("",),
    "engine/test_poison.py": ("",),
    "engine/test_rehearsal_is_reality.py": ("falls_back_to", "guards_hold"),
    "web/test_statements.py": ("as_a_store_grows",),
    "cli/test_commands.py": ("byte_stable", "into_a_folder"),
}
"""Words in the names of tests that take long, beside those that use a running demo: they prove at length what others
try in short, and are run by CI and by `make test-long`.
"""


def is_long(item) -> bool:
    file = item.location[0].removeprefix("tests/")
    if "running" in item.fixturenames:
        return True  # a demo of its own is started for it
    if file.startswith("browser/"):
        return not file.removeprefix("browser/").startswith(ESSENTIAL)
    return any(word in item.name for word in LONG.get(file, ()))


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    for item in items:
        if is_long(item):
            item.add_marker("long")
    place = {f"tests/{name}.py": number for number, name in enumerate(LONGEST_FIRST)}
    for item in items:
        if ON_POSTGRESQL and item.get_closest_marker("sqlite"):
            item.add_marker(pytest.mark.skip("of SQLite alone"))
    items.sort(key=lambda item: place.get(item.location[0], len(place)))


def pytest_generate_tests(metafunc):
    if "fuzz_seed" in metafunc.fixturenames:
        long = metafunc.config.getoption("--fuzz-seeds")
        metafunc.parametrize("fuzz_seed", range(100, 100 + long) if long else [1])


@pytest.fixture(scope="session", autouse=True)
def quick_passwords():
    """Passwords are hashed as cheaply as Argon2id can: as they are in use, it takes a seventh of a second each."""
    in_use = accounts.HASHER
    accounts.HASHER = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    yield in_use
    accounts.HASHER = in_use


@pytest.fixture(scope="session")
def migrated(tmp_path_factory) -> Path:
    """A migrated, empty database: copied for each test, which takes a thousandth of migrating anew."""
    file = tmp_path_factory.mktemp("migrated") / "angelon.db"
    database = Database(f"sqlite:///{file}")
    database.migrate()
    database.close()
    with sqlite3.connect(file) as plain:
        plain.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    return file


ON_POSTGRESQL = os.environ.get("TEST_ON") == "postgresql"
"""Whether the tests of a bench run on PostgreSQL (make test-postgresql)."""


@pytest.fixture(scope="session")
def postgresql(tmp_path_factory):
    """A server for the session (for each worker of xdist) with a migrated, empty database to copy; None on SQLite."""
    if not ON_POSTGRESQL:
        yield None
        return
    with temporary(Path(tempfile.mkdtemp(prefix="angelon-postgresql-"))) as server:
        database = Database(server.create("migrated"))
        database.migrate()
        with database.connection() as connection:  # tests ask for rows in the order in which they were stored
            for table in ("send", "event", "delivery", "attempt", "content", "suppression", '"order"', "contact"):
                connection.exec_driver_sql(f"ALTER TABLE {table} ADD COLUMN rowid bigserial")
        database.close()
        yield server


_NAMES = itertools.count(1)


@pytest.fixture(scope="session")
def compiled_templates(tmp_path_factory) -> FileSystemBytecodeCache:
    return FileSystemBytecodeCache(str(tmp_path_factory.mktemp("templates")))


def _is_packed(value) -> bool:
    return (isinstance(value, bytes) and value[:1] in (b"\x01", b"\x02")) or (
        isinstance(value, str) and value.startswith("[{") and '{"packed":"' in value
    )


def _unpacked(value):
    if not _is_packed(value):
        return value
    if isinstance(value, str):
        return orjson.dumps(with_traces(orjson.loads(value))).decode()
    try:
        return json_of(value).decode()
    except zstandard.ZstdError:  # some other bytes that begin alike
        return value


@dataclasses.dataclass
class Bench:
    """A store in a database of its own, with everything that works on it, and a clock that can be set."""

    home: Path
    settings: Settings
    services: services.Services
    database: Database
    vault: Vault
    clock: Clock
    store_id: int

    @functools.cached_property
    def box(self) -> Box:
        """What the stand-ins have taken."""
        return Box(self.home)

    def deliver(self, body: bytes, key: str = "shop", **headers: str):
        """One delivery to a source, as the web process takes it."""
        kept = {"content-type": "application/json", "store-event": "placed"} | {
            k.replace("_", "-"): v for k, v in headers.items()
        }
        return self.services.intake.receive(key, "POST", kept, body, len(body), {}, "127.0.0.1")

    def plan(self) -> int:
        """Plans all that waits; gives how many sends came of it."""
        planner, made_ = Planner(self.database, self.services.setups, self.clock), 0
        while True:
            planned, came = planner.run_batch()
            made_ += came
            if not planned:
                indexing.follow(self.database)
                return made_

    def dispatcher(self, name: str = "test-0") -> Dispatcher:
        return Dispatcher(name, self.database, self.services.setups, self.vault, self.clock)

    def change(self, spec, table) -> None:
        with self.database.writing() as session:
            specs.save_live(session, table, self.store_id, spec, self.clock.now())
        self.services.setups.forget()

    def said(self, where: str = "true", **values):
        """What the sends said that meet a condition, oldest first."""
        with self.database.engine.connect() as connection:
            return list(made.said(connection, where, values).values())

    def rows(self, sql: str, *parameters):
        """What a statement gives, packed JSON as its text."""
        with self.database.engine.connect() as connection:
            done = connection.exec_driver_sql(sql, parameters)
            found, names = done.fetchall(), list(done.keys())
        if not any(_is_packed(value) for row in found for value in row):
            return found
        made_of = collections.namedtuple("Row", names, rename=True)
        return [made_of(*map(_unpacked, row)) for row in found]


@pytest.fixture
def bundle() -> Bundle:
    return made.bundle()


_FIRST: dict[str, Engine] = {}


def _share_compiled(engine: Engine) -> None:
    """Statements are compiled once for all benches: by the first engine's dialect, into its cache."""
    first = _FIRST.setdefault(engine.dialect.name, engine)
    if first.dialect.dbapi is not None:
        engine.dialect, engine._compiled_cache = first.dialect, first._compiled_cache


_FILLED: dict[tuple[str, int], Path | str] = {}


def _filled(bundle: Bundle, migrated: Path, server) -> Path | str:
    """A database to copy in which a bundle is applied, once for all: a file, or its name on the server."""
    key = hashlib.sha256(bundle.model_dump_json().encode()).hexdigest(), server.port if server else 0
    if key not in _FILLED:
        name = f"filled{next(_NAMES)}"
        file = migrated.with_name(f"{name}.db")
        if server:
            database = Database(server.create(name, "migrated"))
        else:
            shutil.copyfile(migrated, file)
            database = Database(f"sqlite:///{file}")
        with database.writing() as session:
            bundles.apply(session, bundle, dt.datetime.now(dt.UTC) - dt.timedelta(days=1))
        database.close()
        if not server:
            with sqlite3.connect(file) as plain:
                plain.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        _FILLED[key] = name if server else file
    return _FILLED[key]


@contextmanager
def bench_in(home: Path, bundle: Bundle, migrated: Path, durable: bool = False, server=None) -> Iterator[Bench]:
    """A bench in a data folder of its own; what it writes survives a loss of power only where it is `durable`. With a
    `server` it stands in a database of that.
    """
    name = f"bench{next(_NAMES)}"
    filled = _filled(bundle, migrated, server)
    url = server.create(name, filled) if server else ""
    settings = Settings(home=home, secret_key="a-key-for-tests-only", database_url=url)
    settings.home.mkdir(mode=0o700)
    if not server:
        shutil.copyfile(filled, settings.home / "angelon.db")
    clock = Clock()
    database = Database(settings.url)
    _share_compiled(database.engine)
    if server:
        os.environ["ANGELON_DATABASE_URL"] = url  # for the commands that a test starts
        take_question_marks(database.engine)
    elif not durable:
        event.listen(
            database.engine, "connect", lambda connection, _: connection.execute("PRAGMA synchronous=OFF").close()
        )
    serving = services.make(settings, database, clock)
    goes_through = [] if server else scans.watch(database.engine)
    with database.reading() as session:
        store_id = specs.stores(session)[0].id
    yield Bench(settings.home, settings, serving, database, serving.vault, clock, store_id)
    assert not goes_through, "\n".join(
        ["All rows of a table that grows are gone through (tests/scans.py):", *goes_through]
    )
    serving.writer.close()
    database.close()
    if server:
        os.environ.pop("ANGELON_DATABASE_URL", None)
        server.drop(name)


@pytest.fixture
def bench(
    tmp_path: Path, bundle: Bundle, migrated: Path, request: pytest.FixtureRequest, postgresql
) -> Iterator[Bench]:
    durable = request.node.get_closest_marker("durable") is not None  # no test but these pulls the plug
    with bench_in(tmp_path / "home", bundle, migrated, durable, postgresql) as made_bench:
        yield made_bench


@pytest.fixture(scope="session")
def application(tmp_path_factory, migrated: Path, compiled_templates: FileSystemBytecodeCache):
    """One application for all tests: putting it together takes longer than most of them."""
    settings = Settings(home=tmp_path_factory.mktemp("application"), secret_key="a-key-for-tests-only")
    database = Database(f"sqlite:///{migrated}")
    serving = services.make(settings, database, Clock())
    app = create_app(serving, [standins])
    app.jinja_env.bytecode_cache = compiled_templates
    serving.writer.close()
    database.close()
    return app


@pytest.fixture
def client(bench: Bench, application):
    """A browser without scripts at this bench's pages."""
    for name in [name for name in application.extensions if name.startswith("angelon")]:
        del application.extensions[name]  # what another bench's pages have kept
    application.extensions |= {"angelon": bench.services, "angelon.standins": LocalProxy(lambda: bench.box)}
    application.wsgi_app.intake = bench.services.intake
    application.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
    return application.test_client()


@pytest.fixture
def mailbox(bench: Bench):
    """A running mailbox, and the store's gateway pointed at it."""
    server = Mailbox(bench.box)
    server.start()
    from angelon.db.tables import GatewayRow

    bench.change(
        made.gateway(server.port, timeout_seconds=2, retry={"base_seconds": 0.2, "cap_seconds": 0.4}), GatewayRow
    )
    yield server
    server.stop()


@pytest.fixture
def store(monkeypatch):
    """An object store (S3's protocol), its objects and its address."""
    for name, value in (
        ("AWS_ACCESS_KEY_ID", "made-up"),
        ("AWS_SECRET_ACCESS_KEY", "made-up"),
        ("AWS_EC2_METADATA_DISABLED", "true"),
    ):
        monkeypatch.setenv(name, value)
    with object_store() as server:
        yield server


@pytest.fixture(scope="session")
def seeded(tmp_path_factory, postgresql) -> tuple[Path, str]:
    """A data folder in which the demo is loaded, and its database's address; on SQLite one for all of xdist's workers,
    on PostgreSQL one for each.
    """
    shared = tmp_path_factory.getbasetemp()
    shared = shared if postgresql or "PYTEST_XDIST_WORKER" not in os.environ else shared.parent
    home, url = shared / "seeded", postgresql.create("seeded") if postgresql else ""
    with (shared / "seeding").open("w") as turn:
        fcntl.flock(turn, fcntl.LOCK_EX)
        if not (home / "standins.db").exists():
            settings = Settings(home=home, secret_key="a-key-for-tests-only", database_url=url)
            database = Database(settings.url)
            database.migrate()
            load.prepare(database, settings, 8080, free_port)
            database.close()
    return home, url


@pytest.fixture(scope="session")
def running(tmp_path_factory, seeded, postgresql):
    mine = tmp_path_factory.mktemp("demo") / "home"
    app = Running(mine, copied(seeded, mine, postgresql, "demo"))
    app.start()
    yield app
    assert app.stop() == 0
