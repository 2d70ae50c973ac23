"""standard terms: tables, columns and indexes are called what the trade calls them; no row changes"""

from alembic import op

revision = "0007"
down_revision = "0006"

TABLES = {
    "rulings": "decisions",
    "supersedings": "calibration_withdrawals",
    "sittings": "calibration_sessions",
    "snapshots": "meter_settings",
    "fittings": "probe_installations",
    "upkeep": "maintenance",
    "logs": "logger_series",
    "log_values": "logger_values",
    "log_services": "logger_checks",
    "log_rulings": "logger_decisions",
}
COLUMNS = (
    ("readings", "ruling_id", "decision_id"),
    ("runs", "snapshot_id", "settings_id"),
    ("runs", "sitting_id", "calibration_session_id"),
    ("points", "expanded", "expanded_uncertainty"),
    ("logger_values", "log_id", "series_id"),
    ("logger_checks", "log_id", "series_id"),
    ("logger_decisions", "log_id", "series_id"),
    ("logger_decisions", "service_id", "check_id"),
)
INDEXES = {
    "rulings_by_subject": "decisions_by_subject",
    "snapshots_by_meter": "meter_settings_by_meter",
    "fittings_by_probe": "probe_installations_by_probe",
    "upkeep_by_probe": "maintenance_by_probe",
    "logs_by_site": "logger_series_by_site",
    "log_services_by_log": "logger_checks_by_series",
    "ix_readings_ruling_id": "ix_readings_decision_id",
    "ix_runs_sitting_id": "ix_runs_calibration_session_id",
    "ix_fittings_probe_id": "ix_probe_installations_probe_id",
}


def upgrade() -> None:
    for old, new in TABLES.items():
        op.rename_table(old, new)
    for table, old, new in COLUMNS:
        op.alter_column(table, old, new_column_name=new)
    for old, new in INDEXES.items():
        op.execute(f"alter index if exists {old} rename to {new}")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
