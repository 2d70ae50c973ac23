"""visits are found by time, site and what was odd about their readings"""

from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.create_index("visits_by_time", "visits", ["at", "id"])
    # Few readings are odd, or have a reason: they are found without a walk through all the others.
    op.execute("create index readings_beyond on readings (visit_id) where outcome = 'exceeded'")
    op.execute("create index readings_flagged on readings (visit_id) where flag > 2")
    op.execute("create index readings_reasoned on readings (visit_id) where reason <> ''")
    op.execute("create index readings_backed on readings (backing, visit_id) where backing <> 'bracketed'")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
