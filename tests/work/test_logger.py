"""Logged series: a file is read or refused by line, flagged by QARTOD, kept once, and drawn from bins."""

import uuid
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree

import numpy as np
import pytest
from sqlalchemy import func, select

from brumel.core import logged
from brumel.core.errors import InputError, InputErrors
from brumel.formats import series_csv
from brumel.formats.waterml import QUALITY, write_waterml
from brumel.store.logger import LoggerValue
from brumel.web.drawings import site as site_drawings
from brumel.work import rounds
from brumel.work.bench import closing_checks
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import MovedOn, NotAllowed, Refused
from brumel.work.records import openly
from brumel.work.rounds import logger
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def a_file(rows, head="time,oxygen"):
    return "\n".join([head, *rows]).encode()


GOOD = ["2026-11-20T09:00,9.1", "2026-11-20T09:05,9.2", "2026-11-20T09:10,9.1"]


def test_times_are_read_in_the_site_s_zone_and_offsets_win():
    found = series_csv.read(a_file(GOOD), "Europe/Oslo")
    assert found.times[0] == datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
    assert (found.values, found.column) == ([9.1, 9.2, 9.1], "oxygen")
    with_offset = a_file(["2026-11-20T09:00+00:00;9,1", "2026-11-20T10:05+01:00;9,2", "2026-11-20T09:10Z;9"], "time;x")
    assert [t.minute for t in series_csv.read(with_offset, "Europe/Oslo").times] == [0, 5, 10]
    assert series_csv.read(a_file(GOOD, "time_utc,x"), "Europe/Oslo").times[0].hour == 9


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "columns"),
        (b"\xff\xfe\x00", "UTF-8"),
        (b"x" * 8_000_001, "8 MB"),
        (a_file(GOOD, "value,time"), "first line must name"),
        (a_file(GOOD[:2]), "fewer than three"),
        (a_file([*GOOD, "2026-11-20T09:10,9.3"]), "line 5: 2026-11-20T09:10 does not come after"),
        (a_file([*GOOD, "2026-11-20T08:00,9.3"]), "does not come after"),
        (a_file([*GOOD, "yesterday,9.3"]), "is not a time"),
        (a_file([*GOOD, "2026-11-20T09:15,NaN"]), "is not a number"),
        (a_file([*GOOD, "2026-11-20T09:15,=1+1"]), "is not a number"),
        (a_file([*GOOD, "2026-11-20T09:15"]), "there is no value"),
        (a_file(["2026-03-29T02:30,1", *GOOD]), "summer time"),  # does not exist in Oslo
        (a_file(["2026-10-25T02:30,1", *GOOD]), "summer time"),  # exists twice
    ],
)
def test_a_file_that_cannot_be_trusted_is_refused_by_line(data, words):
    with pytest.raises(InputError) as caught:
        series_csv.read(data, "Europe/Oslo")
    assert words in " ".join(str(f) for f in caught.value.faults)


def test_every_fault_is_told_but_not_a_thousand():
    with pytest.raises(InputErrors) as caught:
        series_csv.read(a_file([f"2026-11-20T09:00,{'x' * 500}"] * 50), "UTC")
    assert len(caught.value.faults) == 10
    assert all(len(str(f)) < 200 for f in caught.value.faults)


def a_week(clock, minutes=5):
    start = clock() - timedelta(days=8)
    times = [start + timedelta(minutes=minutes * i) for i in range(2016)]
    y = 9.0 + 1.2 * np.sin(np.arange(2016) * 2 * np.pi / 288)
    return times, y


def test_a_week_is_kept_flagged_and_drawn_from_bins(desk, clock, things):
    times, y = a_week(clock)
    y[300], y[700], y[1000:1100] = 25.0, 13.8, 9.5  # beyond gross, a spike, stuck
    del times[1500:1530]
    y = np.delete(y, np.s_[1500:1530])
    week = logger.NewSeries("oxygen", "mg/L", times, list(y), "week.csv")
    given = dict(site_id=things.sites["raceway"], series=week)
    key = h.key()
    made = logger.take_in(desk, things.ansa, key, **given)
    assert logger.take_in(desk, things.ansa, key, **given) == made
    with pytest.raises(Refused, match="covers some of this time already"):
        logger.take_in(desk, things.ansa, h.key(), **given)
    with desk.read() as session:
        (log,) = logger.of_site(session, rounds.site_of(session, things.sites["raceway"]).id)
        assert (log.count, log.gaps, log.interval_s) == (1986, 1, 300.0)
        flags = dict(session.execute(select(LoggerValue.at, LoggerValue.flag).where(LoggerValue.flag > 2)).all())
        assert flags[times[300]] == 4  # QARTOD: beyond the gross range fails
        assert flags[times[700]] >= 3
        assert flags[times[1090]] == 4  # and so does a line that stays flat for 72 samples
        assert log.flagged == len(flags)
        assert session.scalar(select(func.count()).select_from(LoggerValue)) == 1986
        band = logger.band(session, log)
    assert len(band.times) <= logger.BINS
    # What failed its tests does not set the scale of the drawing, but is there.
    assert (min(band.low), max(band.high)) == pytest.approx((float(y.min()), 10.2))
    assert (times[300], 25.0, 4) in band.odd
    view = site_drawings.log_band(band, "Europe/Oslo")
    assert 6 <= len(view["days"]) <= 9
    assert all(52 <= o["x"] <= 590 and 14 <= o["y"] <= 150 for o in view["odd"])


