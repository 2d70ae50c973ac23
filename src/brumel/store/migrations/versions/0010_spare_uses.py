"""spares that were used are rows, so that stock is counted from stock and not from the audit trail"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "spare_uses",
        sa.Column("id", sa.Integer(), sa.Identity(), primary_key=True),
        sa.Column("spare", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("spare_uses_by_spare", "spare_uses", ["spare", "at"])
    op.execute(
        "insert into spare_uses (spare, at, by_id) select 'battery-' || substr(subject, 7), at, user_id "
        "from audit where action = 'meter.battery'"
    )
    op.execute("create trigger evidence before update or delete on spare_uses for each row execute function evidence_stays()")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
