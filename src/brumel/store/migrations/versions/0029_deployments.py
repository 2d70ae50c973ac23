"""deployments: a logger planned, set out, visited, lifted; its files and values, corrections, marks, feed and alarms"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0029"
down_revision = "0028"

EVIDENCE = (
    "deployment_channels",
    "deployment_steps",
    "deployment_services",
    "deployment_files",
    "deployment_intakes",
    "deployment_file_ends",
    "deployment_blocks",
    "deployment_corrections",
    "deployment_marks",
    "deployment_mark_ends",
    "deployment_records",
)


def _when(name: str, *, nullable: bool = False) -> sa.Column:
    return sa.Column(name, TIMESTAMP(timezone=True), nullable=nullable)


def _of(name: str, table: str, *, nullable: bool = False, primary_key: bool = False, index: bool = False) -> sa.Column:
    if primary_key:
        return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id"), primary_key=True)
    return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id"), nullable=nullable, index=index)


def _key() -> sa.Column:
    return sa.Column("id", sa.Uuid(), primary_key=True)


def _text(name: str) -> sa.Column:
    return sa.Column(name, sa.String(), nullable=False)


def upgrade() -> None:
    _plan()
    _record()
    _made_of_it()
    for table in EVIDENCE:
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )
        op.execute(
            f"create trigger evidence_whole before truncate on {table} for each statement execute function evidence_stays()"
        )


def _plan() -> None:
    op.create_table(
        "deployments",
        _key(),
        _of("site_id", "sites", index=True),
        _of("meter_id", "meters", index=True),
        _text("name"),
        sa.Column("depth_m", sa.Float(), nullable=True),
        sa.Column("interval_s", sa.Float(), nullable=False),
        sa.Column("memory_records", sa.Float(), nullable=True),
        sa.Column("battery_days", sa.Float(), nullable=True),
        _when("planned_start"),
        _when("planned_end"),
        sa.Column("oxygen_set", JSONB(), nullable=False),
        _text("note"),
        _text("state"),
        _when("next_at", nullable=True),
        sa.Column("next_words", JSONB(), nullable=False),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_channels",
        _key(),
        _of("deployment_id", "deployments", index=True),
        sa.Column("place", sa.SmallInteger(), nullable=False),
        _text("quantity"),
        _text("unit"),
        _of("probe_id", "probes", nullable=True),
        sa.UniqueConstraint("deployment_id", "quantity", name="deployment_channels_one_quantity"),
        sa.UniqueConstraint("deployment_id", "place", name="deployment_channels_one_place"),
    )
    op.create_table(
        "deployment_steps",
        _key(),
        _of("deployment_id", "deployments"),
        _text("kind"),
        _when("at"),
        sa.Column("body", JSONB(), nullable=False),
        _when("written_at"),
        _of("by_id", "users"),
        sa.UniqueConstraint("deployment_id", "kind", name="deployment_steps_once"),
        sa.CheckConstraint(
            "kind in ('configured', 'started', 'confirmed', 'lifted', 'cancelled')", name="deployment_steps_kind"
        ),
    )
    op.create_table(
        "deployment_services",
        _key(),
        sa.Column("root_id", sa.Uuid(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        _of("deployment_id", "deployments", index=True),
        _of("visit_id", "visits", nullable=True),
        _when("at"),
        sa.Column("body", JSONB(), nullable=False),
        _text("reason"),
        _when("written_at"),
        _of("by_id", "users"),
        sa.UniqueConstraint("root_id", "version", name="deployment_services_one_version"),
    )


def _record() -> None:
    op.create_table(
        "deployment_files",
        _key(),
        _of("deployment_id", "deployments", index=True),
        _text("name"),
        _text("sha256"),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_intakes",
        _of("file_id", "deployment_files", primary_key=True),
        sa.Column("shape", JSONB(), nullable=False),
        sa.Column("clock", JSONB(), nullable=False),
        sa.Column("told", JSONB(), nullable=False),
        _when("starts"),
        _when("ends"),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_file_ends",
        _of("file_id", "deployment_files", primary_key=True),
        _text("reason"),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_blocks",
        _of("file_id", "deployment_files", primary_key=True),
        _of("channel_id", "deployment_channels", primary_key=True),
        sa.Column("number", sa.Integer(), primary_key=True),
        _when("starts"),
        _when("ends"),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("odd", sa.Integer(), nullable=False),
        sa.Column("low", sa.Float(), nullable=True),
        sa.Column("high", sa.Float(), nullable=True),
        sa.Column("parts", sa.LargeBinary(), nullable=False),
        sa.Column("samples", sa.LargeBinary(), nullable=False),
    )
    op.create_index("deployment_blocks_by_time", "deployment_blocks", ["channel_id", "starts"])
    # Packed floats do not shrink; trying to costs more than the values.
    op.execute("alter table deployment_blocks alter samples set storage external, alter parts set storage external")
    op.create_table(
        "deployment_records",
        _of("deployment_id", "deployments", primary_key=True),
        sa.Column("at", TIMESTAMP(timezone=True), primary_key=True),
        sa.Column("values", sa.ARRAY(sa.Float()), nullable=False),
        _when("came_at"),
    )


def _made_of_it() -> None:
    op.create_table(
        "deployment_corrections",
        _key(),
        _of("channel_id", "deployment_channels"),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("body", JSONB(), nullable=False),
        _text("reason"),
        _text("signed_name"),
        _when("at"),
        _of("by_id", "users"),
        sa.UniqueConstraint("channel_id", "version", name="deployment_corrections_one_version"),
    )
    op.create_table(
        "deployment_marks",
        _key(),
        _of("channel_id", "deployment_channels", index=True),
        _when("starts"),
        _when("ends"),
        sa.Column("flag", sa.SmallInteger(), nullable=False),
        _text("words"),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_mark_ends",
        _of("mark_id", "deployment_marks", primary_key=True),
        _text("reason"),
        _when("at"),
        _of("by_id", "users"),
    )
    op.create_table(
        "deployment_alarms",
        _key(),
        _of("deployment_id", "deployments"),
        _of("channel_id", "deployment_channels", nullable=True),
        _text("kind"),
        _when("at"),
        sa.Column("words", JSONB(), nullable=False),
        _when("seen_at", nullable=True),
        _of("seen_by_id", "users", nullable=True),
        _when("ended_at", nullable=True),
    )
    op.create_index(
        "deployment_alarms_one_open",
        "deployment_alarms",
        ["deployment_id", sa.text("coalesce(channel_id, deployment_id)"), "kind"],
        unique=True,
        postgresql_where=sa.text("ended_at is null"),
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
