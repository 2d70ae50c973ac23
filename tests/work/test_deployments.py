"""A deployment from its plan to what is handed over: files joined, checks made, corrected against a known truth, watched."""

import copy
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from sqlalchemy import select

from brumel.core.deployed.service import ServiceReading, Standard
from brumel.core.errors import InputError, InputErrors
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Block, FeedRecord, LoggerFile
from brumel.work import kit, rounds
from brumel.work.desk import Conflict, MovedOn, NotAllowed, Refused
from brumel.work.records import news
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.agenda import agenda
from brumel.work.rounds.deployments import channels, looking, out
from brumel.work.rounds.deployments.whole import us
from brumel.work.simulator.loggers import Sensor, shown, water
from tests.work import helpers as h

#: Of four weeks at half an hour, and what the two visits took.
RECORDS = 28 * 48 + 1
OXYGEN = Sensor(fouling_per_day=-0.05, noise=0.02, step=0.01)


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def planned(desk):
    """An oxygen and temperature logger at the reed channel, every 30 minutes for six weeks."""
    return _planned(desk)


def _planned(desk):
    things, clock = h.Things(desk), desk.clock
    new = dep.NewDeployment(
        site_id=things.sites["reed"],
        meter_id=next(iter(things.meters.values())),
        name="Reed channel, summer",
        interval_s=1800,
        planned_start=clock.at,
        planned_end=clock.at + timedelta(days=42),
        channels=[dep.PlannedChannel("oxygen"), dep.PlannedChannel("temperature")],
        depth_m=0.6,
        memory_records=3000,
        battery_days=90,
    )
    return Story(desk, things, clock, dep.save(desk, things.ansa, h.key(), new=new).id, new)


class Story:
    def __init__(self, desk, things, clock, id_, new):
        self.desk, self.things, self.clock, self.id, self.new = desk, things, clock, id_, new
        self.cleaned = []

    def whole(self):
        with self.desk.read() as session:
            whole = dep.whole_of(session, dep.deployment_of(session, self.id))
            session.expunge_all()
            return whole

    def set_out(self, ahead_s=0.0):
        keys = [s.key for s in load_deployments().settings]
        dep.configure(
            self.desk,
            self.things.ansa,
            h.key(),
            deployment_id=self.id,
            looked_at=keys,
            at=self.clock.at,
            ahead_s=ahead_s,
        )
        self.clock.on(minutes=30)
        dep.start(self.desk, self.things.ansa, h.key(), deployment_id=self.id, at=self.clock.at)
        self.started = self.clock.at
        self.cleaned = [self.started.timestamp()]
        self.clock.on(minutes=40)
        first = self.started + timedelta(minutes=30)
        dep.confirm(
            self.desk, self.things.ansa, h.key(), deployment_id=self.id, at=self.clock.at, first_at=first, count=1
        )

    def times(self, begin, end):
        start = self.started.timestamp()
        first = start + 1800.0 * np.ceil((begin.timestamp() - start) / 1800)
        return np.arange(first, end.timestamp(), 1800.0)

    def shows(self, quantity, t):
        truth = water(quantity, t, 5)
        return shown(truth, t, OXYGEN, self.cleaned, self.cleaned, 5) if quantity == "oxygen" else np.round(truth, 2)

    def service(self, by="ansa", **other):
        """Cleaned: what it showed before and after at the moment of the visit."""
        t = np.array([self.clock.at.timestamp()])
        before = float(self.shows("oxygen", t)[0])
        after = float(water("oxygen", t, 5)[0])
        read = ServiceReading(before, after, after, after, (Standard(9.09, 9.09),))
        told = {
            "at": self.clock.at,
            "back_at": self.clock.at + timedelta(minutes=25),
            "by_channel": {
                "oxygen": dep.ChannelService(read),
                "temperature": dep.ChannelService(ServiceReading(standards=(Standard(20.0, 20.0),))),
            },
            "found": "Brown growth on the guard",
        } | other
        visit = dep.ServiceVisit(**told)
        id_ = dep.record(self.desk, getattr(self.things, by), h.key(), deployment_id=self.id, visit=visit).id
        self.cleaned.append((visit.back_at or visit.at).timestamp())
        self.clock.on(minutes=30)
        return id_

    def file(self, begin, end, name="first.csv", wrong=0.0):
        t = self.times(begin, end)
        lines = ["Logger 1", "Date;Time;Temp (°C);DO (mg/L)"]
        for at, c, o in zip(t, self.shows("temperature", t), self.shows("oxygen", t), strict=True):
            local = datetime.fromtimestamp(at, UTC)
            lines.append(
                f"{local:%d.%m.%Y;%H:%M:%S};{c:.2f};{o + wrong:.2f}".replace(".2026", "#")
                .replace(".", ",")
                .replace("#", ".2026")
                .replace(",", ".", 1)
            )
        return "\n".join(lines).encode()

    def take(self, data, name="first.csv", zone="UTC"):
        file = dep.arrive(self.desk, self.things.ansa, h.key(), deployment_id=self.id, name=name, data=data).id
        with self.desk.read() as session:
            guess, known = dep.guess(session, dep.file_of(session, file))
        shape = replace(guess.shape, zone=guess.shape.zone or zone).as_dict()
        return (
            dep.take_in(self.desk, self.things.ansa, h.key(), file_id=file, shape=shape, put_clock_right=True),
            guess,
            known,
        )

    def draft(self, quantity):
        with self.desk.read() as session:
            whole = dep.whole_of(session, dep.deployment_of(session, self.id))
            return dep.draft(session, whole, dep.channel_of(whole.deployment, quantity)), dep.seen_as(whole)

    def told(self, quantity):
        with self.desk.read() as session:
            whole = dep.whole_of(session, dep.deployment_of(session, self.id))
            return dep.reported(session, whole, dep.channel_of(whole.deployment, quantity))


