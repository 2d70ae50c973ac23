"""What is put away can be brought back, what is last cannot go, and what was used is used once."""

import threading
from datetime import date

import numpy as np
import pytest

from brumel.core.errors import InputError, InputErrors
from brumel.core.trace import Trace
from brumel.methods import StepSpec, load_methods
from brumel.store.tables import Reading
from brumel.work import bench, kit, records, rounds
from brumel.work.desk import MovedOn, NotAllowed, Refused
from brumel.work.quantities.book import quantity_of
from brumel.work.records import late
from brumel.work.rounds import calendar, offline, outings, recurrence
from tests.work import helpers as h
from tests.work.helpers import a_round
from tests.work.test_sheets import a_sheet


@pytest.fixture
def things(desk):
    return h.Things(desk)


def test_the_last_method_of_a_quantity_stays_and_the_others_come_back(desk, clock, things):
    mine = [k for k, m in load_methods().items() if m.quantity == "redox"]
    for key in mine[:-1]:
        kit.retire_method(desk, things.ilka, h.key(), method_key=key, reason="Tidying up")
    with pytest.raises(Refused, match="last method in use"):
        kit.retire_method(desk, things.ilka, h.key(), method_key=mine[-1], reason="Tidying up")
    with pytest.raises(NotAllowed):
        kit.restore_method(desk, things.ansa, h.key(), method_key=mine[0], reason="Wanted")
    kit.restore_method(desk, things.ilka, h.key(), method_key=mine[0], reason="Wanted")
    with desk.read() as session:
        assert set(kit.methods_in_use(session, "redox")) == {mine[0], mine[-1]}
        assert mine[1] in [m.key for m in kit.retired_methods(session)]
    with pytest.raises(MovedOn, match="in use already"):
        kit.restore_method(desk, things.ilka, h.key(), method_key=mine[0], reason="Twice")


def test_meter_and_probe_come_back_in_order(desk, clock, things):
    form = kit.MeterForm("Old set", "O-1", "typed")
    meter = kit.save_meter(desk, things.ansa, h.key(), form).id
    probe = things.probes["B2"]
    kit.retire_probe(desk, things.ilka, h.key(), probe_id=probe, reason="Cracked")
    kit.restore_probe(desk, things.ilka, h.key(), probe_id=probe, reason="It was the lead")
    with desk.read() as session:
        assert kit.probe_of(session, probe).retired_at is None
    kit.retire_meter(desk, things.ilka, h.key(), meter_id=meter, reason="Leaks")
    with desk.read() as session:
        assert [m.name for m in kit.retired_meters(session)] == ["Old set"]
    kit.restore_meter(desk, things.ilka, h.key(), meter_id=meter, reason="Dried")
    with pytest.raises(MovedOn, match="in service already"):
        kit.restore_meter(desk, things.ilka, h.key(), meter_id=meter, reason="Dried")


@pytest.mark.parametrize("method", ["ph-combined", "ph-tablet-7"])
def test_combined_and_tablet_methods_take_no_plain_buffer(desk, clock, things, method):
    with pytest.raises((InputError, InputErrors), match=r"is not a (combined solution|solution made from a tablet)"):
        h.start(desk, things, "A1", method, neutral="N7-121")


def test_cups_are_remembered_from_finished_runs_of_the_same_method_alone(desk, clock, things):
    run = h.start(desk, things)
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Rain")
    probe = things.probes["A1"]
    with desk.read() as session:
        assert kit.last_cups(session, kit.probe_of(session, probe).id, "ph-7-4-10") == {}
    h.calibrate(desk, clock, things)
    with desk.read() as session:
        found = kit.probe_of(session, probe).id
        assert kit.last_cups(session, found, "ph-7-4-10") == things.cups()
        assert kit.last_cups(session, found, "ph-7-one-point") == {}


