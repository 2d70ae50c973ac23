"""letterheads and issued documents"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    op.create_table(
        "letterheads",
        sa.Column("version", sa.Integer(), sa.Identity(start=1), primary_key=True),
        *(sa.Column(name, sa.String(), nullable=False) for name in ("name", "address", "prefix", "paper", "dates")),
        sa.Column("units", JSONB(), nullable=False),
        sa.Column("picture", sa.LargeBinary(), nullable=True),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_table(
        "documents",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("number", sa.Integer(), sa.Identity(start=1), nullable=False, unique=True),
        *(sa.Column(name, sa.String(), nullable=False) for name in ("kind", "title", "label")),
        sa.Column("client_id", sa.Uuid(), sa.ForeignKey("clients.id"), nullable=True),
        sa.Column("subject", JSONB(), nullable=False),
        sa.Column("pages", sa.Integer(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("ix_documents_client_id", "documents", ["client_id"])
    op.create_index("documents_by_time", "documents", ["at"])
    for table in ("letterheads", "documents"):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