@pytest.fixture
def lived(begun):
    """Two services two weeks apart, lifted after four; two files that overlap by a day."""
    story = copy.copy(begun(_lived))
    story.cleaned = list(story.cleaned)
    return story


def _lived(desk):
    planned = _planned(desk)
    planned.set_out()
    begin = planned.started + timedelta(minutes=30)
    planned.clock.on(days=14)
    planned.service()
    planned.take(planned.file(begin, planned.clock.at))
    middle = planned.clock.at
    planned.clock.on(days=14)
    planned.service(lifts=True, back_at=None)
    planned.take(planned.file(middle - timedelta(days=1), planned.clock.at - timedelta(hours=1)), "second.csv")
    return planned


def test_a_deployment_from_its_plan_to_a_record_nearer_to_the_truth(lived):
    whole = lived.whole()
    assert whole.state == "lifted"
    assert [f.intake.told["there"] for f in whole.files] == [0, 48]
    drafts, seen = lived.draft("oxygen")
    assert [d.suggested for d in drafts] == ["linear", "linear"]
    assert [round(d.errors.fouling, 1) for d in drafts] == [-0.7, -0.7]
    decision = dep.Decision(dep.suggested(drafts), "", lived.things.ilka.name, 0, seen)
    with pytest.raises(NotAllowed):
        dep.sign(lived.desk, lived.things.ansa, h.key(), deployment_id=lived.id, quantity="oxygen", decision=decision)
    dep.sign(lived.desk, lived.things.ilka, h.key(), deployment_id=lived.id, quantity="oxygen", decision=decision)
    told = lived.told("oxygen")
    truth = water("oxygen", told.record.times_s, 5)
    there = np.isfinite(told.values)
    assert np.sqrt(np.mean((told.values - truth)[there] ** 2)) < 0.2 * np.sqrt(
        np.mean((told.record.values - truth)[there] ** 2)
    )
    assert (np.abs(told.values - truth)[there] <= told.u[there]).mean() > 0.95
    assert not there[
        (told.record.times_us > us(whole.services[0].at)) & (told.record.times_us < us(dep.back_at(whole.services[0])))
    ].any()
    # Overlapping records are there once, and the record has no gap but the visit's.
    assert np.unique(told.record.times_us).size == told.record.times_us.size == RECORDS
    with pytest.raises(MovedOn):  # the page of before
        dep.sign(lived.desk, lived.things.ilka, h.key(), deployment_id=lived.id, quantity="oxygen", decision=decision)


