"""Days out: recurrence through summer time, the plan of the day, packing, and settings before leaving."""

from datetime import UTC, date, datetime, timedelta

import pytest

from brumel.core import meter_settings
from brumel.core.errors import InputError, InputErrors
from brumel.store.tables import Lot
from brumel.work import kit, rounds
from brumel.work.desk import MovedOn, NotFound, Refused
from brumel.work.kit.stock import CUP_ML, left_of_lots
from brumel.work.rounds import calendar, outings, packing, recurrence, site_record
from brumel.work.rounds import plan as day_plan
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


# -- the calendar


@pytest.mark.parametrize(
    ("rule", "starts", "since", "until", "days"),
    [
        ("", "2026-03-29", "2026-03-01", "2026-04-30", ["2026-03-29"]),
        (
            "FREQ=WEEKLY;BYDAY=TU",
            "2026-03-17",
            "2026-03-17",
            "2026-04-07",
            ["2026-03-17", "2026-03-24", "2026-03-31", "2026-04-07"],
        ),
        (
            "FREQ=WEEKLY;INTERVAL=2",
            "2026-10-20",
            "2026-10-20",
            "2026-11-20",
            ["2026-10-20", "2026-11-03", "2026-11-17"],
        ),
        (
            "FREQ=MONTHLY;BYMONTHDAY=31",
            "2026-01-31",
            "2026-01-01",
            "2026-05-31",
            ["2026-01-31", "2026-03-31", "2026-05-31"],
        ),
        ("FREQ=DAILY;COUNT=2", "2026-12-31", "2026-01-01", "2027-12-31", ["2026-12-31", "2027-01-01"]),
    ],
)
def test_a_round_is_due_on_the_days_of_its_rule(rule, starts, since, until, days):
    found = recurrence.occurrences(
        rule, *(date.fromisoformat(d) for d in (starts, since, until))
    )  # RFC 5545, section 3.3.10
    assert [str(d) for d in found] == days


def test_leaving_is_by_the_wall_clock_on_both_sides_of_summer_time(desk):
    found = h.a_round(desk)
    hours = [calendar.leaving(found, date(2026, m, d)).astimezone(UTC).hour for m, d in ((3, 28), (3, 30), (10, 26))]
    assert hours == [6, 5, 6]  # 07:30 in Oslo
    late = datetime(2026, 3, 28, 23, 30, tzinfo=UTC)
    assert calendar.today_of(found, late) == date(2026, 3, 29)


def test_every_round_of_two_months_is_in_the_calendar_by_its_wall_clock(desk, clock):
    with desk.read() as session:
        found = calendar.leavings(session, clock())
        names = {r.name for r, _ in found}
        assert names == {
            r.name for r in calendar.rounds(session) if calendar.next_day(r, calendar.today_of(r, clock()))
        }
        assert [at for _, at in found] == sorted(at for _, at in found)
        assert all(f"{at:%H:%M}" == r.leave_at for r, at in found)


# -- the plan


def test_the_plan_counts_waits_that_run_and_names_what_cannot_make_it(desk, clock, things):
    found = h.a_round(desk)
    with desk.read() as session:
        plan = day_plan.plan_day(
            session, calendar.round_of(session, found.id), clock(), leave_at=clock() + timedelta(hours=4)
        )
    assert plan.in_time
    assert {c.quantity for c in plan.chosen} == {"temperature", "ph", "conductivity", "redox", "oxygen"}
    hands = sorted((line.start, line.end) for line in plan.lines if line.kind == "hands")
    assert all(a[1] <= b[0] for a, b in zip(hands, hands[1:], strict=False))  # one pair of hands
    assert max(line.end for line in plan.lines) == plan.ready_at
    assert plan.lines[-1].what.startswith("pack")
    told = [line.what for line in plan.lines if line.probe == "pH probe A1" and line.kind == "hands"]
    assert told[-4:] == ["in buffer 7.01 (N7-121)", "in buffer 4.01 (N4-118)", "in buffer 10.01 (N10-090)", "verdict"]
    assert any(line.deciding for line in plan.lines)
    probe = next(c.probe for c in plan.chosen if c.quantity == "oxygen")
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=str(probe.id), what="membrane", note="torn")
    clock.on(minutes=20)
    with desk.read() as session:
        one = calendar.round_of(session, found.id)
        soon = day_plan.plan_day(session, one, clock(), leave_at=clock() + timedelta(minutes=30))
        mine = kit.trust_of(session, kit.probe_of(session, probe.id), clock())
        picked = next(c.probe for c in soon.chosen if c.quantity == "oxygen")
    assert not mine.valid
    assert not soon.in_time
    assert soon.troubles
    assert "leaving is at" in soon.troubles[0].what
    if picked.id == probe.id:
        wait = next(line for line in soon.lines if line.probe == probe.name)
        assert wait.end - wait.start <= timedelta(minutes=71)  # 90 min of polarising, 20 of them gone


