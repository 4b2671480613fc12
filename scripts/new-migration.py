"""Writes the next migration from what changed in the tables: `python scripts/new-migration.py "what changed"`."""

import sys
import tempfile
from pathlib import Path

from alembic import command
from alembic.config import Config

from angelon.db.database import MIGRATIONS, Database

config = Config()
config.set_main_option("script_location", str(MIGRATIONS))
with tempfile.TemporaryDirectory() as folder:
    database = Database(f"sqlite:///{folder}/new.db")
    numbers = sorted(int(f.stem[:4]) for f in (MIGRATIONS / "versions").glob("[0-9]*.py"))
    if numbers:
        database.migrate()
    with database.engine.connect() as connection, connection.begin():
        config.attributes["connection"] = connection
        number = f"{(numbers[-1] if numbers else 0) + 1:04d}"
        made = command.revision(config, sys.argv[1], autogenerate=True, rev_id=number)
        file = Path(made.path)
        text = (
            file.read_text()
            .replace("angelon.db.tables.", "tables.")
            .replace("sqlmodel.sql.sqltypes.AutoString()", "sa.Text()")
        )
        (MIGRATIONS / "versions" / f"{number}.py").write_text(text)
        file.unlink()
