"""Drawn views: everything lies on the paper, limits are where the numbers say, labels do not lie on one another."""

import re
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import ph
from brumel.core.fitness import CalibrationPoint
from brumel.core.fitness.ph import ElectrodeFit
from brumel.methods import load_method
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.drawings import frame as drawings_frame
from brumel.web.drawings import site as site_drawings
from brumel.web.drawings import worksheet as worksheet_drawings
from brumel.web.filters import number, when, with_u
from brumel.work.kit.probe_life import Life, Strand
from brumel.work.quantities.book import quantity_of
from brumel.work.worksheet.book import SUMS, answer
from brumel.work.worksheet.model import AnswerChart, ChartScale, Curve

METHOD = load_method("ph-7-4-10")


@given(low=st.floats(-1e5, 1e5), span=st.floats(1e-3, 1e5), about=st.integers(2, 9))
def test_ticks_are_round_inside_and_neither_few_nor_many(low, span, about):
    found = drawings_frame.ticks(low, low + span, about)
    assert all(low - 1e-6 * span <= t <= low + span * (1 + 1e-6) for t in found)
    assert len(found) <= about + 1
    if len(found) > 1:
        step = found[1] - found[0]
        assert re.match(r"^[125]0*(\.0*)?$|^0\.0*[125]$|^[125](e|$)", f"{float(f'{step:.3g}'):g}".replace("+", "")), (
            step
        )


@given(low=st.floats(-100, 100), span=st.floats(1e-3, 1e3))
def test_ticks_as_they_are_written_differ_and_are_what_they_stand_at(low, span):
    found = drawings_frame.ticks(low, low + span, 4)
    written = [f"{t:.{site_drawings._decimals(found)}f}" for t in found]
    assert len(set(written)) == len(written)
    assert [float(w) for w in written] == pytest.approx(found, abs=1e-6 * span)


def test_a_month_is_marked_by_days_and_a_year_by_months():
    now = datetime(2026, 11, 28, 12, tzinfo=UTC)
    marks = site_drawings._marks(now - timedelta(days=30), now, "Europe/Oslo")
    assert [label for _, label in marks] == ["30 Oct", "5 Nov", "11 Nov", "17 Nov", "23 Nov"]
    assert all(day.hour == 0 for day, _ in marks)
    assert [label for _, label in site_drawings._marks(now - timedelta(days=100), now, "UTC")] == ["Sep", "Oct", "Nov"]
    assert len(site_drawings._marks(now - timedelta(days=7), now, "UTC")) == 3


def test_a_frame_maps_corners_to_corners():
    frame = drawings_frame.Frame(10, 20, 110, 220, 0, 10, -5, 5)
    assert (frame.x(0), frame.x(10), frame.y(-5), frame.y(5)) == (10, 110, 220, 20)
    assert frame.path([(0, 0), (10, 5)]) == "M10.0,120.0 L110.0,20.0"


def test_a_band_is_drawn_along_its_upper_edge_and_back_along_the_lower_one():
    frame = drawings_frame.Frame(10, 20, 110, 220, 0, 4, 0, 2)  # 25 px a unit across, 100 px a unit up
    drawn = frame.outline([0, 2, 4], low=[0, 0.5, 1], high=[1, 1.5, 2])
    assert drawn == "M10.0,120.0 L60.0,70.0 L110.0,20.0 L110.0,120.0 L60.0,170.0 L10.0,220.0 Z"
    assert frame.outline([], [], []) == ""


@given(slope=st.floats(0.7, 1.1), offset=st.floats(-60, 60), t=st.floats(3, 35), bend=st.floats(-10, 10))
def test_the_plate_holds_its_points_and_residuals(slope, offset, t, bend):
    k = ph.nernst_slope_mv(t)
    points = [(offset - slope * k * (p - 7), t, p) for p in (7.0, 4.0)] + [(offset - slope * k * 3 + bend, t, 10.0)]
    fitted = ph.fit(points)
    taken = [CalibrationPoint("cup", "adjust", *p) for p in points]
    taken.append(CalibrationPoint("check", "check", offset - slope * k * 2.2, t, 9.2))
    plate = calibration_drawings.draw(ElectrodeFit(fitted), METHOD, taken, None, quantity_of("ph"), {})
    assert len(plate["dots"]) == 4
    for dot in plate["dots"]:
        assert plate["frame"].left <= dot["x"] <= plate["frame"].right
        assert plate["frame"].top - 40 <= dot["y"] <= plate["frame"].bottom + 40
        assert plate["rest"].top <= dot["ry"] <= plate["rest"].bottom
    # The cups against one straight line by NumPy's own least squares, the check against the line between its neighbours.
    line = np.polyfit([p[2] for p in points], [p[0] for p in points], 1)
    for dot, (mv, _, at_ph) in zip(plate["dots"][:3], points, strict=True):
        assert dot["residual"] == pytest.approx(mv - np.polyval(line, at_ph), abs=1e-6)
    (seven, _, _), _, (ten, _, _) = points
    between = seven + (ten - seven) * 2.2 / 3
    assert plate["dots"][3]["residual"] == pytest.approx(taken[3].signal - between, abs=1e-6)
    assert plate["zero"] == plate["frame"].y(0)


