"""Alembic's entry: online only, one transaction for the whole upgrade."""

from alembic import context
from sqlalchemy import create_engine, text

from brumel.store.tables import Base

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata)
    with context.begin_transaction():
        # Two servers starting at once take turns.
        connection.execute(text("select pg_advisory_xact_lock(72011)"))
        context.run_migrations()
engine.dispose()