def test_the_plan_of_another_day_ends_when_that_day_leaves(desk, clock):
    with desk.read() as session:
        planned = calendar.round_of(session, h.a_round(desk).id)
        tomorrow = calendar.leaving(planned, calendar.today_of(planned, clock()) + timedelta(days=1))
        plan = day_plan.plan_day(session, planned, clock(), leave_at=tomorrow)
        today = day_plan.plan_day(session, planned, clock(), leave_at=clock() + timedelta(hours=6))
    assert plan.ready_at == plan.leave_at == tomorrow
    assert plan.starts_at == plan.begin_at == min(line.start for line in plan.lines)
    assert {line.start.astimezone(tomorrow.tzinfo).date() for line in plan.lines} == {tomorrow.date()}
    assert today.starts_at == clock() < today.begin_at
    assert not any(line.late for line in plan.lines)


def test_a_wait_that_is_over_by_then_is_no_step_of_another_day(desk, clock, things):
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["A5"], what="membrane", note="torn")
    with desk.read() as session:
        planned = calendar.round_of(session, h.a_round(desk).id)
        tomorrow = calendar.leaving(planned, calendar.today_of(planned, clock()) + timedelta(days=1))
        alone = [p for p in kit.probes_in_service(session) if p.meter.name == "Field set A"]
        carried = outings.choice_among(planned, alone, kit.trusts(session, alone, clock()))
        known = day_plan.AlreadyKnown(carried)
        later = day_plan.plan_day(session, planned, clock(), leave_at=tomorrow, known=known)
        today = day_plan.plan_day(session, planned, clock(), leave_at=clock() + timedelta(hours=6), known=known)

    def waits(plan):
        return [line for line in plan.lines if line.probe == "Oxygen probe A5" and "settles" not in line.what]

    assert waits(today)[0].kind == "wait"  # it polarises
    assert "wait" not in [line.kind for line in waits(later)]
    assert later.leave_at - later.starts_at < timedelta(minutes=75)
    assert later.ready_at == tomorrow


def test_ion_tips_come_after_what_they_rest_on(desk, clock, things):
    found = h.a_round(desk, "Farm and lido")
    with desk.read() as session:
        plan = day_plan.plan_day(
            session, calendar.round_of(session, found.id), clock(), leave_at=clock() + timedelta(hours=5)
        )
    whose = {c.probe.name: c.quantity for c in plan.chosen}
    dips = [line for line in plan.lines if whose.get(line.probe) in day_plan.IONS and line.what != "inspect it"]
    rests = [line for line in plan.lines if whose.get(line.probe) in ("ph", "redox", "conductivity")]
    tips = [line.what for line in dips if "NO" in line.what and line.kind == "hands"]
    assert tips == ["in nitrate 10 as N (NO1-014)", "in nitrate 100 as N (NO2-014)"]
    assert min(line.start for line in dips) >= max(line.end for line in rests)