def test_a_history_runs_from_old_to_new_with_its_limits():
    days = (0, 10, 20, 40)
    times = tuple(datetime(2026, 3, 1, tzinfo=UTC) + timedelta(days=d) for d in days)
    slope = Strand(
        "slope_percent",
        "slope",
        "%",
        1,
        times,
        tuple(99 - d / 5 for d in days),
        ("fit",) * 4,
        METHOD.band("slope").band(),
        None,
        None,
    )
    slow = replace(slope, key="settling", name="slowest cup", band=None)
    strips = calibration_drawings.history(Life((slope, slow), ()))
    assert [s["name"] for s in strips] == ["slope"]  # what has no limit has no strip here
    xs = [d["x"] for d in strips[0]["dots"]]
    assert xs == sorted(xs)
    assert strips[0]["fit"] == [strips[0]["frame"].y(102), strips[0]["frame"].y(92)]
    assert strips[0]["dots"][-1]["value"] == pytest.approx(91)
    assert (
        calibration_drawings.history(Life((replace(slope, values=(99.0,), times=times[:1], outcomes=("fit",)),), ()))
        is None
    )


def test_last_readings_show_uncertainty_and_the_usual_range():
    now = datetime(2026, 5, 20, 9, tzinfo=UTC)
    readings = [
        SimpleNamespace(
            at=now - timedelta(days=d), value=7.2 + d / 100, expanded_uncertainty=u, backing="open", flag=1, id=d
        )
        for d, u in ((1, 0.03), (3, None), (30, 0.05))
    ]
    view = site_drawings.last_readings(
        readings, now, "Europe/Oslo", site_drawings.BehindReadings({"usual": [6.8, 7.6]})
    )
    assert [m["label"] for m in view["months"]] == ["21 Apr", "27 Apr", "3 May", "9 May", "15 May"]
    assert view["usual"][0] < view["usual"][1]
    assert (view["count"], view["newest"]) == (3, pytest.approx(7.21))
    newest = view["dots"][-1]
    assert newest["up"] < newest["y"] < newest["down"]
    assert newest["x"] < view["now"] <= view["frame"].right
    assert [d["id"] for d in view["dots"]] == [30, 3, 1]
    assert site_drawings.last_readings([], now, "UTC", site_drawings.BehindReadings({})) is None


@pytest.mark.parametrize("days", [2, 7, 30, 84])
def test_no_day_or_month_is_written_over_now(days):
    """At every hour of two months; on a phone a letter of a drawing is 11 of its own units wide."""
    for hour in range(0, 24 * 60, 5):
        now = datetime(2026, 11, 1, tzinfo=UTC) + timedelta(hours=hour)
        read = SimpleNamespace(
            at=now - timedelta(days=days), value=7.2, expanded_uncertainty=None, backing="open", flag=1, id=1
        )
        view = site_drawings.last_readings([read], now, "Europe/Oslo", site_drawings.BehindReadings({}))
        written = [m for m in view["months"] if m["label"]]
        assert all(m["x"] + 11 * (len(m["label"]) + len("now")) / 2 <= view["now"] for m in written), now