def test_what_the_checks_do_not_carry_cannot_be_decided(lived):
    drafts, seen = lived.draft("oxygen")
    as_is = [dep.Chosen("none")] * 2

    def sign(chosen, **other):
        d = dep.Decision(chosen, "Seen on site", lived.things.ilka.name, 0, other.pop("visits", seen), **other)
        return dep.sign(lived.desk, lived.things.ilka, h.key(), deployment_id=lived.id, quantity="oxygen", decision=d)

    with pytest.raises(InputErrors) as caught:
        sign(as_is)
    assert [f.field for f in caught.value.faults] == ["course_0", "course_1"]
    with pytest.raises(InputError, match="State the moment"):
        sign([dep.Chosen("step"), dep.Chosen("linear")])
    with pytest.raises(InputError, match="was not logged"):
        sign(dep.suggested(drafts), salinity=True)
    with pytest.raises(MovedOn):
        sign(dep.suggested(drafts), visits="of before")
    with pytest.raises(Refused, match="Sign with your own name"):
        dep.sign(lived.desk, lived.things.ilka, h.key(), deployment_id=lived.id, quantity="oxygen",
                 decision=dep.Decision(dep.suggested(drafts), "", "Somebody", 0, seen))  # fmt: skip
    moment = drafts[0].starts + timedelta(days=7)
    sign([dep.Chosen("linear", moment), dep.Chosen("leave_out")])
    told = lived.told("oxygen")
    half = np.searchsorted(told.record.times_us, us(moment))
    assert told.fouling[:half].any() == False  # noqa: E712 - an array's any
    assert np.isnan(told.values[told.record.times_us > us(drafts[1].starts)]).all()


def test_a_wrong_file_is_seen_refused_or_withdrawn_and_nothing_is_missing_after(lived):
    whole = lived.whole()
    first, second = whole.files
    before = lived.told("oxygen").record
    with lived.desk.read() as session:
        data = dep.body_of(dep.file_of(session, first.file.id))
    with pytest.raises(Conflict, match="came before"):
        lived.take(data)
    with pytest.raises(Conflict, match="336 records differ"):
        lived.take(
            lived.file(lived.started + timedelta(minutes=30), lived.started + timedelta(days=7, minutes=30), wrong=0.5),
            "other.csv",
        )
    with pytest.raises(InputError, match="in the future"):
        lived.take(lived.file(lived.clock.at, lived.clock.at + timedelta(days=2)), "ahead.csv")
    dep.withdraw(lived.desk, lived.things.ansa, h.key(), file_id=str(first.file.id), reason="Of another logger")
    after = lived.told("oxygen").record
    assert after.times_us.size == before.times_us.size - first.intake.told["new"] + 48  # the day both files have stays
    with pytest.raises(MovedOn):
        dep.withdraw(lived.desk, lived.things.ilka, h.key(), file_id=str(first.file.id), reason="Once more")


def test_the_same_instrument_is_mapped_once(planned):
    planned.set_out()
    begin = planned.started + timedelta(minutes=30)
    planned.clock.on(days=2)
    _, guess, known = planned.take(planned.file(begin, planned.clock.at), zone="UTC+01:00")
    assert (guess.shape.zone, known) == ("", False)
    planned.clock.on(days=20)
    _, guess, known = planned.take(
        planned.file(planned.clock.at - timedelta(days=15), planned.clock.at - timedelta(days=1)), "b.csv"
    )
    assert (guess.shape.zone, known) == ("UTC+01:00", True)


def test_a_clock_that_drifted_is_put_right_by_the_visits(planned):
    """Set right at first, 10 min fast after ten days: the record's time is true to seconds, its values where they belong."""
    planned.set_out(ahead_s=0.0)
    planned.clock.on(days=10)
    true_at = planned.clock.at
    planned.service(logger_at=true_at + timedelta(minutes=10), true_at=true_at, clock_set=True)
    t = planned.times(planned.started + timedelta(minutes=30), true_at)
    rate = 600 / (true_at - planned.started + timedelta(minutes=30)).total_seconds()
    by_logger = t + rate * (t - planned.started.timestamp() + 1800)
    rows = [
        f"{datetime.fromtimestamp(round(at), UTC):%Y-%m-%d %H:%M:%S},{v:.2f}"
        for at, v in zip(by_logger, water("oxygen", t, 5), strict=True)
    ]
    planned.take("\n".join(["time,oxygen (mg/L)", *rows]).encode())
    found = planned.told("oxygen").record
    assert np.abs(found.times_s - t).max() < 1.5
    assert planned.whole().files[0].intake.clock["ahead_s"] == [0.0, 600.0]


