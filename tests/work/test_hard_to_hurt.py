"""The record against mistakes, races and intent: keys, one of each, evidence, the chain of audit rows, and who may what."""

import threading
import uuid
from dataclasses import replace
from datetime import UTC, date, datetime
from types import SimpleNamespace

import psycopg
import pytest
from click.testing import CliRunner
from sqlalchemy import func, select, text
from sqlalchemy.exc import InternalError
from sqlalchemy.orm import undefer

from brumel import cli
from brumel.core.errors import BrumelError, InputError
from brumel.store.chain import Anchor, newest_anchor, walk
from brumel.store.documents import Document
from brumel.store.rights import DERIVED, EVIDENCE, PASSING
from brumel.store.tables import Audit, Client, Site, WriteKey
from brumel.work import bench, kit, people
from brumel.work.desk import UsedBefore
from brumel.work.once import fingerprint
from brumel.work.records import decisions, importing, issuing, releasing, signing
from brumel.work.rounds import calendar, outings, packing, site_record
from tests.conftest import _database, as_app, do
from tests.work import helpers as h
from tests.work import test_faults as faults

EIGHT = 8


@pytest.fixture
def things(desk):
    return h.Things(desk)


def owner(url):
    return psycopg.connect(url.replace("+psycopg", ""))


@pytest.fixture
def lived(begun):
    """A calibration, a visit, a round: a little of everything in the record."""
    return begun(_a_little_of_everything)


def _a_little_of_everything(desk):
    things, clock = h.Things(desk), desk.clock
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    with desk.read() as session:
        lagoon = next(r for r in calendar.rounds(session) if r.name == "Lagoon")
        out = outings.start(desk, things.ansa, h.key(), round_id=str(lagoon.id)).id
    packing.pack(desk, things.ansa, h.key(), outing_id=out, ticked=["water"])
    outings.end(desk, things.ansa, h.key(), outing_id=out)
    issuing.issue(desk, things.ilka, h.key(), what=issuing.Issue("round", "Round"), body=lambda label: (b"%PDF", 1))
    return out


# -- once means this content, this place


def test_a_key_counts_for_one_person_one_thing_and_one_content(desk, things):
    run, key = h.start(desk, things, "B1", source="typed"), h.key()
    where = {"run_id": run, "step": "neutral", "turn": 0}
    bench.dip(desk, things.ansa, h.key(), **where)
    typed = bench.TypedValue(signal="mv", value=7.0, temperature_c=25.0)
    first = bench.type_reading(desk, things.ansa, key, **where, typed=typed)
    assert bench.type_reading(desk, things.ansa, key, **where, typed=typed) == first  # sent twice, written once
    for actor, other in (
        (things.ansa, {"typed": replace(typed, value=7.4)}),
        (things.ansa, {"typed": typed, "run_id": str(uuid.uuid4())}),
        (things.ilka, {"typed": typed}),
    ):
        with pytest.raises(UsedBefore):
            bench.type_reading(desk, actor, key, **{**where, **other})
    with pytest.raises(UsedBefore, match="something else"):
        bench.accept(desk, things.ansa, key, run_id=run, step="neutral", turn=0)
    old = h.key()
    with desk.sessions.begin() as session:  # a key of before content was kept counts as it did: a phone may have waited
        known = session.get(WriteKey, key)
        same = {"user_id": known.user_id, "action": known.action, "at": known.at, "result": known.result}
        session.add(WriteKey(key=old, content="", **same))
    assert bench.type_reading(desk, things.ansa, old, **where, typed=typed) == first
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(WriteKey).where(WriteKey.key == key)) == 1
        assert [t for t in h.state_of(desk, run).steps if t.point] == []


def test_equal_content_has_equal_prints_whatever_order_it_came_in():
    at = datetime(2026, 5, 1, tzinfo=UTC)
    one = fingerprint({"b": {2, 10, 1}, "a": (1, at)}, frozenset({"x", "y"}), bench.TypedValue("mv", 7.0, 25.0))
    two = fingerprint({"a": [1, at], "b": {10, 1, 2}}, {"y", "x"}, bench.TypedValue("mv", 7.0, 25.0))
    assert one == two != fingerprint({"a": [1, at], "b": {10, 1, 2}}, {"y", "x"}, bench.TypedValue("mv", 7.4, 25.0))
    with pytest.raises(TypeError):
        fingerprint(object())


# -- one wins, seven are told


