"""a dip is announced as it begins, so that whoever makes its samples may wait for it instead of looking"""

from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.execute(
        """
        create function dip_tells() returns trigger language plpgsql as $$
        begin
            perform pg_notify('brumel_samples', new.probe_id::text);
            return null;
        end $$
        """
    )
    op.execute("create trigger tells after insert on dips for each row execute function dip_tells()")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