def test_a_plan_is_followed_step_by_step_and_by_nobody_twice(planned, desk, things, clock):
    keys = [s.key for s in load_deployments().settings]
    with pytest.raises(MovedOn, match="planned"):
        dep.start(desk, things.ansa, h.key(), deployment_id=planned.id, at=clock.at)
    with pytest.raises(InputErrors, match="Shutting off"):
        dep.configure(
            desk, things.ansa, h.key(), deployment_id=planned.id, looked_at=keys[2:], at=clock.at, ahead_s=None
        )
    with pytest.raises(Refused, match="once it is out"):
        planned.service()
    planned.set_out()
    other = dep.save(desk, things.ansa, h.key(), new=replace(planned.new, name="Another")).id
    dep.configure(desk, things.ansa, h.key(), deployment_id=other, looked_at=keys, at=clock.at, ahead_s=None)
    with pytest.raises(Refused, match="is out at Reed channel"):
        dep.start(desk, things.ansa, h.key(), deployment_id=other, at=clock.at)
    with pytest.raises(Refused, match="its plan stays"):
        dep.save(desk, things.ansa, h.key(), new=planned.new, deployment_id=planned.id)
    assert dep.lasts(planned.new).full_d == pytest.approx(62.5)


@pytest.mark.parametrize(
    ("change", "fields"),
    [
        ({"name": " ", "interval_s": 0.0}, {"name", "interval_s"}),
        ({"interval_s": float("nan")}, {"interval_s"}),
        ({"depth_m": -1.0}, {"depth_m"}),
        ({"channels": []}, {"channel"}),
        ({"channels": [dep.PlannedChannel("oxygen"), dep.PlannedChannel("oxygen")]}, {"channel"}),
        ({"channels": [dep.PlannedChannel("gold")]}, {"channel"}),
        ({"set_salinity": 99.0, "set_pressure_hpa": 1.0}, {"set_salinity", "set_pressure_hpa"}),
    ],
)
def test_a_plan_that_cannot_be_is_refused_with_every_fault(planned, desk, things, change, fields):
    with pytest.raises(InputError) as caught:
        dep.save(desk, things.ansa, h.key(), new=replace(planned.new, **change))
    assert {f.field for f in caught.value.faults} == fields
    with pytest.raises(InputError):
        dep.save(desk, things.ansa, h.key(), new=replace(planned.new, planned_end=planned.new.planned_start))


def test_the_probes_of_a_logger_that_is_out_are_carried_nowhere(desk, things, clock):
    meter = things.meters["Bench set B"]
    channels = [dep.PlannedChannel("oxygen", things.probes["B2"])]
    end = clock.at + timedelta(days=9)
    new = dep.NewDeployment(things.sites["reed"], meter, "Out", 1800, clock.at, end, channels)
    story = Story(desk, things, clock, dep.save(desk, things.ansa, h.key(), new=new).id, new)
    with desk.read() as session:
        assert "B2" in {p.name[-2:] for p in kit.probes_at_hand(session)}
    story.set_out()
    with desk.read() as session:
        assert not {"B1", "B2"} & {p.name[-2:] for p in kit.probes_at_hand(session)}
        assert "B2" in {p.name[-2:] for p in kit.probes_in_service(session)}


def test_visits_are_proposed_from_fouling_so_far_and_stand_on_the_calendar(planned, desk, clock):
    def ahead():
        with desk.read() as session:
            return [
                (row.key.split("-")[-2], str(row.words), row.at)
                for row in agenda(session, clock.at, ZoneInfo("UTC"))
                if row.what == "deployment"
            ]

    assert ahead()[0][1].startswith("Set out the logger")
    planned.set_out()
    ((kind, words, at),) = ahead()
    assert (kind, at) == ("visit", planned.started + timedelta(days=14))
    clock.on(days=10)
    planned.service()  # 0.5 mg/L in ten days against a criterion of 0.3: after six days it is reached
    ((_, words, at),) = ahead()
    assert "dissolved oxygen will be off by its criterion" in words
    assert at - dep.back_at(planned.whole().services[0]) == pytest.approx(timedelta(days=6), abs=timedelta(hours=8))