def at_once(desk, do_one):
    """Eight at the same moment: how many got through, and what the others were told."""
    gate, done, told = threading.Barrier(EIGHT), [], []

    def one(n):
        gate.wait()
        try:
            done.append(do_one(n))
        except BrumelError as error:
            told.append(str(error))

    threads = [threading.Thread(target=one, args=(n,)) for n in range(EIGHT)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(done) + len(told) == EIGHT, "somebody met an error of another kind"
    return done, told


METER = kit.MeterForm(name="Bench set Q", serial="Q-1", link="typed", description="", firmware="")


def a_probe(things, name, address=""):
    given = kit.ProbeForm(
        meter_id=things.meters["Field set A"], name=name, serial=name[-4:], quantity="ph", kind="gel", address=address
    )

    def save(desk, n):
        return kit.save_probe(desk, things.ilka, h.key(), replace(given, name=f"{name} {n}") if address else given)

    return save


def a_site(things):
    place = site_record.Place("Tarn farm", "Sluice", "pond", "Europe/Oslo", 12.0, 61.0, 8.0)
    return lambda desk, n: site_record.save_site(
        desk, things.ilka, h.key(), place=place, terms=site_record.Terms("", {}, {}, {})
    )


def a_round(things):
    new = calendar.NewRound("Sluices", (things.sites["raceway"],), "", date(2026, 5, 4), "08:00", "Europe/Oslo")
    return lambda desk, n: calendar.save_round(desk, things.ilka, h.key(), new=new)


LOT = kit.NewLot("N7-900", "Buffer 7.01", (kit.NewMeasure("ph", "7.01", "", 0.02),), "2027-05-31", 90, "bottle")


RACES = {
    "a meter's name": lambda t: lambda desk, n: kit.save_meter(desk, t.ilka, h.key(), METER),
    "a probe's name": lambda t: a_probe(t, "pH probe Q9"),
    "a link address": lambda t: a_probe(t, "pH probe Q", "z"),
    "the end of a run": "finish",
    "a point": "accept",
    "a run of a probe": lambda t: lambda desk, n: h.start(desk, t, "B1", source="typed"),
    "a lot's code": lambda t: lambda desk, n: kit.add_lot(desk, t.ilka, h.key(), LOT),
    "a site's name and its client's": a_site,
    "a round's name": a_round,
    "a user name": lambda t: (
        lambda desk, n: people.invite(desk, t.ilka, h.key(), username="oda", name="Oda Kvist", role="technician")
    ),
}


def import_to(world):
    """A table that is mapped and waits to be written."""
    table = (
        b'station;date time;pH\n"Raceway 3, inflow";2018-01-01 08:00;7.2\n"Raceway 3, inflow";2018-01-02 08:00;7.3\n'
    )
    made = importing.upload(world.desk, world.things.ilka, h.key(), kind="readings", file_name="old.csv", data=table)
    return {"import_id": made.id}


def release_to(world):
    """A document that is released to its client."""
    with world.desk.read() as session:
        client = session.scalars(select(Client)).first()
    what = issuing.Issue("round", "Round", client_id=client.id)
    row = issuing.issue(world.desk, world.things.ilka, h.key(), what=what, body=lambda label: (b"%PDF", 1))
    made = releasing.release(world.desk, world.things.ilka, h.key(), document_id=row.id, days=30)
    return {"release_id": made.id}


#: What is prepared first, with the clock; then all decide about the same.
DECISIONS = {
    "the end of a release": (release_to, releasing.take_back),
    "an import": (import_to, importing.write),
    "a decision": (faults.decide_to, decisions.decide),
    "a signature": (lambda world: faults.visit_to(world, "sign"), signing.sign),
    "a withdrawal": (faults.withdraw_to, bench.withdraw),
}


@pytest.mark.parametrize("what", DECISIONS)
def test_of_eight_who_decide_at_once_one_does(desk, clock, things, what):
    prepare, write = DECISIONS[what]
    kwargs = prepare(SimpleNamespace(desk=desk, clock=clock, things=things))
    done, told = at_once(desk, lambda n: write(desk, things.ilka, h.key(), **kwargs))
    assert len(done) == 1, (done, told)


@pytest.mark.parametrize("what", RACES)
def test_of_eight_at_once_one_wins_and_seven_are_told(desk, clock, things, what):
    kind = RACES[what]
    if kind in ("accept", "finish"):
        run = h.start(desk, things)
        if kind == "finish":
            h.take_all(desk, clock, things, run)
        else:
            bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
            h.let_settle(desk, clock, run)
        write = {
            "accept": lambda desk, n: bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0),
            "finish": lambda desk, n: bench.finish(desk, things.ansa, h.key(), run_id=run, turn=3, use=True),
        }[kind]
    else:
        write = kind(things)
    done, told = at_once(desk, lambda n: write(desk, n))
    assert len(done) == 1, (done, told)
    assert all(len(words) > 10 and "duplicate key" not in words for words in told)