def test_a_calibrated_probe_needs_nothing_and_an_open_run_only_its_last_cups(desk, clock, things):
    h.calibrate(desk, clock, things)
    found = h.a_round(desk)

    def steps(name):
        with desk.read() as session:
            plan = day_plan.plan_day(session, calendar.round_of(session, found.id), clock(), leave_at=clock())
        return [line.what for line in plan.lines if line.probe == name and line.kind == "hands"]

    assert steps("pH probe A1") == []
    run = h.start(desk, things, "A3", "ec-air-one", standard="E14-055")
    before = len(steps("Conductivity cell A3"))
    h.take_cup(desk, clock, things, run)
    assert len(steps("Conductivity cell A3")) == before - 1


def test_packing_brackets_the_waters_and_is_kept(desk, clock, things):
    found = h.a_round(desk, "Farm and lido")
    made = outings.start(desk, things.ansa, h.key(), round_id=str(found.id)).id
    assert outings.start(desk, things.ilka, h.key(), round_id=str(found.id)).id == made  # one a day
    with desk.read() as session:
        box = packing.packing(session, calendar.round_of(session, found.id), clock())
    assert {i.key.split("-")[0] for i in box["probes"]} == {"probe"}
    words = " ".join(i.what for i in box["standards"])
    assert "Buffer 4.01" in words or "Combined" in words
    assert any("membrane" in i.what for i in box["spares"])
    ticked = [box["probes"][0].key, "nonsense"]
    assert packing.pack(desk, things.ansa, h.key(), outing_id=made, ticked=ticked).packed == 1
    outings.end(desk, things.ansa, h.key(), outing_id=made)
    with desk.read() as session:
        out = outings.outing(session, made)
        assert list(out.packed) == [box["probes"][0].key]
        assert out.ended_at == clock()
        assert outings.to_close(session, out) == []


def test_what_is_left_counts_down_by_the_record_and_the_box_says_what_does_not_reach(desk, clock, things):
    def left(code="N7-121"):
        with desk.read() as session:
            return left_of_lots(session, [session.get(Lot, things.lots[code])])[session.get(Lot, things.lots[code]).id]

    assert (left().amount, left().words) == (None, "never counted")
    kit.count_stock(desk, things.ansa, h.key(), lot_id=things.lots["N7-121"], amount=100)
    clock.on(minutes=1)
    h.calibrate(desk, clock, things)
    assert left().amount == 100 - CUP_ML  # three points of one run are one cup of each lot
    found = h.a_round(desk)

    def box(key):
        with desk.read() as session:
            whole = packing.packing(session, calendar.round_of(session, found.id), clock())
        return next(i for group in whole.values() for i in group if i.key.startswith(key))

    lot = box("lot-").key.removeprefix("lot-")
    kit.count_stock(desk, things.ansa, h.key(), lot_id=lot, amount=60)
    assert "1 cup, 40 mL; about 60 mL left" in box(f"lot-{lot}").why  # A1 is calibrated: the closing check is left
    assert not box(f"lot-{lot}").care
    clock.on(days=2)  # and it has run out
    assert "about 60 mL left, 80 mL are needed" in box(f"lot-{lot}").care
    kit.count_stock(desk, things.ansa, h.key(), spare="storage", amount=20)
    assert "about 20 mL left, 40 mL are needed" in box("storage").care
    with desk.read() as session:
        oxygen = next(p for p in kit.probes_in_service(session) if p.kind == "polarographic")
        meter = oxygen.meter
    for spare in ("membrane", f"battery-{meter.id}"):
        kit.count_stock(desk, things.ansa, h.key(), spare=spare, amount=1)
    clock.on(minutes=1)
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=str(oxygen.id), what="membrane", note="Torn")
    kit.record_battery_change(
        desk, things.ansa, h.key(), meter_id=str(meter.id), note="4 cells", answers={"contacts": "clean"}
    )
    with desk.read() as session:
        known = kit.spares(session, kit.meters_in_service(session))
    assert (known["membrane"][1].amount, known[f"battery-{meter.id}"][1].amount) == (0, 0)


