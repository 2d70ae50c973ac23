"""Alembic's entry: online only, one transaction for the whole upgrade; each step is told to whoever asked."""

from typing import Any

from alembic import context
from sqlalchemy import create_engine, text

from brumel.store.tables import Base

tell = context.config.attributes.get("tell")


def told(ctx: Any, step: Any, heads: Any, run_args: Any) -> None:
    if tell:
        tell(step.up_revision_id, str(step.up_revision.doc).strip().rstrip("."))


engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata, on_version_apply=told)
    with context.begin_transaction():
        # Two servers starting at once take turns.
        connection.execute(text("select pg_advisory_xact_lock(72011)"))
        context.run_migrations()
engine.dispose()