def test_a_visit_is_corrected_in_versions_and_a_decision_of_before_does_not_fit_it(lived):
    service = lived.whole().services[0]
    with pytest.raises(InputError, match="Reason"):
        again(lived, service, reason="")
    again(lived, service, reason="Read wrongly off the paper")
    with pytest.raises(MovedOn):
        again(lived, service, reason="From another window")
    with lived.desk.read() as session:
        assert [v.version for v in dep.versions_of(session, service)] == [2, 1]
    drafts, _ = lived.draft("oxygen")
    assert drafts[0].errors.fouling == pytest.approx(-0.9)


def again(story, service, reason):
    read = ServiceReading(7.1, 8.0)
    visit = dep.ServiceVisit(service.at, dep.back_at(service), {"oxygen": dep.ChannelService(read)})
    return dep.record(
        story.desk,
        story.things.ansa,
        h.key(),
        deployment_id=story.id,
        visit=visit,
        service_id=str(service.root_id),
        reason=reason,
        version=1,
    )


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"at": datetime(1980, 1, 1, tzinfo=UTC)}, "at"),
        ({"back_at": None}, "back_at"),
        ({"logger_at": datetime(2026, 5, 12, tzinfo=UTC)}, "logger_at"),
        ({"battery_percent": 120.0}, "battery_percent"),
        ({"by_channel": {"gold": dep.ChannelService(ServiceReading(1.0, 1.0))}}, "channel"),
        ({"by_channel": {"oxygen": dep.ChannelService(ServiceReading(8.0))}}, "oxygen_after"),
        ({"by_channel": {"oxygen": dep.ChannelService(ServiceReading(800.0, 9.0))}}, "oxygen_value"),
        ({"by_channel": {"oxygen": dep.ChannelService(ServiceReading(reset=(Standard(9, 9),)))}}, "reset"),
    ],
)
def test_a_visit_that_cannot_be_is_refused_beside_its_field(planned, change, field):
    planned.set_out()
    planned.clock.on(days=3)
    with pytest.raises(InputError) as caught:
        planned.service(**change)
    assert caught.value.faults[0].field == field
    assert planned.whole().services == []


def test_the_lead_s_own_word_on_a_stretch_counts_and_is_taken_off_again(lived):
    begin = lived.started + timedelta(days=3)
    mark = {
        "deployment_id": lived.id,
        "quantity": "oxygen",
        "starts": begin,
        "ends": begin + timedelta(hours=5),
        "flag": 4,
        "words": "Boat moored over it",
    }
    with pytest.raises(NotAllowed):
        dep.mark(lived.desk, lived.things.ansa, h.key(), **mark)
    id_ = dep.mark(lived.desk, lived.things.ilka, h.key(), **mark).id
    told = lived.told("oxygen")
    here = (told.record.times_us >= us(begin)) & (told.record.times_us <= us(begin + timedelta(hours=5)))
    assert set(told.record.flags[here]) == {4}
    assert np.isnan(told.values[here]).all()
    assert np.isfinite(told.record.values[here]).all()
    dep.unmark(lived.desk, lived.things.ilka, h.key(), mark_id=id_, reason="It was elsewhere")
    assert np.isfinite(lived.told("oxygen").values[here]).all()
    with pytest.raises(InputError, match="Nothing was recorded"):
        dep.mark(
            lived.desk,
            lived.things.ilka,
            h.key(),
            **mark | {"starts": begin - timedelta(days=99), "ends": begin - timedelta(days=98)},
        )