def test_a_round_keeps_its_name_and_takes_no_other_s(desk, things):
    made = a_round(things)(desk, 0)
    new = calendar.NewRound("Sluices", (things.sites["lagoon"],), "", date(2026, 5, 4), "08:00", "Europe/Oslo")
    assert calendar.save_round(desk, things.ilka, h.key(), new=new, round_id=made.id).id == made.id
    with pytest.raises(InputError, match="of this name already") as told:
        calendar.save_round(desk, things.ilka, h.key(), new=new)
    assert told.value.field == "name"
    calendar.save_round(desk, things.ilka, h.key(), new=new, round_id=made.id, retired=True)
    assert calendar.save_round(desk, things.ilka, h.key(), new=new).id != made.id, (
        "the name of one that is gone is free"
    )


def test_eight_documents_at_once_have_eight_numbers(desk, things):
    what = issuing.Issue("round", "Round", prefix="R-")

    def issue(n):
        return issuing.issue(desk, things.ilka, h.key(), what=what, body=lambda label: (label.encode(), 1))

    done, told = at_once(desk, issue)
    assert (len(done), told) == (EIGHT, [])
    with desk.read() as session:
        rows = list(session.scalars(select(Document).options(undefer(Document.body))))
    assert len({row.number for row in rows}) == len({row.label for row in rows}) == EIGHT
    assert all(row.body == row.label.encode() for row in rows), "each says its own number on its pages"


# -- evidence is only added to


def test_evidence_stays_for_the_owner_too_and_the_application_owns_nothing(desk, database_url, lived):
    with owner(database_url) as connection:
        guarded = connection.execute(
            "select c.relname from pg_trigger t join pg_class c on c.oid = t.tgrelid "
            "where tgname in ('evidence', 'evidence_whole') and not c.relispartition group by 1 having count(*) = 2"
        )
        assert {name for (name,) in guarded} == EVIDENCE | {"write_keys"}
        filled = 0
        for table in sorted(EVIDENCE):
            with pytest.raises(psycopg.errors.RaiseException, match="evidence"), connection.transaction():
                connection.execute(f"truncate {table} cascade")
            if connection.execute(f"select exists (select from {table})").fetchone() != (True,):
                continue
            filled += 1
            column = connection.execute(
                "select column_name from information_schema.columns where table_name = %s and is_generated = 'NEVER' "
                "and identity_generation is distinct from 'ALWAYS' limit 1",
                [table],
            ).fetchone()[0]
            for statement in (f"delete from {table}", f"update {table} set {column} = {column}"):
                with pytest.raises(psycopg.errors.RaiseException, match="evidence"), connection.transaction():
                    connection.execute(statement)
        assert filled > 12
        for change in (
            "delete from write_keys",
            "update write_keys set result = '{}'",
            "update write_keys set content = 'x'",
        ):
            with pytest.raises(psycopg.errors.RaiseException, match="filled once"), connection.transaction():
                connection.execute(change)
    with owner(as_app(database_url)) as connection:
        for statement in (
            *(f"delete from {table}" for table in sorted(EVIDENCE | DERIVED | {"users", "sites", "write_keys"})),
            *(f"truncate {table} cascade" for table in sorted(EVIDENCE | PASSING)),
            "alter table readings disable trigger evidence",
            "alter table readings disable trigger all",
            "set session_replication_role = replica",
            "drop table readings",
            "drop function evidence_stays() cascade",
            "create table mine (a int)",
            "create or replace function evidence_stays() returns trigger language plpgsql as 'begin return old; end'",
            "update alembic_version set version_num = '0001'",
            "grant all on readings to brumel_app",
            "set role brumel",
        ):
            before = connection.execute("select has_table_privilege('readings', 'delete')").fetchone()
            try:
                with connection.transaction():
                    connection.execute(statement)
            except psycopg.errors.InsufficientPrivilege:
                continue
            assert statement.startswith("grant"), statement  # a grant that gives nothing is a warning
            assert (
                connection.execute("select has_table_privilege('readings', 'delete')").fetchone() == before == (False,)
            )


