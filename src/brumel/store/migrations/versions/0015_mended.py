"""readings that were struck out, and visits that were moved to their right site"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.add_column("readings", sa.Column("struck", sa.Boolean(), nullable=False, server_default="false"))
    op.alter_column("readings", "struck", server_default=None)
    # A struck version takes the place of the older ones and stands itself nowhere: no page counts it, nobody signs it.
    op.execute(
        """
        create or replace function reading_stands() returns trigger language plpgsql as $$
        begin
            if new.struck then
                delete from standing_readings where root_id = new.root_id and version < new.version;
                return null;
            end if;
            insert into standing_readings (reading_id, root_id, version) values (new.id, new.root_id, new.version)
                on conflict (root_id) do update set reading_id = excluded.reading_id, version = excluded.version
                where standing_readings.version < excluded.version;
            return null;
        end $$
        """
    )
    op.execute(
        """
        create or replace function reading_waits() returns trigger language plpgsql as $$
        begin
            delete from unsigned using readings r
                where unsigned.reading_id = r.id and r.root_id = new.root_id and r.version < new.version;
            if not new.struck then
                insert into unsigned values (new.id);
            end if;
            return null;
        end $$
        """
    )
    op.create_table(
        "visit_moves",
        sa.Column("visit_id", sa.Uuid(), sa.ForeignKey("visits.id"), primary_key=True),
        sa.Column("moved_to_id", sa.Uuid(), sa.ForeignKey("visits.id"), nullable=False, unique=True),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.execute(
        "create trigger evidence before update or delete on visit_moves for each row execute function evidence_stays()"
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