def test_a_view_shows_a_span_down_to_single_values(lived):
    with lived.desk.read() as session:
        whole = dep.whole_of(session, dep.deployment_of(session, lived.id))
        channel = dep.channel_of(whole.deployment, "oxygen")
        begin, end = whole.span()
        wide = dep.view(session, whole, channel, begin, end, 400)
        near = dep.view(session, whole, channel, begin + timedelta(days=2), begin + timedelta(days=3), 400)
        figures = dep.figures(session, whole, channel)
        with pytest.raises(InputError):
            dep.view(session, whole, channel, end, begin, 400)
    assert wide.recorded.times_s.size <= 400
    assert (near.recorded.is_single, near.level) == (True, "values")
    assert 48 <= near.recorded.times_s.size <= 54
    assert figures.count == RECORDS
    assert 0 < figures.swing[0] < 5
    assert figures.day.counts.sum() == figures.reported


def test_a_long_record_is_drawn_from_parts_and_from_blocks_as_from_its_values(planned, monkeypatch):
    planned.set_out()
    planned.clock.on(days=40)
    planned.take(planned.file(planned.started + timedelta(minutes=30), planned.clock.at))
    drawn = {}
    with planned.desk.read() as session:
        whole = dep.whole_of(session, dep.deployment_of(session, planned.id))
        channel = dep.channel_of(whole.deployment, "temperature")
        begin, end = whole.span()
        for level, whole_, parted in (("values", 60_000, 1_200), ("parts", 1, 1_200), ("blocks", 1, 0)):
            monkeypatch.setattr(looking, "_WHOLE", whole_)
            monkeypatch.setattr(looking, "_PARTED", parted)
            drawn[level] = dep.view(session, whole, channel, begin, end, 400)
    assert [v.level for v in drawn.values()] == list(drawn)
    for v in drawn.values():
        assert np.nanmin(v.recorded.low) == np.nanmin(drawn["values"].recorded.low)
        assert np.nanmax(v.recorded.high) == np.nanmax(drawn["values"].recorded.high)


def test_a_live_logger_is_watched_and_says_what_is_wrong_once(planned, desk, things, clock):
    planned.set_out()

    def feed(n, value=None):
        records = []
        for _ in range(n):
            clock.on(minutes=30)
            t = np.array([clock.at.timestamp()])
            o = float(planned.shows("oxygen", t)[0]) if value is None else value
            records.append(dep.SentRecord(clock.at, {"oxygen": o, "temperature": float(water("temperature", t, 5)[0])}))
        return records, dep.receive(desk, things.ansa, h.key(), deployment_id=planned.id, records=records)

    def alarms():
        with desk.read() as session:
            return [(a.kind, str(dep.sentence(a))) for a in dep.alarms(session)]

    records, came = feed(60)
    assert (came.new, came.there, alarms()) == (60, 0, [])
    assert dep.receive(desk, things.ansa, h.key(), deployment_id=planned.id, records=records).there == 60
    with pytest.raises(Conflict, match="came before with other values"):
        dep.receive(
            desk, things.ansa, h.key(), deployment_id=planned.id, records=[replace(records[0], values={"oxygen": 1.0})]
        )
    feed(1, 2.5)
    assert [kind for kind, _ in alarms()] == ["limit"]
    feed(1)
    assert alarms() == []
    clock.on(hours=3)
    assert dep.watch(desk) == 1
    assert dep.watch(desk) == 0
    ((kind, words),) = alarms()
    assert (kind, "has sent nothing since" in words) == ("silent", True)
    with desk.read() as session:
        (alarm,) = dep.alarms(session)
        assert [a.name for a in news.of_day(session, clock.at, clock.at, things.ansa).noticed] == [planned.new.name]
    dep.seen_to(desk, things.ansa, h.key(), alarm_id=str(alarm.id))
    assert dep.watch(desk) == 0  # it is quiet, and not told again, until it has passed
    with desk.read() as session:
        assert news.of_day(session, clock.at, clock.at, things.ansa).noticed == []
        assert [a.seen_by.name for a in dep.alarms(session)] == [things.ansa.name]
    feed(60, 8.0)
    assert [kind for kind, _ in alarms()] == ["flat"]
    with desk.read() as session:
        assert session.scalar(select(FeedRecord.at).limit(1)) is not None
    wrong = [dep.SentRecord(clock.at + timedelta(days=1), {"oxygen": 8.0}), dep.SentRecord(clock.at, {"gold": 1.0})]
    with pytest.raises(InputErrors) as caught:
        dep.receive(desk, things.ansa, h.key(), deployment_id=planned.id, records=wrong)
    assert len(caught.value.faults) == 2


