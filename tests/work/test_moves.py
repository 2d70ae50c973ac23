"""A whole practice moved to another database: equal row by row, it goes on as if nothing had been, and nothing half."""

import io
import json
import zipfile

import psycopg
import pytest
from sqlalchemy import func, select

from brumel.store import archive
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Calibration, User
from brumel.work import kit, people, records
from brumel.work.desk import Desk
from brumel.work.records import search
from tests.conftest import as_app, database_copy
from tests.work import helpers as h


@pytest.fixture(scope="module")
def told_url(server, told_template):
    with database_copy(server, told_template) as url:
        yield url


@pytest.fixture(scope="module")
def packed(told_url):
    out = io.BytesIO()
    archive.pack(told_url, out)
    return out.getvalue()


def contents(url):
    """Every row of every table that moves, in the order that is always the same."""
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        return {table: list(archive.rows(connection, table)) for table in archive.tables()}


def desk_of(url):
    return Desk(make_sessions(make_engine(as_app(url), pool_size=2)))


def test_a_practice_of_five_weeks_arrives_equal_row_by_row(told_url, packed, empty_url):
    counts = archive.unpack(empty_url, io.BytesIO(packed))
    before, after = contents(told_url), contents(empty_url)
    assert {table: len(lines) for table, lines in before.items()} == counts
    assert sum(counts.values()) > 3000
    for table, lines in before.items():
        assert after[table] == lines, table
    again = io.BytesIO()
    archive.pack(empty_url, again)
    one, other = (
        json.loads(zipfile.ZipFile(io.BytesIO(data)).read("manifest.json")) for data in (packed, again.getvalue())
    )
    assert one == other


def test_it_goes_on_where_it_was_with_its_guards_and_without_its_secrets(told_url, packed, empty_url):
    archive.unpack(empty_url, io.BytesIO(packed))
    here, there = desk_of(empty_url), desk_of(told_url)
    for find in (
        lambda s: records.count(s, search.Search(signed="no")),
        lambda s: s.scalar(select(func.max(Calibration.number))),
        lambda s: [t.words for t in kit.trusts(s, kit.probes_in_service(s), there.clock()).values()][:3],
    ):
        with here.read() as one, there.read() as other:
            assert str(find(one)) == str(find(other))
    # Evidence stays evidence, numbers go on, and keys of tables hold.
    with psycopg.connect(empty_url.replace("+psycopg", "")) as connection:
        with pytest.raises(psycopg.errors.RaiseException, match="evidence"), connection.transaction():
            connection.execute("update readings set value = 1.0")
        loose = "select count(*) from pg_constraint where contype = 'f' and condeferrable"
        assert connection.execute(loose).fetchone() == (0,)
        with pytest.raises(psycopg.errors.ForeignKeyViolation):
            connection.execute(
                "insert into round_stops (round_id, place, site_id) values (gen_random_uuid(), 1, gen_random_uuid())"
            )
    things = h.Things(here)
    h.kit.record_maintenance(here, things.ansa, h.key(), probe_id=things.probes["A1"], what="cleaned")
    assert people.sign_in(here, "ilka", "tarnholt-field-book") is None
    ((name, token),) = people.let_leads_in(here)
    people.accept(here, token, "another-long-password")
    assert people.sign_in(here, "ilka", "another-long-password").name == name
    with here.read() as session:
        assert session.scalar(select(User.password_hash).where(User.username == "ansa")) == "!"


def changed(packed, name, change):
    """The same file with one of its parts changed."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(packed)) as old, zipfile.ZipFile(out, "w") as new:
        for part in old.namelist():
            new.writestr(part, change(old.read(part)) if part == name else old.read(part))
    return out.getvalue()


def manifest(**with_):
    return lambda data: json.dumps(json.loads(data) | with_).encode()


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda p: b"PK nothing", "not the file"),
        (lambda p: changed(p, "manifest.json", manifest(form="other")), "not the file"),
        (lambda p: changed(p, "manifest.json", manifest(tables_version="0001")), "version 0001"),
        (lambda p: changed(p, "manifest.json", manifest(rows={})), "does not hold"),
        (
            lambda p: changed(p, "readings.jsonl", lambda d: d.replace(b'"value": ', b'"value": 1', 1)),
            "readings.*changed",
        ),
        (lambda p: changed(p, "readings.jsonl", lambda d: d.split(b"\n", 1)[1]), "readings.*changed"),
        (lambda p: changed(p, "sites.jsonl", lambda d: b"{broken\n"), "sites.*cannot be read"),
    ],
)
def test_a_file_that_is_not_whole_leaves_an_empty_database_empty(packed, empty_url, spoil, words):
    with pytest.raises(archive.ArchiveError, match=words):
        archive.unpack(empty_url, io.BytesIO(spoil(packed)))
    assert not any(contents(empty_url).values())


def test_a_practice_never_moves_in_on_top_of_another(told_url, packed):
    with pytest.raises(archive.ArchiveError, match="Somebody is here already"):
        archive.unpack(told_url, io.BytesIO(packed))