@pytest.mark.parametrize(
    ("other", "words"),
    [
        ({"unit": "%"}, "is kept in mg/L"),
        ({"quantity": "beauty"}, "Choose the quantity"),
        ({"late": True}, "in the future"),
    ],
)
def test_a_wrong_unit_or_clock_is_told(desk, clock, things, other, words):
    times, y = a_week(clock)
    if other.pop("late", False):
        times = [t + timedelta(days=30) for t in times]
    week = replace(logger.NewSeries("oxygen", "mg/L", times, list(y), "w"), **other)
    with pytest.raises(InputError, match=words):
        logger.take_in(desk, things.ansa, h.key(), site_id=things.sites["raceway"], series=week)


OFF = dict(before=8.4, after=9.2, standard_read=10.1, standard_value=10.0)  # -0.7 mg/L at the end
HELD = dict(before=9.1, after=9.2, standard_read=10.1, standard_value=10.0)


def a_log(desk, clock, things, probe="A5"):
    """A week at 5 minutes behind a calibrated probe, or behind none."""
    if probe:
        given = Conditions(pressure_from="altitude", altitude_m=96.0, water_c=9.0)
        run = h.start_with(desk, things, probe, "do-saturated-air", given)
        h.take_all(desk, clock, things, run)
        h.finish(desk, things, run)
        clock.on(days=8, minutes=10)
    times, y = a_week(clock)
    made = logger.take_in(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["raceway"],
        series=logger.NewSeries(
            quantity="oxygen",
            unit="mg/L",
            times=times,
            values=list(y),
            name="week.csv",
            probe_id=things.probes[probe] if probe else "",
        ),
    )
    return made.id, y


def rule(desk, who, log, decision, version=0, reason="Looked at both ends", name="Ilka Torvend", seen=None):
    with desk.read() as session:
        kept = logger.services(session, logger.log(session, log))
    return logger.decide(
        desk,
        who,
        h.key(),
        series_id=log,
        decided=logger.SeriesDecision(
            decision=decision,
            reason=reason,
            name=name,
            version=version,
            check_id=seen or (str(kept[0].id) if kept else ""),
        ),
    )


