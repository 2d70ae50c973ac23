"""A database with things in it comes through every migration, and ends as the tables say."""

import re
import uuid
from datetime import UTC, datetime

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine, event, text

from brumel.store.migrate import add_months, alembic_config, migrate, newest_version
from brumel.store.records import Unsigned
from brumel.store.sessions import make_sessions
from brumel.store.tables import Base, Dip, Reading
from brumel.work import rounds
from brumel.work.link import samples
from tests.conftest import _database, do

PLAIN = {
    "uuid": uuid.uuid4,
    "text": str,
    "character varying": lambda: "x",
    "double precision": lambda: 7.0,
    "integer": lambda: 1,
    "smallint": lambda: 1,
    "boolean": lambda: False,
    "jsonb": lambda: "{}",
    "timestamp with time zone": lambda: datetime(2026, 3, 1, tzinfo=UTC),
}


@pytest.fixture
def empty(server):
    name = f"t_{uuid.uuid4().hex[:12]}"
    do(server, f"create database {name}")
    yield _database(server, name)
    do(server, f"drop database {name} with (force)")


def put(connection, table, **given):
    """A row with what is given, and something plain in whatever else must not stay empty."""
    query = text(
        "select column_name, data_type from information_schema.columns where table_name = :t "
        "and is_nullable = 'NO' and column_default is null and is_identity = 'NO'"
    )
    row = {name: PLAIN[kind]() for name, kind in connection.execute(query, {"t": table})} | given
    names, marks = ", ".join(row), ", ".join(f":{n}" for n in row)
    connection.execute(text(f"insert into {table} ({names}) values ({marks})"), row)
    return row["id"]


def test_readings_of_an_older_version_keep_their_site_client_probe_and_place_in_the_queue(empty):
    command.upgrade(alembic_config(empty), "0003")
    engine = create_engine(empty)
    with engine.begin() as connection:
        user = put(connection, "users", role="lead")
        meter = put(connection, "meters", link="typed")
        probe = put(connection, "probes", meter_id=meter, quantity="ph", name="Old one")
        sites = [
            put(connection, "sites", client=c, name=f"{c} pond {n}", zone="Europe/Oslo")
            for n, c in enumerate(("Alder", "Birch", "Alder"))
        ]
        for site in sites:
            visit = put(connection, "visits", site_id=site, operator_id=user, probe_id=probe, source="typed")
            root = uuid.uuid4()
            for version in (1, 2):
                own = root if version == 1 else uuid.uuid4()
                put(
                    connection,
                    "readings",
                    id=own,
                    root_id=root,
                    version=version,
                    visit_id=visit,
                    site_id=site,
                    by_id=user,
                    quantity="ph",
                    findings="[]",
                    value=7.0 + version,
                )
    migrate(empty)
    with make_sessions(engine)() as session:
        known = rounds.sites_by_client(session)
        assert [s.client for s in known] == ["Alder", "Alder", "Birch"]
        assert len({s.client_id for s in known}) == 2
        last = rounds.latest(session, sites, ["ph"])
        assert {(r.value, r.probe_id, r.role) for rows in last.values() for r in rows} == {(9.0, probe, "first")}
        assert session.query(Unsigned).count() == 3
        assert {v.probes[0].name for v in {r.visit for r in session.query(Reading)}} == {"Old one"}
    with pytest.raises(Exception, match=r"only added|evidence|append"), engine.begin() as connection:
        connection.execute(text("update readings set value = 1"))
    engine.dispose()


def test_the_migrations_tell_each_step_and_end_where_the_tables_are(empty):
    said = []
    migrate(empty, tell=said.append)
    assert len(said) == int(newest_version())
    assert said[-1].startswith(f"tables, {newest_version()} of {newest_version()}: ")
    engine = create_engine(empty)

    def ours(name, kind, _parents):
        # What finds parts of words is the migrations' alone: it rests on an extension, which may be missing.
        return not (
            (kind == "table" and name and name.startswith(("samples_", "alembic")))
            or (kind == "index" and name in ("readings_reason_words", "visit_notes_words"))
        )

    with engine.connect() as connection:
        context = MigrationContext.configure(
            connection, opts={"include_name": ours, "compare_server_default": False, "compare_type": True}
        )
        found = compare_metadata(context, Base.metadata)
    engine.dispose()
    assert found == []


def test_samples_lie_by_the_month_and_a_trace_opens_one_of_them(empty):
    migrate(empty)
    assert add_months(empty, datetime(2029, 11, 5, tzinfo=UTC))[:2] == ["samples_2029_11", "samples_2029_12"]
    assert add_months(empty, datetime(2029, 11, 5, tzinfo=UTC)) == []
    engine = create_engine(empty)
    dip = Dip(id=uuid.uuid4(), started_at=datetime(2029, 12, 24, 9, tzinfo=UTC))
    with make_sessions(engine)() as session:
        asked = []
        event.listen(engine, "before_cursor_execute", lambda _c, cursor, words, given, *_: asked.append((words, given)))
        samples.trace(session, dip)
        words, given = asked[0]
        plan = session.connection().exec_driver_sql("explain " + words, given).scalars().all()
    opened = set(re.findall(r"samples_\w+", "\n".join(plan)))
    assert {name[:15] for name in opened} == {"samples_2029_12"}, plan
