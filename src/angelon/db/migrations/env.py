"""Run by Alembic, on the connection that it is handed."""

from alembic import context
from sqlmodel import SQLModel

from angelon.db import tables  # noqa: F401 - registers the tables

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=SQLModel.metadata, render_as_batch=True, compare_type=False)
with context.begin_transaction():
    context.run_migrations()
