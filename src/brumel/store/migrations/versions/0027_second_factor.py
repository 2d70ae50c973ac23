"""a second factor, and codes for a lost device"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0027"
down_revision = "0026"


def upgrade() -> None:
    op.add_column("users", sa.Column("totp_secret", sa.String(), nullable=False, server_default=""))
    op.add_column("users", sa.Column("totp_step", sa.BigInteger(), nullable=False, server_default="0"))
    op.alter_column("users", "totp_secret", server_default=None)
    op.alter_column("users", "totp_step", server_default=None)
    op.create_table(
        "recovery_codes",
        sa.Column("token_hash", sa.String(), primary_key=True),
        sa.Column("user_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False, index=True),
        sa.Column("used_at", TIMESTAMP(timezone=True)),
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