@pytest.mark.parametrize(
    ("rule", "days"),
    [
        ("freq=weekly;byday=mo,th", [23, 26, 30]),
        ("FREQ=DAILY;INTERVAL=3", [23, 26, 29]),
        ("FREQ=MONTHLY;BYMONTHDAY=-1", [30]),
        ("FREQ=MONTHLY;BYDAY=-1MO", [30]),
        ("FREQ=WEEKLY;UNTIL=20261125", [23]),
    ],
)
def test_a_round_recurs_as_people_say_it(rule, days):
    found = recurrence.occurrences(rule, date(2026, 11, 23), date(2026, 11, 23), date(2026, 11, 30))
    assert [d.day for d in found] == days


@pytest.mark.parametrize(
    ("rule", "told"),
    [
        ("", "once"),
        ("FREQ=DAILY;INTERVAL=3", "every 3 days"),
        ("FREQ=WEEKLY", "every week"),
        ("FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH,FR", "every 2 weeks on Monday, Thursday and Friday"),
        ("FREQ=MONTHLY;BYMONTHDAY=-1", "every month on the last day"),
        ("FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=15;UNTIL=20270630", "every 3 months on day 15, until 30 Jun 2027"),
        ("FREQ=MONTHLY;BYDAY=-1FR", "every month on the last Friday"),
        ("FREQ=YEARLY;BYMONTH=3", None),
        ("FREQ=WEEKLY;BYDAY=XX", None),
        ("FREQ=MONTHLY;BYDAY=1MO,2TU", None),
        ("FREQ=WEEKLY;COUNT=4", None),
    ],
)
def test_a_rule_of_plain_parts_is_told_in_words_and_comes_back_the_same(rule, told):
    parts = recurrence.in_parts(rule)
    assert (parts and parts.words()) == told
    assert recurrence.in_words(rule) == (told or rule)
    if parts:
        assert parts.rule() == rule
        given = {
            "every": parts.every,
            "interval": str(parts.interval),
            "month_day": {-1: "last"}.get(parts.month_day, str(parts.month_day)),
            "nth": str(parts.nth),
            "nth_weekday": "".join(parts.weekdays[:1]),
            "until": str(parts.until or ""),
        }
        weekdays = tuple(reversed(parts.weekdays)) if parts.every == "weeks" else ()
        assert recurrence.read_parts(given, weekdays, date(2026, 11, 23)) == parts


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"every": "secondly"}, "Choose how the round recurs"),
        ({"interval": "0"}, "from 1 to 99"),
        ({"interval": "1e3"}, "from 1 to 99"),
        ({"every": "months", "month_day": "32"}, "from 1 to 31"),
        ({"every": "nth", "nth": "6"}, "which of the month"),
        ({"every": "nth", "nth": "1", "nth_weekday": "XX"}, "Choose the weekday"),
        ({"until": "2026-02-30"}, "is not a day"),
        ({"until": "2020-01-01"}, "before the first"),
        ({"weekday": "XX"}, "is none"),
    ],
)
def test_a_recurrence_that_is_no_recurrence_is_told_by_field(wrong, words):
    given = {"every": "weeks", "interval": "1"} | wrong
    weekdays = (given.pop("weekday"),) if "weekday" in given else ()
    with pytest.raises(InputError, match=words):
        recurrence.read_parts(given, weekdays, date(2026, 11, 23))


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ("freq=secondly", "by days, weeks"),
        ("FREQ=HOURLY", "by days, weeks"),
        ("INTERVAL=2", "FREQ is missing"),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "never comes"),
        ("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", "never comes"),
        ("FREQ=DAILY;INTERVAL=7;BYDAY=TU", "never comes"),
        ("FREQ=DAILY;COUNT=99999", "cannot be read"),
        ("FREQ=DAILY;FREQ=DAILY", "cannot be read"),
        ("FREQ=DAILY\nDTSTART:19000101", "cannot be read"),
    ],
)
def test_a_rule_that_is_too_fine_or_never_comes_is_refused_at_once(desk, things, rule, words):
    new = calendar.NewRound("R", [things.sites["pool"]], rule, date(2026, 11, 23), "08:00", "Europe/Oslo")
    with pytest.raises(InputError, match=words):
        calendar.save_round(desk, things.ilka, h.key(), new=new)


