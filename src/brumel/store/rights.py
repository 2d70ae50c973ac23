"""What the application's own role may do in the database: add to evidence, change what is no evidence, and nothing more.

Two roles: the owner makes and alters tables and runs migrations; the application signs in as another, which owns nothing,
so that neither a fault of ours nor whoever takes over a web worker can disable a trigger, empty a table or rewrite history.
"""

from __future__ import annotations

import psycopg
from psycopg import sql

from brumel.store import sessions  # noqa: F401 - it knows every table
from brumel.store.base import Base

#: Rows of these are only ever added; triggers of the tables refuse the rest, even to their owner.
EVIDENCE = frozenset(
    {
        "audit",
        "calibration_withdrawals",
        "calibrations",
        "closings",
        "counts",
        "decisions",
        "deployment_blocks",
        "deployment_channels",
        "deployment_corrections",
        "deployment_file_ends",
        "deployment_files",
        "deployment_intakes",
        "deployment_mark_ends",
        "deployment_marks",
        "deployment_records",
        "deployment_services",
        "deployment_steps",
        "dips",
        "documents",
        "imported_rows",
        "inspections",
        "letterheads",
        "link_contacts",
        "link_sessions",
        "logger_checks",
        "logger_decisions",
        "logger_series",
        "logger_values",
        "maintenance",
        "meter_settings",
        "method_versions",
        "outing_ends",
        "outing_packings",
        "outing_settings",
        "outings",
        "photos",
        "points",
        "practice_assignments",
        "practice_attempts",
        "practice_results",
        "practice_scenarios",
        "probe_installations",
        "readings",
        "release_ends",
        "releases",
        "run_changes",
        "run_ends",
        "runs",
        "samples",
        "signatures",
        "signings",
        "skill_rules",
        "skill_signing_ends",
        "skill_signings",
        "site_terms",
        "spare_uses",
        "storage_records",
        "struck_values",
        "visit_answers",
        "visit_moves",
        "visit_notes",
        "visit_probes",
        "visit_questions",
        "visits",
    }
)
#: Kept by triggers that run as the owner; the application reads them.
DERIVED = frozenset({"standing_readings", "unsigned"})
#: What is thrown away when it is done with: the application may delete there.
PASSING = frozenset({"job_files", "jobs", "rate_limits", "recovery_codes", "round_stops", "sign_ins", "sim_truths"})


def give_rights(connection: psycopg.Connection[object], role: str) -> None:
    """Let a role do what the application does, and take from it everything else. Run by the owner after each migration."""
    who = sql.Identifier(role)
    for statement in (
        "revoke all on all tables in schema public from {}",
        "revoke create on schema public from public",
        "grant usage on schema public to {}",
        "grant usage on all sequences in schema public to {}",
        "grant select on alembic_version to {}",
        "grant execute on function add_sample_months(date, integer) to {}",
        "grant execute on function make_practice_world(uuid) to {}",
        "grant execute on function drop_practice_world(uuid) to {}",
    ):
        connection.execute(sql.SQL(statement).format(who) if "{}" in statement else sql.SQL(statement))
    for table in Base.metadata.tables:
        connection.execute(sql.SQL("grant {} on {} to {}").format(_may(table), sql.Identifier(table), who))
    # A key's answer is filled once; a trigger refuses any other change of it.
    connection.execute(sql.SQL("grant update (result) on write_keys to {}").format(who))


def _may(table: str) -> sql.SQL:
    if table in DERIVED:
        return sql.SQL("select")
    if table in EVIDENCE or table == "write_keys":
        return sql.SQL("select, insert")
    return sql.SQL("select, insert, update, delete" if table in PASSING else "select, insert, update")


def owns_tables(url: str) -> bool:
    """Whether a URL's role could alter the tables: as their owner, or as one who may do everything."""
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        found = connection.execute(
            "select rolsuper or exists (select from pg_class where relname = 'audit' "
            "and relnamespace = 'public'::regnamespace and pg_has_role(current_user, relowner, 'usage')) "
            "from pg_roles where rolname = current_user"
        ).fetchone()
    return found == (True,)
