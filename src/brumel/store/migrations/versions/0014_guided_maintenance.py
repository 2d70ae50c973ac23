"""answers given in a maintenance, where a probe was put away, what a tip measures, a person's units, a lot's parent"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    for table, column in (("maintenance", "answers"), ("users", "units")):
        op.add_column(table, sa.Column(column, JSONB(), nullable=False, server_default="{}"))
        op.alter_column(table, column, server_default=None)
    op.add_column("probes", sa.Column("measures", sa.String(), nullable=False, server_default=""))
    op.execute("update probes set measures = 'free' where quantity = 'chlorine'")
    op.alter_column("probes", "measures", server_default=None)
    op.add_column("lots", sa.Column("parent_id", sa.Uuid(), sa.ForeignKey("lots.id"), nullable=True))
    op.create_table(
        "storage_records",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("probe_id", sa.Uuid(), sa.ForeignKey("probes.id"), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("storage_records_by_probe", "storage_records", ["probe_id", "at"])
    op.execute(
        "create trigger evidence before update or delete on storage_records for each row execute function evidence_stays()"
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