def test_looking_writes_nothing_and_what_was_planned_is_not_planned_again(desk, things):
    with pytest.raises(InternalError, match="read-only"), desk.read() as session:
        session.execute(text("update sites set name = 'elsewhere'"))
    with desk.read() as session:
        session.scalars(select(Site)).first().name = "elsewhere"  # a slip of a page is neither written nor a fault
    for _ in range(8):
        with desk.read() as session:
            names = session.scalars(select(Site.name)).all()
    assert "elsewhere" not in names
    kept = text("select count(*) from pg_prepared_statements where statement like '%sites%'")
    with desk.read() as session:
        assert session.scalar(kept) == 1
    with desk.sessions.begin() as session:  # and what is written with the same connection is written
        session.get_one(Site, uuid.UUID(things.sites["pool"])).name = "The pool"
    with desk.read() as session:
        assert "The pool" in session.scalars(select(Site.name)).all()


def test_the_application_makes_room_for_coming_months_and_for_nothing_else(database_url):
    with owner(as_app(database_url)) as connection:
        made = connection.execute("select add_sample_months('2031-03-15', 1)").fetchall()
        assert made == [("samples_2031_03",), ("samples_2031_04",)]
        assert connection.execute("select add_sample_months('2031-03-15', 1)").fetchall() == []
        for statement in (
            "truncate samples_2031_03",
            "drop table samples_2031_03",
            "insert into samples_2031_03 select",
        ):
            with pytest.raises(psycopg.errors.InsufficientPrivilege), connection.transaction():
                connection.execute(statement)
    with owner(database_url) as connection, pytest.raises(psycopg.errors.RaiseException, match="evidence"):
        connection.execute("truncate samples_2031_03")


# -- the chain


def test_the_chain_has_no_gap_whoever_writes_and_gives_up_at_once(desk, database_url, things):
    before = newest_anchor(database_url)

    def one(n):
        if n % 2:
            raise_after = kit.MeterForm(name="x", serial="", link="typed", description="", firmware="")
            return kit.save_meter(desk, things.ilka, h.key(), raise_after)
        return kit.save_meter(desk, things.ilka, h.key(), replace(METER, name=f"Bench set Q{n}"))

    done, told = at_once(desk, one)
    assert (len(done), len(told)) == (4, 4)
    walked = walk(database_url, [before] if before else [])
    assert not walked.broken
    assert walked.last.seq == (before.seq if before else 0) + 4


def test_an_entry_says_what_was_before_and_after(desk, things, lived):
    made = kit.save_meter(desk, things.ilka, h.key(), METER)
    kit.save_meter(desk, things.ilka, h.key(), replace(METER, serial="Q-2"), meter_id=made.id)
    with desk.read() as session:
        add, change = session.scalars(
            select(Audit).where(Audit.subject == f"meter:{made.id}").order_by(Audit.seq)
        ).all()
        assert add.changes["made"][f"meters:{made.id}"]["serial"] == "Q-1"
        assert change.changes == {"changed": {f"meters:{made.id}": {"serial": ["Q-1", "Q-2"]}}}
        recorded = session.scalars(select(Audit).where(Audit.action == "outing.end")).all()
        assert recorded[-1].changes["added"] == [f"outing_ends:{lived}"]
        assert list(recorded[-1].changes["held"]) == ["outing_ends"]
        told = "".join(str(a.changes) for a in session.scalars(select(Audit)))
        assert "argon2" not in told


def forge(statement):
    """Somebody with the owner's rights, and the knowledge how to use them."""
    return f"set session_replication_role = replica; {statement}; set session_replication_role = origin"


FORGERIES = {
    "a word": ("update audit set detail = '{\"signal\": 1}' where seq = 5", "Audit entry 5 is not what was written"),
    "who": ("update audit set user_id = (select id from users where username = 'ilka') where seq = 4", "Audit entry 4"),
    "when": ("update audit set at = at + interval '1 microsecond' where seq = 3", "Audit entry 3"),
    "before and after": ("update audit set changes = '{}' where seq = 2", "Audit entry 2"),
    "one taken out": ("delete from audit where seq = 6", "Audit entry 6 is missing"),
    "one taken out and closed up": (
        "delete from audit where seq = 6; update audit set seq = seq - 1 where seq > 6",
        "Audit entry 6 is not what was written",
    ),
    "a version": ("update readings set version = 3", "Versions of readings"),
    "a reading": ("delete from readings where id in (select id from readings limit 1)", "that readings:"),
    "a value": (
        "update readings set value = value + 0.1 where id in (select id from readings limit 1)",
        "not what was written",
    ),
    "a time": ("update points set at = at + interval '1 second' where version = 1", "what stands there is not"),
    "a file": ("update documents set body = '%PDF, another'", "what stands there is not"),
    "a reading put in": (
        "create temporary table r as select * from readings limit 1; update r set id = gen_random_uuid(), "
        "root_id = gen_random_uuid(); insert into readings select * from r",
        "no audit entry says that it was added",
    ),
    "a lot": ("delete from lots where id in (select lot_id from points limit 1)", "names "),
}


