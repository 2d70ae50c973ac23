"""What stands behind a site's readings: spans of calibrations, the same months of earlier years, depth and time."""

import uuid
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from sqlalchemy import select

from brumel.store.tables import Reading, Visit
from brumel.web.drawings import site as site_drawings
from brumel.work import rounds
from brumel.work.rounds import site_history
from tests.work import helpers as h
from tests.work.test_closing_day import a_day, close, rule


@pytest.fixture
def things(desk):
    return h.Things(desk)


def copies(desk, days, values, **other):
    """The site's one pH reading again, so many days earlier, with other values."""
    with desk.sessions.begin() as session:
        first = session.scalar(select(Reading).where(Reading.quantity == "ph").limit(1))
        kept = {c.key: getattr(first, c.key) for c in Reading.__table__.columns}
        for day, value in zip(days, values, strict=True):
            own = uuid.uuid4()
            session.add(
                Reading(**kept | other | dict(id=own, root_id=own, at=first.at - timedelta(days=int(day)), value=value))
            )


def test_spans_run_from_a_calibration_to_its_closing_check_with_the_worst_that_became_of_them(desk, clock, things):
    a_day(desk, clock, things)
    with desk.read() as session:
        rows = rounds.standing(session, rounds.site_of(session, things.sites["raceway"]).id, "ph")
        (open_one,) = site_history.spans(session, {"ph": rows})["ph"]
        assert (open_one.state, open_one.end) == ("open", rows[0].calibration.valid_until)
    found = close(desk, clock, things)
    closed_at = clock()
    rule(desk, things.ilka, found, "doubt")
    with desk.read() as session:
        rows = rounds.standing(session, rounds.site_of(session, things.sites["raceway"]).id, "ph")
        (span,) = site_history.spans(session, {"ph": rows})["ph"]
        assert (span.state, span.start, span.end) == ("doubtful", rows[0].calibration.at, closed_at)
        view = site_drawings.last_readings(rows, clock(), "Europe/Oslo", site_drawings.BehindReadings({}, spans=[span]))
    assert [s["state"] for s in view["spans"]] == ["doubtful"]
    assert view["spans"][0]["x"] <= view["dots"][0]["x"] <= view["spans"][0]["x"] + view["spans"][0]["w"] + 1


def test_the_season_is_where_earlier_years_lay_and_this_one_does_not_count(desk, clock, things):
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    days = 365 * np.repeat([1, 2, 3], 4) + np.tile([0, 1, 2, 3], 3)
    copies(desk, days, np.linspace(7.0, 8.1, 12))
    copies(desk, range(1, 9), [11.0] * 8)  # this season
    copies(desk, [365 * 2 + 1] * 3, [3.0] * 3, flag=4)  # what failed is no history
    with desk.read() as session:
        site = rounds.site_of(session, things.sites["raceway"])
        found = site_history.seasons(session, site.id, ["ph", "oxygen"], clock())
        rows = rounds.standing(session, site.id, "ph")
    assert found["oxygen"] == {}
    month = clock().month
    # percentile by linear interpolation, against NumPy's; days that fall in the month before stand there, too few to count
    same = [
        v
        for d, v in zip(days, np.linspace(7.0, 8.1, 12), strict=True)
        if (clock() - timedelta(days=int(d))).month == month
    ]
    assert found["ph"] == {month: pytest.approx(tuple(np.percentile(same, [10, 90])))}
    view = site_drawings.last_readings(rows, clock(), "UTC", site_drawings.BehindReadings({}, season=found["ph"]))
    assert view["season"]
    frame = view["frame"]
    for band in view["season"]:
        assert frame.left <= band["x"] <= band["x"] + band["w"] <= frame.right + 1
        assert band["y"] == pytest.approx(frame.y(found["ph"][month][1]))


def test_depth_and_time_have_a_cell_for_each_reading_and_the_chart_follows_one_depth(desk, clock, things):
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    with desk.sessions.begin() as session:
        first = session.scalar(select(Reading).where(Reading.quantity == "ph").limit(1))
        site = first.site_id
        for week in range(14):
            own = uuid.uuid4()
            at = first.at - timedelta(weeks=week + 1)
            session.add(Visit(id=own, site_id=site, operator_id=things.ansa.id, source="typed", at=at))
            session.flush()
            kept = {c.key: getattr(first, c.key) for c in Reading.__table__.columns} | dict(visit_id=own, at=at)
            for depth in (0.3, 2.0):
                row = uuid.uuid4()
                session.add(
                    Reading(**kept | dict(id=row, root_id=row, depth_m=depth, value=7 + depth / 10 + week / 100))
                )
    with desk.read() as session:
        rows = site_history.by_depth(session, site, ["ph", "oxygen"])
        near = rounds.standing(session, site, "ph", depths=(0.0, 0.3))
        assert {r.depth_m for r in near} == {None, 0.3}
        assert len(site_history.last_profile(session, site)) == 0  # no temperature was read with a depth
    assert len(rows) == 28
    (panel,) = site_drawings.section(rows, "Europe/Oslo")
    assert (panel["quantity"], len(panel["cells"]), len(panel["depths"])) == ("ph", 24, 2)  # the newest twelve visits
    darkest = max(panel["cells"], key=lambda c: c["ink"])
    assert darkest["value"] == max(c["value"] for c in panel["cells"])
    assert all(c["x"] >= 52 and c["x"] + c["w"] <= 593 for c in panel["cells"])
    assert site_drawings.section(rows[:1], "UTC") == []  # one visit is no course of time


def test_months_behind_a_chart_are_cut_at_its_ends():
    start, end = datetime(2026, 10, 20, tzinfo=UTC), datetime(2027, 1, 5, tzinfo=UTC)
    found = site_drawings._season_in({10: (1.0, 2.0), 12: (3.0, 4.0), 5: (0.0, 1.0)}, start, end)
    assert [(a.month, b.month) for a, b, _ in found] == [(10, 11), (12, 1)]
    assert found[0][0] == start