def test_a_rule_of_an_earlier_version_makes_no_page_wait(desk, things):
    with desk.sessions.begin() as session:
        found = calendar.rounds(session)[0]
        found.rule = "FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30"
        assert calendar.next_day(found, date(2026, 11, 23)) is None


def test_two_sheets_of_one_site_sent_at_once_are_not_both_taken(desk, clock, things):
    """Both go off together, at three sites: one is taken, the other is told, and nothing of it is written."""
    out = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id)).id
    sites = [things.sites["lagoon"], things.sites["basin"], things.sites["reed"]]
    for site in sites:
        told, start = [], threading.Barrier(2)

        def send(who, site=site, told=told, start=start):
            sheet = a_sheet(things, clock, out, site_id=site, reason="Seen twice")
            start.wait()
            try:
                late.send(desk, who, h.key(), sheet)
                told.append("taken")
            except offline.Conflict:
                told.append("conflict")

        both = [threading.Thread(target=send, args=(who,)) for who in (things.ansa, things.ilka)]
        for one in both:
            one.start()
        for one in both:
            one.join()
        assert sorted(told) == ["conflict", "taken"]
    with desk.read() as session:
        found = outings.visits_of(session, outings.outing(session, out))
        assert len(found) == len(sites)
        assert all(rounds.of_visit(session, v.id) for v in found)


def test_another_depth_goes_on_the_same_sheet_and_a_second_time_is_a_repeat(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id)).id
    made = set()
    for depth in (0.5, 1.0, 0.5):
        clock.on(minutes=2)
        queued = a_sheet(things, clock, out, site_id=things.sites["basin"], depth_m=depth, reason="Seen twice")
        made.add(late.send(desk, things.ansa, h.key(), queued).visit)
    (visit,) = made
    with desk.read() as session:
        kept = [r for r in rounds.of_visit(session, rounds.visit_of(session, visit).id) if r.quantity == "ph"]
    assert sorted((r.depth_m, r.role) for r in kept) == [(0.5, "first"), (0.5, "repeat"), (1.0, "first")]


@pytest.mark.parametrize(("vessel", "sinks"), [("solution", False), ("saturated_air", True), ("saturated_water", True)])
def test_sinking_is_judged_where_it_should_stand(vessel, sinks):
    """A probe that sinks in zero solution sinks because there is no oxygen there."""
    t_s = np.arange(0, 60, 0.5)
    none = np.zeros(t_s.size)
    trace = Trace(np.arange(t_s.size), t_s, 100 - t_s, none + 14.0, (None,) * t_s.size, "raw")
    between = (0.0, 1.0) if vessel == "solution" else None
    step = StepSpec(key="cup", title="A cup", vessel=vessel, between=between)
    found = quantity_of("oxygen").trace_features(trace, step)
    assert (found.get("fall_percent", 0.0) > 20) is sinks


@pytest.mark.parametrize(
    ("sentence", "spread", "noted"),
    [
        ("The last 5 readings lie within ±12 % (limit ±5).", 0.8, True),  # 12 µS/cm, called % by an earlier version
        ("The last 5 readings lie within ±0.8 % (limit ±5 %).", 0.8, False),
        ("The last 5 readings lie within ±0.04 pH (limit ±0.1 pH).", 0.04, False),
        ("", None, False),
    ],
)
def test_an_old_sentence_in_the_wrong_unit_is_noted(sentence, spread, noted):
    row = Reading(quantity="conductivity", unit="µS/cm", settling={"sentence": sentence, "noise": spread})
    assert bool(records.settling_note(row)) is noted
    assert ("µS/cm" in records.settling_note(row)) is noted
