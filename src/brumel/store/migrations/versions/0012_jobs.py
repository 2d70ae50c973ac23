"""long work as jobs, and the channel on which a new one is announced"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0012"
down_revision = "0011"

TIME = TIMESTAMP(timezone=True)


def upgrade() -> None:
    op.create_table(
        "jobs",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("asked", JSONB(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
        sa.Column("asked_at", TIME, nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("of", sa.Integer(), nullable=False),
        sa.Column("seen_at", TIME),
        sa.Column("ended_at", TIME),
        sa.Column("fault", sa.String(), nullable=False),
        sa.CheckConstraint("state in ('waiting', 'running', 'done', 'failed', 'cancelled')", name="job_state"),
    )  # fmt: skip
    op.create_index("ix_jobs_by_id", "jobs", ["by_id"])
    op.execute("create index ix_jobs_open on jobs (asked_at) where state in ('waiting', 'running')")
    op.create_table(
        "job_files",
        sa.Column("job_id", sa.Uuid(), sa.ForeignKey("jobs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
    )
    op.execute(
        """
        create function job_tells() returns trigger language plpgsql as $$
        begin
            perform pg_notify('brumel_jobs', new.id::text);
            return null;
        end $$
        """
    )
    op.execute(
        "create trigger tells after insert or update of state on jobs for each row "
        "when (new.state = 'waiting') execute function job_tells()"
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
