"""where a probe stands now is its newest dip, which is found without sorting all it ever had"""

from alembic import op

revision = "0034"
down_revision = "0033"


def upgrade() -> None:
    op.execute("create index dips_by_probe on dips (probe_id, number)")
    op.execute("drop index ix_dips_probe_id")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