def test_a_reading_by_hand_beside_a_live_logger_tells_its_drift(planned, desk, things, clock):
    planned.set_out()
    clock.on(minutes=30)
    dep.receive(
        desk,
        things.ansa,
        h.key(),
        deployment_id=planned.id,
        records=[dep.SentRecord(clock.at, {"oxygen": 6.0, "temperature": 12.0})],
    )
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["reed"], probes=[things.probes["A5"]], source="typed"
    ).id
    rounds.record_typed(
        desk,
        things.ansa,
        h.key(),
        visit_id=visit,
        typed=rounds.TypedSheet([rounds.Typed(things.probes["A5"], "mg_l", 8.9)], 12.0, None),
    )
    clock.on(minutes=30)
    dep.receive(
        desk,
        things.ansa,
        h.key(),
        deployment_id=planned.id,
        records=[dep.SentRecord(clock.at, {"oxygen": 6.1, "temperature": 12.0})],
    )
    with desk.read() as session:
        kinds = {a.kind: str(dep.sentence(a)) for a in dep.alarms(session)}
    assert "beside 8.4" in kinds["drift"]


def test_what_goes_out_has_every_record_as_recorded_and_as_reported(lived):
    with lived.desk.read() as session:
        whole = dep.whole_of(session, dep.deployment_of(session, lived.id))
        several = out.channels_out(session, whole)
        rows = list(out.rows(several))
    assert len(rows) == RECORDS
    assert [c.channel.quantity for c in several] == ["oxygen", "temperature"]
    assert all(cells[0].recorded is not None for _, cells in rows)
    assert {c.state for c in several} == {"unbacked"}


def test_an_evidence_row_of_a_deployment_is_never_changed(lived):
    with pytest.raises(Exception, match=r"permission denied|evidence"), lived.desk.sessions.begin() as session:
        session.scalars(select(Block).limit(1)).one().low = 0.0
    with lived.desk.read() as session:
        assert session.scalar(select(LoggerFile.size).limit(1)) > 0


def test_a_logger_that_was_lifted_is_watched_no_more(planned, desk, things, clock):
    planned.set_out()
    clock.on(minutes=30)
    sent = [dep.SentRecord(clock.at, {"oxygen": 2.0, "temperature": 12.0})]
    dep.receive(desk, things.ansa, h.key(), deployment_id=planned.id, records=sent)
    with desk.read() as session:
        assert [a.kind for a in dep.alarms(session)] == ["limit"]
    clock.on(days=2)
    id_ = planned.service(lifts=True, back_at=None)
    with desk.read() as session:
        assert dep.alarms(session) == []
    with pytest.raises(InputError, match="lifted the logger stays"):
        again(planned, planned.whole().services[0], reason="It was put back")
    assert id_


def test_an_old_visit_is_corrected_all_the_same(lived):
    lived.clock.on(days=60)
    again(lived, lived.whole().services[0], reason="Read wrongly off the paper")
    assert lived.draft("oxygen")[0][0].errors.fouling == pytest.approx(-0.9)


@pytest.fixture
def salty(begun):
    """Oxygen that was worked out with no salt, in brackish water whose salinity is logged beside it."""
    return begun(_salty)


def _salty(desk):
    things, clock = h.Things(desk), desk.clock
    new = dep.NewDeployment(
        things.sites["lagoon"], things.meters["Bench set B"], "Brackish", 1800, clock.at, clock.at + timedelta(days=60),
        [dep.PlannedChannel(q) for q in ("oxygen", "temperature", "salinity", "ph", "conductivity")], set_salinity=0.0,
    )  # fmt: skip
    story = Story(desk, things, clock, dep.save(desk, things.ansa, h.key(), new=new).id, new)
    story.set_out()
    clock.on(days=40)
    t = story.times(story.started + timedelta(minutes=30), clock.at)
    stamps = [f"{datetime.fromtimestamp(at, UTC):%Y-%m-%d %H:%M}" for at in t]
    rows = [f"{at},{9 + i % 3 / 10:.2f},{12 + i % 5 / 10:.2f},{9 + i % 4 / 100:.2f}" for i, at in enumerate(stamps)]
    story.take("\n".join(["time,DO (mg/L),Temp (°C),Salinity (psu)", *rows]).encode())
    return story


