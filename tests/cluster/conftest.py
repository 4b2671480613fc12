"""A PostgreSQL for the tests of this folder, whatever the others run on."""

import tempfile
from pathlib import Path

import pytest

from angelon.db.database import Database
from cluster.postgresql import Server


@pytest.fixture(scope="session")
def server():
    """Durable, as in use: some of these tests kill it."""
    made = Server(Path(tempfile.mkdtemp(prefix="angelon-cluster-")))
    made.start()
    migrated = Database(made.create("migrated"))
    migrated.migrate()
    migrated.close()
    yield made
    made.stop()
