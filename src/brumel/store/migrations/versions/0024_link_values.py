"""which of a sensor's values on the link are a probe's signal and temperature, and by which command they are asked for"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0024"
down_revision = "0023"


def upgrade() -> None:
    op.add_column("probes", sa.Column("link_values", JSONB(), nullable=False, server_default="{}"))


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
