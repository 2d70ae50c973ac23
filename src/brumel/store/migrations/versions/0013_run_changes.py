"""typed values may be struck out; a run may take another cup next, leave one out, or have a lot replaced"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "struck_values",
        sa.Column("dip_id", sa.Uuid(), sa.ForeignKey("dips.id"), primary_key=True),
        sa.Column("seq", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_table(
        "run_changes",
        sa.Column("id", sa.Integer(), sa.Identity(), primary_key=True),
        sa.Column("run_id", sa.Uuid(), sa.ForeignKey("runs.id"), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("step", sa.String(), nullable=False),
        sa.Column("lot_id", sa.Uuid(), sa.ForeignKey("lots.id"), nullable=True),
        sa.Column("value", sa.Float(), nullable=True),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("ix_run_changes_run_id", "run_changes", ["run_id"])
    for table in ("struck_values", "run_changes"):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
