"""How PostgreSQL is connected to."""

import pytest
from sqlalchemy import event
from sqlalchemy.exc import ArgumentError

from angelon.db import servers


@pytest.mark.parametrize(
    ("query", "prepares", "options", "listens_at"),
    [
        ("", True, True, "db:5432"),
        ("?pooler=session", True, False, "db:5432"),
        ("?pooler=transaction", False, False, None),
        ("?pooler=transaction&direct=server:6000", False, False, "server:6000"),
        ("?sslmode=verify-full&pooler=transaction&direct=server:6000", False, False, "server:6000"),
    ],
)
def test_a_pooler_is_told_apart_from_the_server(query, prepares, options, listens_at):
    engine, at = servers.engine_of(f"postgresql+psycopg://user:secret@db:5432/angelon{query}")
    _, given = engine.dialect.create_connect_args(engine.url)
    assert not set(given) & {"pooler", "direct"}
    assert ("sslmode" in given) == ("sslmode" in query)
    asked = {}

    @event.listens_for(engine, "do_connect")
    def keep(dialect, record, arguments, named):
        asked.update(named)
        raise RuntimeError("nobody is there")

    with pytest.raises(RuntimeError):
        engine.connect()
    assert ("options" in asked) == options
    assert ("prepare_threshold" not in asked) == prepares
    assert (at and f"{at.host}:{at.port}") == listens_at


@pytest.mark.parametrize("query", ["?pooler=statement", "?pooler=session&direct=server", "?direct=:5432"])
def test_a_pooler_that_is_none_is_refused(query):
    with pytest.raises(ArgumentError, match="pooler is session or transaction, direct is HOST:PORT"):
        servers.engine_of(f"postgresql+psycopg://user@db/angelon{query}")
