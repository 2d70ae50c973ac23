"""what was brought in from tables; such readings may have no temperature on record, and wait for no signature"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0022"
down_revision = "0021"


def upgrade() -> None:
    op.alter_column("readings", "temperature_c", nullable=True)
    op.create_check_constraint(
        "readings_temperature", "readings", "temperature_c is not null or entered_as = 'imported'"
    )
    op.execute(
        """
        create or replace function reading_waits() returns trigger language plpgsql as $$
        begin
            delete from unsigned using readings r
                where unsigned.reading_id = r.id and r.root_id = new.root_id and r.version < new.version;
            if not new.struck and new.entered_as <> 'imported' then
                insert into unsigned values (new.id);
            end if;
            return null;
        end $$
        """
    )
    op.create_table(
        "imports",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("number", sa.Integer(), sa.Identity(start=1), nullable=False, unique=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("file_name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        sa.Column("mapping", JSONB(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("counts", JSONB(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
        sa.Column("written_at", TIMESTAMP(timezone=True), nullable=True),
        sa.Column("taken_back_at", TIMESTAMP(timezone=True), nullable=True),
        sa.Column("reason", sa.String(), nullable=False, server_default=""),
        sa.CheckConstraint("state in ('open', 'written', 'taken back', 'dropped')", name="imports_state"),
    )
    op.create_table(
        "imported_rows",
        sa.Column("import_id", sa.Uuid(), sa.ForeignKey("imports.id"), primary_key=True),
        sa.Column("thing_id", sa.Uuid(), primary_key=True),
        sa.Column("thing", sa.String(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
    )
    op.execute(
        "create trigger evidence before update or delete on imported_rows for each row execute function evidence_stays()"
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