def test_a_long_view_is_compensated_as_its_values_are(salty, monkeypatch):
    drafts, seen = salty.draft("oxygen")
    chosen = [dep.Chosen("doubt")] * len(drafts)
    decision = dep.Decision(chosen, "Never visited", salty.things.ilka.name, 0, seen, salinity=True)
    dep.sign(salty.desk, salty.things.ilka, h.key(), deployment_id=salty.id, quantity="oxygen", decision=decision)
    middles = {}
    for level, whole_, parted in (("values", 60_000, 1_200), ("parts", 1, 1_200)):
        monkeypatch.setattr(looking, "_WHOLE", whole_)
        monkeypatch.setattr(looking, "_PARTED", parted)
        with salty.desk.read() as session:
            whole = dep.whole_of(session, dep.deployment_of(session, salty.id))
            shown = dep.view(session, whole, dep.channel_of(whole.deployment, "oxygen"), *whole.span(), 400)
        assert shown.level == level
        middles[level] = float(np.nanmedian((shown.reported.low + shown.reported.high) / 2))
        assert middles[level] < 0.97 * float(np.nanmedian((shown.recorded.low + shown.recorded.high) / 2))
    assert middles["parts"] == pytest.approx(middles["values"], rel=0.01)


def test_a_long_view_shows_what_was_sent_beyond_the_files(salty, monkeypatch):
    salty.clock.on(days=2)
    sent = [dep.SentRecord(salty.clock.at - timedelta(hours=n), {"oxygen": 4.0}) for n in range(1, 20)]
    dep.receive(salty.desk, salty.things.ansa, h.key(), deployment_id=salty.id, records=sent)
    monkeypatch.setattr(looking, "_WHOLE", 1)
    with salty.desk.read() as session:
        whole = dep.whole_of(session, dep.deployment_of(session, salty.id))
        shown = dep.view(session, whole, dep.channel_of(whole.deployment, "oxygen"), *whole.span(), 400)
    assert (shown.level, float(np.nanmin(shown.recorded.low))) == ("parts", 4.0)


def test_the_next_visit_goes_by_the_level_of_the_standard_where_nothing_else_was_read(salty):
    far = Standard(1356, 1413)  # 4 % low, where 3 % are the criterion
    told = dep.ChannelService(ServiceReading(standards=(far,)))
    salty.service(by_channel={"conductivity": told})
    whole = salty.whole()
    assert [round(e.allowed, 1) for _, e in dep.found_by(whole.services[0], whole.deployment)] == [3.0]
    upcoming = dep.next_visit(whole.deployment, salty.started, whole.services)
    assert (
        timedelta(days=25) < upcoming.at - dep.back_at(whole.services[0]) < timedelta(days=32)
        or "planned end" in upcoming.why
    )


def test_a_level_in_centimetres_is_kept_in_metres():
    assert channels.scale("water_level", "cm") == (pytest.approx(0.01), 0.0)
    assert channels.scale("temperature", "°F") == (pytest.approx(5 / 9), pytest.approx(-160 / 9))
    with pytest.raises(InputError):
        channels.scale("oxygen", "°C")


def test_words_of_a_channel_within_a_sentence():
    assert [channels.words(q) for q in ("ph", "oxygen", "air_pressure")] == ["pH", "dissolved oxygen", "air pressure"]


def test_what_was_recorded_out_of_the_water_is_flagged_before_anything_is_signed(planned):
    planned.set_out()
    planned.clock.on(days=5)
    out_at = planned.clock.at
    planned.service(back_at=out_at + timedelta(hours=3))
    planned.clock.on(days=2)
    planned.take(planned.file(planned.started + timedelta(minutes=30), planned.clock.at))
    told = planned.told("temperature")
    here = (told.record.times_us > us(out_at)) & (told.record.times_us < us(out_at + timedelta(hours=3)))
    assert here.sum() >= 5
    assert set(told.record.flags[here]) == {4}
    assert np.isnan(told.values[here]).all()
    assert np.isfinite(told.record.values[here]).all()
    assert np.isfinite(told.values[~here]).all()
