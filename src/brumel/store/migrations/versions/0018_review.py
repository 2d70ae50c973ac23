"""what was signed at once, and questions about a visit that go back to whoever read it"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    op.create_table(
        "signings",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("number", sa.Integer(), sa.Identity(start=1), nullable=False, unique=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("subject", sa.Uuid(), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.add_column("signatures", sa.Column("signing_id", sa.Uuid(), sa.ForeignKey("signings.id"), nullable=True))
    op.create_index("ix_signatures_signing_id", "signatures", ["signing_id"])
    op.create_table(
        "visit_questions",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("visit_id", sa.Uuid(), sa.ForeignKey("visits.id"), nullable=False),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("ix_visit_questions_visit_id", "visit_questions", ["visit_id"])
    op.create_table(
        "visit_answers",
        sa.Column("question_id", sa.Uuid(), sa.ForeignKey("visit_questions.id"), primary_key=True),
        sa.Column("answer", sa.String(), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    for table in ("signings", "visit_questions", "visit_answers"):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
