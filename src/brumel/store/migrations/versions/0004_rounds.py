"""rounds: clients, site terms, rounds, outings, sheets of many probes, closing checks, rulings, signatures, photos"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0004"
down_revision = "0003"

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


def _number(start=1):
    return sa.Column("number", sa.Integer(), sa.Identity(start=start), nullable=False, unique=True)


def _evidence(table):
    op.execute(
        f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
    )


def upgrade() -> None:
    op.create_table("clients", _id(), sa.Column("name", sa.String(), unique=True), _words("note"), _at("retired_at", True))
    op.execute("insert into clients (id, name) select gen_random_uuid(), client from (select distinct client from sites) s")
    op.add_column("sites", _to("client_id", "clients", nullable=True))
    op.execute("update sites set client_id = clients.id from clients where clients.name = sites.client")
    op.alter_column("sites", "client_id", nullable=False)
    op.alter_column("clients", "name", nullable=False)
    op.drop_column("sites", "client")
    op.create_index("ix_sites_client_id", "sites", ["client_id"])
    op.add_column("sites", _words("use"))
    for column in ("latitude", "longitude"):
        op.add_column("sites", sa.Column(column, sa.Float()))
    op.add_column("sites", _json("depths", "[]"))
    op.add_column("sites", _json("limits"))
    op.add_column("sites", _json("water"))
    op.add_column("sites", sa.Column("terms_version", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("sites", _at("retired_at", nullable=True))
    op.create_table(
        "site_terms", _id(), _to("site_id", "sites"), sa.Column("version", sa.Integer(), nullable=False), _json("body"),
        _words("reason"), _at(), _to("by_id", "users"), sa.UniqueConstraint("site_id", "version"),
    )  # fmt: skip
    op.create_table(
        "rounds", _id(), _words("name"), _words("rule"), sa.Column("starts", sa.Date(), nullable=False),
        _words("leave_at", "08:00"), _words("zone"), _words("note"), _at("retired_at", nullable=True),
    )  # fmt: skip
    op.create_table(
        "round_stops", sa.Column("round_id", sa.Uuid(), sa.ForeignKey("rounds.id"), primary_key=True),
        sa.Column("place", sa.Integer(), primary_key=True), _to("site_id", "sites"),
    )  # fmt: skip
    op.create_table(
        "outings", _id(), _to("round_id", "rounds"), sa.Column("day", sa.Date(), nullable=False),
        _to("meter_id", "meters"), _to("operator_id", "users"), _json("packed"), _at("started_at"),
        _at("ended_at", nullable=True), sa.UniqueConstraint("round_id", "day"),
    )  # fmt: skip
    op.create_index("ix_outings_round_id", "outings", ["round_id"])
    op.create_table(
        "visit_probes", sa.Column("visit_id", sa.Uuid(), sa.ForeignKey("visits.id"), primary_key=True),
        sa.Column("probe_id", sa.Uuid(), sa.ForeignKey("probes.id"), primary_key=True),
        sa.Column("place", sa.Integer(), nullable=False), _words("role", "first"),
    )  # fmt: skip
    op.execute("insert into visit_probes (visit_id, probe_id, place) select id, probe_id, 1 from visits")
    op.add_column("visits", _to("outing_id", "outings", nullable=True))
    op.create_index("ix_visits_outing_id", "visits", ["outing_id"])
    op.create_table(
        "visit_notes", _id(), _to("visit_id", "visits"), _words("kind"), _json("body"), _at(), _to("by_id", "users")
    )
    op.create_index("ix_visit_notes_visit_id", "visit_notes", ["visit_id"])
    op.create_table(
        "rulings", _id(), _number(), _words("kind"), sa.Column("subject", sa.Uuid(), nullable=False),
        _words("decision"), _words("reason"), _words("signed_name"), _to("undoes_id", "rulings", nullable=True), _at(),
        _to("by_id", "users"),
    )  # fmt: skip
    op.create_index("rulings_by_subject", "rulings", ["subject", "at"])
    op.execute("alter table readings disable trigger evidence")
    op.add_column("readings", _to("probe_id", "probes", nullable=True))
    op.add_column("readings", _to("ruling_id", "rulings", nullable=True))
    op.add_column("readings", sa.Column("depth_m", sa.Float()))
    op.add_column("readings", _words("role", "first"))
    op.add_column("readings", _json("parents", "[]"))
    for column in ("outcome", "outcome_words", "grade"):
        op.add_column("readings", _words(column))
    op.execute("update readings set probe_id = visits.probe_id from visits where visits.id = readings.visit_id")
    op.execute("alter table readings enable trigger evidence")
    op.create_index("readings_by_calibration", "readings", ["calibration_id", "at"])
    op.create_index("ix_readings_ruling_id", "readings", ["ruling_id"])
    op.drop_column("visits", "probe_id")
    op.add_column("dips", sa.Column("depth_m", sa.Float()))
    op.add_column("runs", _words("purpose", "calibration"))
    op.create_table(
        "closings", _id(), _number(), sa.Column("run_id", sa.Uuid(), sa.ForeignKey("runs.id"), unique=True, nullable=False),
        _to("probe_id", "probes"), _to("calibration_id", "calibrations"), _at(), _json("checks", "[]"),
        sa.Column("holds", sa.Boolean(), nullable=False), _words("sentence"), _to("by_id", "users"),
    )  # fmt: skip
    op.create_index("closings_by_probe", "closings", ["probe_id", "at"])
    op.create_index("ix_closings_calibration_id", "closings", ["calibration_id"])
    op.create_table(
        "signatures", sa.Column("reading_id", sa.Uuid(), sa.ForeignKey("readings.id"), primary_key=True), _words("name"),
        _at(), _to("by_id", "users"),
    )  # fmt: skip
    op.create_table(
        "logs", _id(), _to("site_id", "sites"), _words("quantity"), _words("unit"), _to("probe_id", "probes", True),
        _to("calibration_id", "calibrations", True), sa.Column("depth_m", sa.Float()), _words("name"), _at("starts"),
        _at("ends"), sa.Column("interval_s", sa.Float(), nullable=False), sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("gaps", sa.Integer(), nullable=False), sa.Column("flagged", sa.Integer(), nullable=False), _at(),
        _to("by_id", "users"),
    )  # fmt: skip
    op.create_index("logs_by_site", "logs", ["site_id", "quantity", "starts"])
    op.create_table(
        "log_values", sa.Column("log_id", sa.Uuid(), sa.ForeignKey("logs.id"), primary_key=True),
        sa.Column("at", TIME, primary_key=True), sa.Column("value", sa.Float(), nullable=False),
        sa.Column("flag", sa.SmallInteger(), nullable=False),
    )  # fmt: skip
    # The lead's queue: the newest versions without a signature. Kept by the database, so that it is as short as it is.
    op.create_table("unsigned", sa.Column("reading_id", sa.Uuid(), sa.ForeignKey("readings.id"), primary_key=True))
    op.execute(
        "insert into unsigned select r.id from readings r where not exists "
        "(select 1 from readings n where n.root_id = r.root_id and n.version > r.version)"
    )
    op.execute(
        """
        create function reading_waits() returns trigger language plpgsql as $$
        begin
            delete from unsigned using readings r
                where unsigned.reading_id = r.id and r.root_id = new.root_id and r.version < new.version;
            insert into unsigned values (new.id);
            return null;
        end $$
        """
    )
    op.execute("create trigger waits after insert on readings for each row execute function reading_waits()")
    op.execute(
        """
        create function reading_signed() returns trigger language plpgsql as $$
        begin
            delete from unsigned where reading_id = new.reading_id;
            return null;
        end $$
        """
    )
    op.execute("create trigger signed after insert on signatures for each row execute function reading_signed()")
    op.create_table(
        "photos", _id(), _to("visit_id", "visits"), _words("name"), sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False), sa.Column("jpeg", sa.LargeBinary(), nullable=False),
        sa.Column("latitude", sa.Float()), sa.Column("longitude", sa.Float()), _at(), _to("by_id", "users"),
    )  # fmt: skip
    op.create_index("ix_photos_visit_id", "photos", ["visit_id"])
    for table in ("site_terms", "closings", "rulings", "signatures", "photos", "visit_notes", "logs", "log_values"):
        _evidence(table)


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
