"""To what a standard is traceable, as its certificate says."""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"


def upgrade() -> None:
    op.add_column("lots", sa.Column("traceable_to", sa.String(), nullable=False, server_default=""))
    op.alter_column("lots", "traceable_to", server_default=None)


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
