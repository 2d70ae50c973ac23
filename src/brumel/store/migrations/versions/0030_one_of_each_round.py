"""A round's name is there once among those that are gone."""

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"


def upgrade() -> None:
    twice = "select name from rounds where retired_at is null group by name having count(*) > 1 limit 1"
    if (name := op.get_bind().scalar(sa.text(twice))) is not None:
        raise RuntimeError(
            f"Two rounds are called “{name}”. Rename or retire one with the version of before, then migrate."
        )
    op.create_index("rounds_one_name", "rounds", ["name"], unique=True, postgresql_where=sa.text("retired_at is null"))


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