@pytest.mark.parametrize("what", FORGERIES)
def test_whatever_is_forged_is_named(database_url, lived, what):
    assert not walk(database_url).broken
    statement, words = FORGERIES[what]
    with owner(database_url) as connection:
        connection.execute(forge(statement))
    assert words in walk(database_url).broken


def test_an_anchor_shows_a_chain_that_was_written_anew_or_cut(database_url, lived, monkeypatch):
    anchor = newest_anchor(database_url)
    assert Anchor.read(str(anchor)) == anchor
    again = (
        "do $$ declare a audit; before text := ''; begin for a in select * from audit order by seq loop "
        "if a.seq = 5 then a.detail := '{}'; end if; before := audit_hash(a, before); "
        "update audit set detail = a.detail, hash = before where id = a.id; end loop; end $$"
    )
    with owner(database_url) as connection:
        connection.execute(forge(again))
    assert not walk(database_url).broken  # by itself it is whole
    assert "was written anew" in walk(database_url, [anchor]).broken
    monkeypatch.setenv("BRUMEL_OWNER_URL", database_url)
    said = CliRunner().invoke(cli.main, ["verify", "--anchor", str(anchor)])
    assert (said.exit_code, "written anew" in said.output.replace("\n", " ")) == (1, True)
    assert CliRunner().invoke(cli.main, ["verify", "--anchor", "7:x"]).exit_code == 1
    with owner(database_url) as connection:
        connection.execute(forge("delete from audit where seq > 4"))
    assert "cut off" in walk(database_url, [anchor]).broken


# -- backup


def test_a_restored_backup_equals_and_a_broken_one_is_told(server, desk, database_url, lived, tmp_path, monkeypatch):
    def run(*words, url=database_url):
        monkeypatch.setenv("BRUMEL_OWNER_URL", url)
        return CliRunner().invoke(cli.main, list(words))

    def contents(url):
        query = (
            "select relname from pg_class where relkind in ('r', 'p') and not relispartition "
            "and relnamespace = %s::regnamespace"
        )
        sums = "select md5(string_agg(t::text, ',' order by t::text)) from {} t"
        with owner(url) as connection:
            names = [name for (name,) in connection.execute(query, ["public"]).fetchall()]
            return {name: connection.execute(sums.format(name)).fetchone() for name in names}

    file = tmp_path / "night.dump"
    made = run("backup", str(file))
    assert made.exit_code == 0, made.output
    assert "all versions and references hold" in made.output.replace("\n", " ")
    assert oct(file.stat().st_mode)[-3:] == "600"
    assert "never written over" in run("backup", str(file)).output.replace("\n", " ")
    name = f"t_{uuid.uuid4().hex[:12]}"
    do(server, f"create database {name}")
    try:
        back = run("restore", str(file), url=_database(server, name))
        assert back.exit_code == 0, back.output
        before, after = contents(database_url), contents(_database(server, name))
        assert before == after
        assert "an empty one" in run("restore", str(file), url=_database(server, name)).output.replace("\n", " ")
        with owner(as_app(_database(server, name))) as connection, pytest.raises(psycopg.errors.InsufficientPrivilege):
            connection.execute("delete from readings")
        with owner(_database(server, name)) as connection, pytest.raises(psycopg.errors.RaiseException):
            connection.execute("delete from readings")
    finally:
        do(server, f"drop database {name} with (force)")
    (tmp_path / "cut.dump").write_bytes(file.read_bytes()[:-400])
    do(server, f"create database {name}")
    try:
        assert run("restore", str(tmp_path / "cut.dump"), url=_database(server, name)).exit_code == 1
        assert contents(_database(server, name)) == {}
    finally:
        do(server, f"drop database {name} with (force)")
