"""how a round is gone: minutes at its sites, speed between them, the way there and home"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    for name, usual in (("site_min", "20"), ("speed_kmh", "40"), ("way_min", "20")):
        op.add_column("rounds", sa.Column(name, sa.Float(), nullable=False, server_default=usual))
        op.alter_column("rounds", name, server_default=None)
    op.add_column("rounds", sa.Column("between_min", sa.Float(), nullable=True))


def downgrade() -> None:
    for name in ("between_min", "way_min", "speed_kmh", "site_min"):
        op.drop_column("rounds", name)
