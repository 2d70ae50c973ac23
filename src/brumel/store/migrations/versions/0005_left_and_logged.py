"""left and logged: what is left of solutions and spares, settings looked through before a round, a logger's checks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0005"
down_revision = "0004"

TIME = TIMESTAMP(timezone=True)


def _id():
    return sa.Column("id", sa.Uuid(), primary_key=True)


def _to(name, table, nullable=False):
    return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id"), nullable=nullable)


def _at():
    return sa.Column("at", TIME, nullable=False)


def _json(name):
    return sa.Column(name, JSONB(), nullable=False, server_default="{}")


def _words(name):
    return sa.Column(name, sa.String(), nullable=False, server_default="")


def upgrade() -> None:
    op.create_table(
        "counts", _id(), _to("lot_id", "lots", nullable=True), _words("spare"),
        sa.Column("amount", sa.Float(), nullable=False), _words("reason"), _at(), _to("by_id", "users"),
        sa.CheckConstraint("(lot_id is null) <> (spare = '')", name="counts_of_one_thing"),
    )  # fmt: skip
    op.create_index("counts_by_lot", "counts", ["lot_id", "at"])
    op.create_index("counts_by_spare", "counts", ["spare", "at"])
    op.create_index("points_by_lot", "points", ["lot_id", "at"])
    op.add_column("outings", _json("settings"))
    op.create_table(
        "log_services", _id(), _to("log_id", "logs"), _at(), _json("body"), _words("sentence"), _to("by_id", "users")
    )
    op.create_index("log_services_by_log", "log_services", ["log_id", "at"])
    op.create_table(
        "log_rulings", _id(), _to("log_id", "logs"), sa.Column("version", sa.Integer(), nullable=False),
        _to("service_id", "log_services", nullable=True), _words("decision"), _json("effect"), _words("reason"),
        _words("signed_name"), _at(), _to("by_id", "users"), sa.UniqueConstraint("log_id", "version"),
    )  # fmt: skip
    for table in ("counts", "log_services", "log_rulings"):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
