"""documents released to clients, and their people who may look at what is theirs"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import TIMESTAMP

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    op.execute("alter table users drop constraint if exists users_role")
    op.create_check_constraint("users_role", "users", "role in ('technician', 'lead', 'client')")
    op.add_column("users", sa.Column("client_id", sa.Uuid(), sa.ForeignKey("clients.id", use_alter=True), nullable=True))
    op.create_check_constraint("users_of_clients", "users", "(role = 'client') = (client_id is not null)")
    op.create_table(
        "releases",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("document_id", sa.Uuid(), sa.ForeignKey("documents.id"), nullable=False),
        sa.Column("token_hash", sa.String(), nullable=False, unique=True),
        sa.Column("expires_at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("ix_releases_document_id", "releases", ["document_id"])
    op.create_table(
        "release_ends",
        sa.Column("release_id", sa.Uuid(), sa.ForeignKey("releases.id"), primary_key=True),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    for table in ("releases", "release_ends"):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )
    op.create_table(
        "invitations",
        sa.Column("token_hash", sa.String(), primary_key=True),
        sa.Column("user_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
        sa.Column("expires_at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("used_at", TIMESTAMP(timezone=True), nullable=True),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False),
    )
    op.create_index("ix_invitations_user_id", "invitations", ["user_id"])


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
