"""Runs the migrations on the connection that anaxis.store.database hands over."""

from alembic import context

from anaxis.store import exchange, hooks, people  # noqa: F401  (their tables)
from anaxis.store.base import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
