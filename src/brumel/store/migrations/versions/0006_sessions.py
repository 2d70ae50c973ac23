"""sign-ins: a row a session, so that signing out ends it and a change of network does not"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0006"
down_revision = "0005"

TIME = TIMESTAMP(timezone=True)


def upgrade() -> None:
    op.create_table(
        "sign_ins",
        sa.Column("token_hash", sa.String(), primary_key=True),
        sa.Column("user_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
        sa.Column("stamp", sa.String(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("seen_at", TIME, nullable=False),
        sa.Column("ended_at", TIME),
    )  # fmt: skip
    op.create_index("ix_sign_ins_user_id", "sign_ins", ["user_id"])


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
