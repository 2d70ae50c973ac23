"""upkeep of probes, and waits of a probe's own"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column(
        "probes", sa.Column("waits", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}")
    )
    op.create_table(
        "upkeep",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("probe_id", sa.Uuid(), sa.ForeignKey("probes.id"), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("at", postgresql.TIMESTAMP(timezone=True), nullable=False),
        sa.Column("ready_at", postgresql.TIMESTAMP(timezone=True), nullable=False),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("upkeep_by_probe", "upkeep", ["probe_id", "at"])
    op.execute("create trigger evidence before update or delete on upkeep for each row execute function evidence_stays()")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