@pytest.mark.parametrize(
    ("what", "words"),
    [
        (dict(spare="membrane", amount=float("nan")), "must be a number"),
        (dict(spare="membrane", amount=-1), "0 to 1000"),
        (dict(spare="membrane", lot_id="x", amount=1), "one thing"),
        (dict(spare="flux", amount=1), "from the list"),
        (dict(lot_id="0000", amount=1), "no such solution"),
    ],
)
def test_a_wrong_count_is_named(desk, things, what, words):
    with pytest.raises((InputError, Refused, NotFound), match=words):
        kit.count_stock(desk, things.ansa, h.key(), **what)


def test_settings_are_looked_through_before_leaving_and_a_change_makes_that_stale(desk, clock, things):
    made = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id

    def state():
        with desk.read() as session:
            out = outings.outing(session, made)
            rows = packing.settings(session, out, clock())
            missing = {m.name for m in packing.unseen(session, out, [r.meter for r in rows])}
            assert missing == {r.meter.name for r in rows if not r.seen}
            return {r.meter.name: (r.recorded, r.seen) for r in rows}

    with desk.read() as session:
        mine = packing.settings(session, outings.outing(session, made), clock())[0].meter
    start = {key: 25 for key, spec in meter_settings.SETTINGS.items() if not spec.optional} | {
        "temperature_unit": "°C",
        "buffer_family": "7.00",
        "ph_resolution": "0.01",
        "conductivity_unit": "µS/cm",
        "cell_constant": 1,
        "compensation": "natural",
        "temperature_coefficient": 2,
        "tds_factor": 0.5,
        "preset_pressure_hpa": 1013,
        "auto_off_min": 0,
    }
    kit.record_settings(desk, things.ansa, h.key(), meter_id=str(mine.id), settings=start, reason="")
    name, (first, seen) = mine.name, state()[mine.name]
    assert not seen
    confirm = dict(outing_id=made, settings_id=str(first.id))
    packing.confirm(desk, things.ansa, h.key(), **confirm)
    assert state()[name][1].endswith("by Ansa Merrik")
    clock.on(minutes=5)
    changed = first.settings | {"tds_factor": 0.7 if first.settings["tds_factor"] != 0.7 else 0.5}
    kit.record_settings(
        desk, things.ansa, h.key(), meter_id=str(first.meter_id), settings=changed, reason="Someone turned it"
    )
    assert not state()[name][1]
    with pytest.raises(MovedOn, match="recorded anew"):
        packing.confirm(desk, things.ansa, h.key(), **confirm)


def test_a_round_is_kept_in_order_and_its_faults_are_told_at_once(desk, clock, things):
    two = [things.sites["lagoon"], things.sites["pool"]]
    new = calendar.NewRound("Two", two, "FREQ=WEEKLY", date(2026, 11, 3), "06:45", "Europe/Oslo")
    made = calendar.save_round(desk, things.ilka, h.key(), new=new).id
    with desk.read() as session:
        assert [s.name for s in calendar.round_of(session, made).sites] == [
            "Creek mouth, north bank",
            "Warm pool, deep end",
        ]
    back = calendar.NewRound("Two", list(reversed(new.sites)), "FREQ=WEEKLY", new.starts, "06:45", "Europe/Oslo")
    calendar.save_round(desk, things.ilka, h.key(), new=back, round_id=made)
    with desk.read() as session:
        assert calendar.round_of(session, made).sites[0].name == "Warm pool, deep end"
    wrong = calendar.NewRound("", [things.sites["pool"]] * 2, "FREQ=SECONDLY", new.starts, "25:00", "Nowhere")
    with pytest.raises(InputErrors) as caught:
        calendar.save_round(desk, things.ilka, h.key(), new=wrong)
    assert {f.field for f in caught.value.faults} == {"name", "site", "rule", "leave_at", "zone"}
    site_record.retire_site(desk, things.ilka, h.key(), site_id=things.sites["pool"], reason="Closed")
    with desk.read() as session:
        assert len(calendar.round_of(session, made).sites) == 1
    with pytest.raises(Refused, match="put it away"):
        rounds.start_visit(
            desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["B1"]], source="typed"
        )
