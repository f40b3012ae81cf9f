"""Write a migration from the difference between the tables and a freshly migrated database.

scripts/migration.py "what changed"
"""

import sys
import tempfile
from pathlib import Path

import alembic.command
import alembic.config

from restless_tide.records.database import Database

with tempfile.TemporaryDirectory() as folder:
    database = Database(Path(folder) / "desk.sqlite")
    database.migrate()
    config = alembic.config.Config()
    config.set_main_option("script_location", "src/restless_tide/records/migrations")
    config.set_main_option("file_template", "%%(rev)s_%%(slug)s")
    existing = len(list(Path("src/restless_tide/records/migrations/versions").glob("0*.py")))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.revision(config, sys.argv[1], autogenerate=True, rev_id=f"{existing + 1:04d}")
