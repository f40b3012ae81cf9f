"""Alembic's entrance: the connection comes from Database.migrate."""

from alembic import context

from restless_tide.records import tables  # noqa: F401  (registers the tables)
from restless_tide.records.columns import Base

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=Base.metadata,
    render_as_batch=True,
    user_module_prefix="columns.",
)
with context.begin_transaction():
    context.run_migrations()
