"""the zone by whose clock a practice's pages run, and the day on which its week begins"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"


def upgrade() -> None:
    op.add_column("letterheads", sa.Column("zone", sa.String(), nullable=False, server_default=""))
    op.add_column("letterheads", sa.Column("first_day", sa.String(), nullable=False, server_default="MO"))


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
