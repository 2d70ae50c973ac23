"""which version of a reading stands: a pointer a root, kept right by the database as versions are written"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.create_table(
        "standing_readings",
        sa.Column("reading_id", sa.Uuid(), sa.ForeignKey("readings.id"), primary_key=True),
        sa.Column("root_id", sa.Uuid(), nullable=False, unique=True),
        sa.Column("version", sa.Integer(), nullable=False),
    )
    op.execute(
        "insert into standing_readings (reading_id, root_id, version) "
        "select distinct on (root_id) id, root_id, version from readings order by root_id, version desc"
    )
    op.execute(
        """
        create function reading_stands() returns trigger language plpgsql as $$
        begin
            insert into standing_readings (reading_id, root_id, version) values (new.id, new.root_id, new.version)
                on conflict (root_id) do update set reading_id = excluded.reading_id, version = excluded.version
                where standing_readings.version < excluded.version;
            return null;
        end $$
        """
    )
    op.execute("analyze standing_readings")
    op.execute("create trigger stands after insert on readings for each row execute function reading_stands()")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
