"""Site readings: the truth through the ladder, what backs it, what is questioned, and corrections as versions."""

import csv
import io

import pytest
from sqlalchemy import select

from brumel.core import ph
from brumel.core.errors import InputError
from brumel.formats.csv_rows import write_rows
from brumel.store.tables import Reading
from brumel.work import records, rounds
from brumel.work.desk import MovedOn, NotAllowed, Refused
from brumel.work.records import mending, reading_rows
from brumel.work.simulator.meters import truth
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def _readings(desk, quantity="ph"):
    with desk.read() as session:
        query = select(Reading).where(Reading.quantity == quantity).order_by(Reading.at, Reading.version)
        return list(session.scalars(query))


def test_a_live_reading_gives_the_water_and_points_at_its_calibration(desk, clock, things):
    made = h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    (reading,) = _readings(desk)
    assert (str(reading.calibration_id), reading.backing, reading.flag) == (made, "open", 1)
    with desk.read() as session:
        pass

        true = truth(session, f"site:{things.sites['raceway']}")["ph"]
    assert abs(reading.value - true) <= reading.expanded_uncertainty
    assert [s["symbol"] for s in reading.working["steps"]] == ["E", "k", "s·k", "pH", "U"]
    again = ph.PhFit.from_dict(reading.calibration.fit).ph(reading.raw, reading.temperature_c)
    assert reading.value == pytest.approx(again, abs=1e-12)
    assert _readings(desk, "temperature")[0].backing == "unbacked"


def test_without_a_valid_calibration_the_reading_is_kept_and_marked(desk, clock, things):
    h.visit(desk, clock, things)
    (never,) = _readings(desk)
    assert (never.backing, never.calibration_id, never.expanded_uncertainty) == ("unbacked", None, None)
    assert "Never calibrated" in never.backing_words
    h.calibrate(desk, clock, things)
    clock.on(hours=30)
    h.visit(desk, clock, things)
    late = _readings(desk)[-1]
    assert late.backing == "unbacked"
    assert "ran out" in late.backing_words
    assert late.calibration_id is not None  # read with the old one, and says so


def test_odd_values_are_questioned_and_kept_with_the_reason(desk, clock, things):
    visit = h.visit(desk, clock, things, source="typed", probe="B1")

    def type_one(value, after):
        clock.on(seconds=20)
        h.type_one(desk, things, visit, value=value, temperature_c=8.0, after_s=after)
        with desk.read() as session:
            return rounds.sheet_of_visit(session, visit, clock())

    type_one(3.2, 10)
    sheet = type_one(3.2, 40)
    assert sheet.lines[0].settling.settled
    assert [q.code for q in sheet.questions] == ["ph:unusual"]
    take = dict(visit_id=visit, dip_id=str(sheet.lines[0].dip.id))
    with pytest.raises(Refused, match="outside what this site can be"):
        rounds.take(desk, things.ansa, h.key(), **take)
    with pytest.raises(InputError, match="in a few words"):
        rounds.take(desk, things.ansa, h.key(), **take, answers={"ph:unusual": "x"})
    same = h.key()
    rounds.take(desk, things.ansa, same, **take, reason="Acid spill upstream, seen")
    rounds.take(desk, things.ansa, same, **take, reason="Acid spill upstream, seen")
    with pytest.raises(MovedOn):
        rounds.take(desk, things.ansa, h.key(), **take, reason="Again")
    (kept,) = _readings(desk)
    assert (kept.flag, kept.reason, kept.raw_unit) == (4, "Acid spill upstream, seen", "pH displayed")


def test_impossible_input_names_the_field_and_loses_nothing(desk, clock, things):
    visit = h.visit(desk, clock, things, source="typed", probe="B1")
    for value, temperature, words in ((71.0, 8.0, "Displayed pH"), (7.1, float("inf"), "Temperature")):
        with pytest.raises(InputError, match=words):
            h.type_one(desk, things, visit, value=value, temperature_c=temperature)
    assert _readings(desk) == []


def test_a_correction_is_a_new_version_with_its_reason(desk, clock, things):
    visit = h.visit(desk, clock, things, source="typed", probe="B1")
    for after in (10, 40):
        h.type_one(desk, things, visit, value=7.91, temperature_c=8.0, after_s=after)
    with desk.read() as session:
        dip = str(rounds.sheet_of_visit(session, visit, clock()).lines[0].dip.id)
    rounds.take(desk, things.ansa, h.key(), visit_id=visit, dip_id=dip, reason="First visit")
    (first,) = _readings(desk)
    correction = mending.Correction("Swapped two digits", None, raw=7.19, temperature_c=8.0)
    fix = dict(reading_id=str(first.id), version=1, correction=correction)
    mending.correct(desk, things.ansa, h.key(), **fix)
    with pytest.raises(MovedOn, match="newer version"):
        mending.correct(desk, things.ilka, h.key(), **fix)
    old, new = _readings(desk)
    assert (old.value, new.version, new.reason) == (first.value, 2, "Swapped two digits")
    assert new.value == pytest.approx(7.19, abs=1e-9)
    with desk.read() as session:
        rows, total = records.readings(session, records.Search(quantity="ph"))
        assert (total, rows[0].version) == (1, 2)
        out = "".join(write_rows(reading_rows.COLUMNS, records.export(session, records.Search())))
    table = list(csv.DictReader(io.StringIO(out)))
    assert {r["quantity"]: r["version"] for r in table} == {"ph": "2", "temperature": "1"}
    assert next(r for r in table if r["quantity"] == "ph")["unit"] == "pH"


def test_the_probe_on_bench_cannot_be_read_with_and_the_audit_is_the_lead_s(desk, clock, things):
    h.start(desk, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["A1"]], source="live"
    ).id
    with pytest.raises(Refused, match="is on Bench in an open run"):
        rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        assert records.audit(session, things.ilka, records.Search())[1] == 2
        with pytest.raises(NotAllowed):
            records.audit(session, things.ansa, records.Search())