def test_many_readings_are_drawn_some_together_and_none_of_what_speaks_against_them_is_lost():
    now = datetime(2026, 5, 20, 9, tzinfo=UTC)
    backings = ("bracketed", "open", "corrected", "unbacked", "doubtful", "not reported")
    readings = [
        SimpleNamespace(
            at=now - timedelta(hours=6 * n),
            value=7.0 + (n % 7) / 10,
            expanded_uncertainty=0.02 * (n % 3),
            backing=backings[n // 100] if n % 100 == 50 and n < 600 else "bracketed",
            flag=4 if n == 650 else 1,
            id=n,
        )
        for n in range(700)
    ]

    def drawn(**more):
        behind = site_drawings.BehindReadings({}, **more)
        return site_drawings.last_readings(readings, now, "UTC", behind)

    view = drawn()
    dots = view["dots"]
    assert len(dots) == site_drawings.MOST_DOTS
    assert [d["x"] for d in dots] == sorted({d["x"] for d in dots})
    assert (view["count"], view["newest"]) == (700, readings[0].value)
    # The gravest mark of those drawn together stands for all of them, and their bar reaches as far as any of them.
    marks = Counter(d["mark"] for d in dots)
    assert marks == {"square": 54, "disc": 1, "diamond": 1, "open square": 1, "cross": 3}
    frame = view["frame"]
    assert min(d["up"] for d in dots) == frame.y(max(r.value + r.expanded_uncertainty for r in readings))
    assert max(d["down"] for d in dots) == frame.y(min(r.value - r.expanded_uncertainty for r in readings))
    assert sum(path.count("M") for _, path in view["marks"]) == len(dots)
    # Twelve of the 700 fall into the first sixtieth: the middle one by value stands where the middle one by time does.
    oldest = readings[:-13:-1]
    assert dots[0]["id"] == sorted(oldest, key=lambda r: r.value)[6].id
    assert dots[0]["x"] == frame.x(6 / 699)
    assert view["stems"].count("V") == len(dots)
    assert "open square" not in {d["mark"] for d in drawn(rests=False)["dots"]}


def test_staff_and_ribbon_follow_what_was_done():
    staff = drawings_frame.staff(["pH 7 buffer", "pH 4 buffer", "verdict"], 1)
    assert [m["state"] for m in staff["marks"]] == ["done", "now", "wait"]
    assert staff["marks"][0]["y"] > staff["marks"][1]["y"] > staff["marks"][2]["y"]
    levels = [drawings_frame.staff(["a", "b", "c"], n)["level"] for n in range(4)]
    assert levels == sorted(levels, reverse=True)
    now = datetime(2026, 6, 1, 10, 30, tzinfo=UTC)
    ribbon = drawings_frame.ribbon(
        [(now - timedelta(hours=2), "run-fit", "calibration"), (now - timedelta(hours=20), "x", "y")],
        now,
        "Europe/Oslo",
    )
    assert ribbon["time"] == "12:30"
    assert ribbon["zone"] == "CEST"
    assert 0 <= ribbon["marks"][0]["x"] < ribbon["now"] < 1000


@pytest.mark.parametrize("asked", SUMS, ids=lambda s: s.key)
def test_every_picture_of_the_worksheet_lies_on_its_paper(asked):
    numbers = {e.key: float(e.default) if e.default else None for e in asked.entries if not e.choices}
    found = answer(asked, numbers, {})
    if found.picture is None:
        return
    view = worksheet_drawings.picture(found.picture)
    if view["kind"] == "scale":
        assert 24 <= view["mark"] <= 596
        return
    frame = view["frame"]
    inside = [(m["x"], m["y"]) for m in view["marks"]]
    for curve in view["curves"]:
        inside += [tuple(map(float, pair.split(","))) for pair in curve["path"].replace("M", "").split(" L")]
    xs, ys = np.array(inside).T
    assert xs.min() >= frame.left - 0.2
    assert xs.max() <= frame.right + 0.2
    assert ys.min() >= frame.top - 0.2
    assert ys.max() <= frame.bottom + 0.2
    labels = sorted(c["y"] for c in view["curves"] if c["label"])
    assert all(b - a >= 14.9 for a, b in zip(labels, labels[1:], strict=False))


def test_charts_of_one_point_and_bars_do_not_break():
    flat = AnswerChart("t", "x", "y", (Curve("", [1.0], [5.0]),), ((1.0, 5.0, "here"),))
    assert worksheet_drawings.chart(flat)["frame"].x0 < 1 < worksheet_drawings.chart(flat)["frame"].x1
    bars = AnswerChart("t", "", "pH", (), ((1.0, 7.3, "a"), (2.0, 7.2, "b")), None, ((1.0, 7.3, 0.1), (2.0, 7.2, 0.1)))
    view = worksheet_drawings.chart(bars)
    assert view["x_ticks"] == []
    assert all(b["up"] < b["down"] for b in view["bars"])
    assert worksheet_drawings.scale(ChartScale("t", "µS/cm", 0.05, 1e5, ((53_000.0, "sea"),), 1e9))["mark"] == 596


def test_numbers_are_written_as_the_trade_reads_them():
    assert number(-0.004, 2) == "0.00"
    assert number(-1.5, 1) == "−1.5"
    assert number(1.5, 1, plus=True) == "+1.5"
    assert number(None) == "–"
    assert with_u(7.2689, 0.05) == "7.27 ± 0.05 (k=2)"
    assert with_u(1418.4, 21.0, "µS/cm") == "1418 ± 21 µS/cm (k=2)"
    # Two figures of U where its first is 1 or 2, and never rounded down by over 5 %.
    assert with_u(8.1432, 0.149) == "8.14 ± 0.15 (k=2)"
    assert with_u(8.1432, 0.0342) == "8.14 ± 0.04 (k=2)"
    assert with_u(8.1432, 0.0508) == "8.14 ± 0.05 (k=2)"
    assert with_u(7.2689, None) == "7.27"
    summer = datetime(2026, 7, 1, 12, tzinfo=UTC)
    assert when(summer, "Europe/Oslo", "%H:%M") == "14:00 CEST"
    assert when(datetime(2026, 12, 1, 12, tzinfo=UTC), "Europe/Oslo", "%H:%M") == "13:00 CET"
    assert when(None) == "–"


def _site(name, north, east):
    return SimpleNamespace(id=name, name=name, latitude=north, longitude=east)


def test_the_sketch_keeps_order_and_scale_and_parts_what_lies_far_apart():
    near = [_site("a", 58.33, 8.91), _site("b", 58.34, 8.91), _site("c", 58.33, 8.93)]
    view = site_drawings.sketch([*near, _site("d", 61.41, 8.73), _site("nowhere", None, None)])
    first, second = view["panels"]
    assert [d["number"] for d in first["dots"]] == [1, 2, 3]
    assert [d["name"] for d in second["dots"]] == ["d"]
    a, b, c = first["dots"]
    assert b["y"] < a["y"]  # north is up
    assert c["x"] > a["x"]
    # 0.01° of latitude is 1 112 m on a sphere of 6 371 km; the bar says how long that is on paper.
    per_m = first["bar_px"] / first["bar"]
    assert (a["y"] - b["y"]) / per_m == pytest.approx(1112, rel=0.01)
    assert (c["x"] - a["x"]) / per_m == pytest.approx(1112 * 2 * np.cos(np.radians(58.33)), rel=0.01)
    assert all(0 <= d["x"] <= 620 and 0 <= d["y"] <= 240 for p in view["panels"] for d in p["dots"])
    assert site_drawings.sketch([_site("nowhere", None, None)]) is None


def test_a_profile_goes_down_and_one_depth_is_none():
    def at(depth, value, quantity="temperature"):
        return SimpleNamespace(depth_m=depth, value=value, quantity=quantity, role="first", unit="°C")

    view = site_drawings.profile([at(2.0, 8.1), at(0.3, 9.4), at(1.0, 9.0), at(None, 5.0)])
    (panel,) = view["panels"]
    assert [d["depth"] for d in panel["dots"]] == [0.3, 1.0, 2.0]
    assert [d["y"] for d in panel["dots"]] == sorted(d["y"] for d in panel["dots"])
    assert panel["dots"][0]["x"] > panel["dots"][2]["x"]
    assert site_drawings.profile([at(1.0, 9.0)]) is None


def test_the_ribbon_draws_the_plan_up_to_leaving_and_coming_home():
    now = datetime(2026, 6, 1, 5, 0, tzinfo=UTC)
    line = SimpleNamespace(start=now, end=now + timedelta(minutes=90), kind="wait", deciding=True)
    plan = SimpleNamespace(lines=[line], leave_at=now + timedelta(hours=2), back_at=now + timedelta(hours=5))
    view = drawings_frame.ribbon([], now, "Europe/Oslo", plan)
    (bar,) = view["bars"]
    assert bar["x"] == view["now"]
    assert bar["w"] == pytest.approx(1.5 * (view["leave"] - view["now"]) / 2)
    assert view["back"] > view["leave"]
    assert drawings_frame.ribbon([], now)["bars"] == []


def test_every_class_of_a_drawing_has_a_style():
    web = Path(drawings_frame.__file__).parent
    styles = "".join(p.read_text() for p in (web / "static/css").glob("*.css"))
    for place in (web / "templates/drawn").glob("*.html"):
        tags = re.findall(r"<(?:path|rect|circle|line)\b[^>]*>", place.read_text())
        found = [m[1] for t in tags if "fill=" not in t and (m := re.search(r'class="([^"{]*)', t))]
        missing = {name for text in found for name in text.split() if not re.search(rf"\.{name}\b", styles)}
        assert not {m for m in missing if not m.endswith("-")}, place.name
        # A prefix of their own keeps them apart from the classes of pages.
        assert not {name for text in found for name in text.split() if not name.startswith("d-")}, place.name