def test_a_series_is_closed_by_what_was_read_at_its_end_and_its_values_stay(desk, clock, things):
    log, y = a_log(desk, clock, things)
    with desk.read() as session:
        assert logger.standing(session, logger.log(session, log)).state == "open"
    with pytest.raises(Refused, match="Nothing was read at its end"):
        rule(desk, things.ilka, log, "bracket")
    logger.record_service(desk, things.ansa, h.key(), series_id=log, service=logged.Service(**OFF))
    with pytest.raises(NotAllowed):
        rule(desk, things.ansa, log, "correct")
    with pytest.raises(Refused, match="did not hold"):
        rule(desk, things.ilka, log, "bracket")
    with pytest.raises(Refused, match="own name"):
        rule(desk, things.ilka, log, "correct", name="Ansa Merrik")
    with desk.read() as session:
        assert [row.id for row in logger.waiting(session)] == [uuid.UUID(log)]
    rule(desk, things.ilka, log, "correct")
    with pytest.raises(MovedOn, match="another window"):
        rule(desk, things.ilka, log, "doubt")
    with desk.read() as session:
        found = logger.log(session, log)
        stands = logger.standing(session, found)
        assert (stands.state, stands.by.grade) == ("corrected", "poor")  # 0.8 and 0.1 mg/L together, by USGS-TM1D3
        assert logger.waiting(session) == []
        rows = list(logger.values(session, found))
        # USGS-TM1D3: nothing at the start, the whole error at the end, and the line between them
        right = y + 0.7 * np.linspace(0, 1, y.size)
        assert [r[1] for r in rows] == pytest.approx(list(y))
        assert [r[2] for r in rows] == pytest.approx(list(right))
        band = logger.band(session, found, stands.by)
        assert (min(band.low), max(band.high)) == pytest.approx((right.min(), right.max()))
        text = series_csv.write("oxygen", "mg/L", stands.state, rows[:1])
        assert text.splitlines()[0] == "time_utc,oxygen [mg/L] recorded,oxygen [mg/L] reported,qartod_flag,backing"
    with desk.read() as session:
        first = str(logger.services(session, logger.log(session, log))[0].id)
    clock.on(minutes=1)
    again = dict(OFF, before=4.2)  # -4.9 at the end: beyond 2 mg/L nothing is reported
    logger.record_service(desk, things.ansa, h.key(), series_id=log, service=logged.Service(**again))
    with pytest.raises(MovedOn, match="read again in another window"):
        rule(desk, things.ilka, log, "correct", version=1, seen=first)
    rule(desk, things.ilka, log, "correct", version=1)
    with desk.read() as session:
        found = logger.log(session, log)
        told = [r[2] for r in logger.values(session, found)]
        share = 2 / 4.9
        assert sum(v is not None for v in told) == pytest.approx(share * len(told), abs=2)
        assert len(logger.band(session, found, logger.standing(session, found).by).times) < logger.BINS / 2
        assert [r.version for r in logger.decisions_of(session, found)] == [2, 1]
    rule(desk, things.ilka, log, "reject", version=2, reason="The film came off in the river")
    with desk.read() as session:
        assert {r[2] for r in logger.values(session, logger.log(session, log))} == {None}


def test_a_series_without_a_calibration_is_never_called_bracketed(desk, clock, things):
    log, _ = a_log(desk, clock, things, probe="")
    with desk.read() as session:
        assert "no probe is named" in logger.standing(session, logger.log(session, log)).words
    logger.record_service(desk, things.ansa, h.key(), series_id=log, service=logged.Service(**HELD))
    with pytest.raises(Refused, match="No calibration stands behind"):
        rule(desk, things.ilka, log, "bracket")
    rule(desk, things.ilka, log, "doubt")


def test_a_share_is_taken_off_where_the_values_are_as_the_core_does_it(desk, clock, things):
    log, y = a_log(desk, clock, things, probe="")
    ends = logged.ends(logged.Service(90.0, 100.0, 1427.0, 1413.0), closing_checks.criteria("conductivity"), 100.0)
    with desk.read() as session:
        found = logger.log(session, log)
        band = logger.band(session, found, logger.EffectOnSeries(ends, "fair", 1.0, found.ends))
    right = logged.corrected(y, np.linspace(0, 1, y.size), ends)
    assert (min(band.low), max(band.high)) == pytest.approx((right.min(), right.max()))


def test_a_logger_set_out_with_a_calibration_that_had_run_out_is_unbacked(desk, clock, things):
    a_log(desk, clock, things)
    clock.on(days=60)
    times, y = a_week(clock)
    late = logger.take_in(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["raceway"],
        series=logger.NewSeries(
            quantity="oxygen", unit="mg/L", times=times, values=list(y), name="late.csv", probe_id=things.probes["A5"]
        ),
    ).id
    with desk.read() as session:
        assert "no valid calibration" in logger.standing(session, logger.log(session, late)).words


def test_a_series_leaves_as_waterml_with_the_worth_of_each_value(desk, clock, things):
    times, y = a_week(clock)
    y[300], y[700] = 25.0, 13.8
    week = logger.NewSeries("oxygen", "mg/L", times[:900], list(y[:900]), "week.csv")
    made = logger.take_in(desk, things.ansa, h.key(), site_id=things.sites["raceway"], series=week)
    with desk.read() as session:
        record = openly.open_series(session, logger.log(session, made.id), clock())
        flags = [flag for *_, flag in logger.values(session, logger.log(session, made.id))]
    assert [r.flag for r in record.readings] == flags
    root = ElementTree.fromstring(write_waterml(record))
    said = [
        e.get("{http://www.w3.org/1999/xlink}title") for e in root.iter("{http://www.opengis.net/waterml/2.0}quality")
    ]
    assert said == [QUALITY[flag] for flag in flags]
    assert (said[300], len(said)) == ("poor", 900)
    logger.withdraw(desk, things.ansa, h.key(), series_id=made.id, version=0, reason="the wrong site")
    with desk.read() as session:
        record = openly.open_series(session, logger.log(session, made.id), clock())
    assert {r.flag for r in record.readings} == {9}
