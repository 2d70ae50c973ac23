"""every quantity: signals instead of millivolts, what solutions measure, settings, inspections, sittings, methods, links"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0003"
down_revision = "0002"

TIME = TIMESTAMP(timezone=True)


def _json(name, default="{}"):
    return sa.Column(name, JSONB(), nullable=False, server_default=default)


def _words(name, default=""):
    return sa.Column(name, sa.String(), nullable=False, server_default=default)


def _id():
    return sa.Column("id", sa.Uuid(), primary_key=True)


def _to(name, table, nullable=False):
    return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id"), nullable=nullable)


def _at(name="at", nullable=False):
    return sa.Column(name, TIME, nullable=nullable)


def _evidence(table):
    op.execute(
        f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
    )


def upgrade() -> None:
    op.alter_column("samples", "millivolts", new_column_name="signal")
    op.alter_column("samples", "displayed_ph", new_column_name="displayed")
    op.alter_column("points", "millivolts", new_column_name="signal")
    op.alter_column("points", "expected_ph", new_column_name="expected")
    op.add_column("points", sa.Column("expanded", sa.Float()))
    op.add_column("dips", _words("entered"))
    op.add_column("calibrations", _json("figures"))
    op.execute("alter table calibrations disable trigger evidence")
    op.execute(
        "update calibrations set figures = jsonb_build_object('slope_percent', slope_percent, 'offset_mv', offset_mv)"
    )
    op.execute("alter table calibrations enable trigger evidence")
    op.drop_column("calibrations", "slope_percent")
    op.drop_column("calibrations", "offset_mv")
    op.add_column("lots", _json("measures"))
    op.add_column("lots", _words("container", "bottle"))
    op.execute(
        "update lots set measures = jsonb_build_object('ph', jsonb_build_object('family', family, 'label', label_table, "
        "'u', expanded_uncertainty)), container = case when single_use then 'sachet' else 'bottle' end"
    )
    for column in ("family", "label_table", "expanded_uncertainty"):
        op.drop_column("lots", column)
    for column in ("description", "firmware", "battery", "token_hash"):
        op.add_column("meters", _words(column))
    op.add_column("meters", _at("retired_at", nullable=True))
    op.create_check_constraint("meters_link", "meters", "link in ('typed', 'simulated', 'sdi12')")
    for column in ("kind", "reference_electrode", "storage", "address"):
        op.add_column("probes", _words(column))
    op.add_column("probes", sa.Column("cable_m", sa.Float()))
    op.add_column("probes", sa.Column("nominal", sa.Float()))
    op.add_column("probes", _json("intervals"))
    op.add_column("probes", _json("limits"))

    op.create_table(
        "fittings", _id(), _to("probe_id", "probes"), _to("meter_id", "meters"), _at(), _words("reason"), _to("by_id", "users")
    )
    op.create_index("ix_fittings_probe_id", "fittings", ["probe_id"])
    op.create_table(
        "snapshots", _id(), _to("meter_id", "meters"), _at(), _json("settings"), _json("changes", "[]"), _words("reason"),
        _to("by_id", "users"),
    )
    op.create_index("snapshots_by_meter", "snapshots", ["meter_id", "at"])
    op.create_table(
        "inspections", _id(), _to("probe_id", "probes"), _at(), _json("findings"),
        sa.Column("blocks", sa.Boolean(), nullable=False), _words("note"), _to("by_id", "users"),
    )
    op.create_index("inspections_by_probe", "inspections", ["probe_id", "at"])
    op.create_table("sittings", _id(), _to("meter_id", "meters"), _to("operator_id", "users"), _at("started_at"))
    op.add_column("runs", _json("conditions"))
    op.add_column("runs", _to("snapshot_id", "snapshots", nullable=True))
    op.add_column("runs", _to("inspection_id", "inspections", nullable=True))
    op.add_column("runs", _to("sitting_id", "sittings", nullable=True))
    op.add_column("runs", _to("repeats_id", "runs", nullable=True))
    op.create_index("ix_runs_sitting_id", "runs", ["sitting_id"])
    op.create_table(
        "supersedings",
        sa.Column("calibration_id", sa.Uuid(), sa.ForeignKey("calibrations.id"), primary_key=True),
        _to("new_id", "calibrations", nullable=True), _at(), _words("reason"), _to("by_id", "users"),
    )
    op.create_table(
        "method_versions", _id(), _words("key"), sa.Column("version", sa.Integer(), nullable=False), _json("body"),
        sa.Column("retired", sa.Boolean(), nullable=False, server_default="false"), _words("reason"), _at(),
        _to("by_id", "users"), sa.UniqueConstraint("key", "version"),
    )
    op.create_table(
        "link_sessions", _id(), _to("meter_id", "meters"), _at(), _words("agent"), _at("last_at"), _json("last")
    )
    op.create_index("ix_link_sessions_meter_id", "link_sessions", ["meter_id"])
    for table in ("fittings", "snapshots", "inspections", "supersedings", "method_versions"):
        _evidence(table)


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
