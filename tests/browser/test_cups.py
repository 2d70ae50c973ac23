"""Cups without a signal: the rules held to core, a whole day offline, and what waits behind a run that is asked about."""

import re
from dataclasses import asdict

import pytest
from playwright.sync_api import expect
from sqlalchemy import select

from brumel.core import ph, typed
from brumel.core.errors import InputError
from brumel.core.suspicion import Vessel, temperature_spread, wrong_vessel
from brumel.store.records import Closing
from brumel.store.tables import Calibration, Reading, Run
from brumel.web.reader import all_in_words
from brumel.work.bench import without_signal
from brumel.work.kit import lots_on_shelf, probes_in_service
from brumel.work.quantities import standards
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds import outings
from tests.browser.conftest import check_axe
from tests.work import helpers as h


@pytest.fixture
def cups(brumel, open_page):
    """The cups of the lagoon's outing on a phone, kept for when there is no signal."""
    outing = outings.start(brumel.desk, brumel.things.ansa, h.key(), round_id=str(h.a_round(brumel.desk).id)).id
    page = open_page(brumel.base, width=390, height=844)
    page.goto(f"/rounds/outings/{outing}/field")
    page.get_by_role("link", name="Calibrate a probe").click()
    expect(page.locator("[data-net]")).to_contain_text("This page is kept")
    return page


SHOWN = (-178.0, -0.4, 0.4, 3.0, 4.0, 4.01, 6.98, 7.0, 7.01, 7.02, 9.4, 10.01, 10.06, 41.0, 70.1, 176.0, 401.0, 1413.0)
SHOWN += (12880.0,)


def stands_for(lot, plan, at_c, probe):
    """What a solution should read; None outside of its table."""
    try:
        return standards.value(lot, plan.quantity, at_c, probe)
    except InputError:
        return None


def core_says(plan, case, way, shown, at_c, lot, tray, before):
    """The same by core, with a perfect probe: codes of what speaks against a cup."""
    quantity = quantity_of(plan.quantity)
    entry, reader = quantity.entries[way.key], quantity.ideal(case.probe)
    limit = plan.limits["spread_c"]
    codes = ["cup_temperature"] if limit and temperature_spread([*before, at_c], limit) else []
    expected = stands_for(lot, plan, at_c, case.probe)
    if expected is None:
        return codes
    signal = entry.to_signal(shown, at_c, case)
    others = [(other.code, value) for other in tray if (value := stands_for(other, plan, at_c, case.probe)) is not None]
    if plan.quantity == "ph":
        odd = ph.wrong_cup(signal, at_c, ph.Cup(lot.code, expected), [ph.Cup(*o) for o in others])
    else:
        read = reader.read(signal, at_c)
        odd = wrong_vessel(read, Vessel(lot.code, expected), [Vessel(*o) for o in others], quantity.scale, "")

    def near(value):
        if not entry.low <= value <= entry.high:
            return False
        return quantity.is_near(reader.read(entry.to_signal(value, at_c, case), at_c), expected)

    codes += [odd.code] if odd else []
    codes += ["typed_slip"] if typed.slip(shown, near) else []
    if way.key == "ph" and ph.label_value_used(shown, standards.nominal(lot, plan.quantity, case.probe), expected):
        codes.append("label_value")
    return codes


def test_core_and_the_phone_ask_the_same_about_cups(brumel, cups):
    page = cups
    asked, expected = [], []
    with brumel.desk.read() as session:
        shelf = {str(v.lot.id): v for v in lots_on_shelf(session, brumel.desk.clock())}
        probes = [p for p in probes_in_service(session) if p.quantity in ("ph", "conductivity", "redox")]
        planned = without_signal.plans(session, probes, brumel.desk.clock(), 30.0)
        for probe, plan in zip(probes, planned, strict=True):
            case = RunContext(probe)
            solutions = [c.choices[0] for c in plan.cups if c.choices[0].value]
            for cup in solutions:
                for way in (w for w in plan.ways if w.factors):
                    for at_c, before in ((20.0, [20.3]), (13.0, [20.0]), (25.0, [])):
                        for shown in (s for s in SHOWN if way.low <= s <= way.high):
                            tray = [c for c in solutions if c is not cup]
                            words = {
                                "name": cup.name,
                                "expected": cup.expected,
                                "nominal": cup.nominal,
                                "isSolution": True,
                            }
                            others = [{"name": c.name, "expected": c.expected} for c in tray]
                            asked.append([plan.probe, way.key, shown, at_c, words, others, before])
                            lots = [shelf[c.value].lot for c in tray]
                            said = core_says(plan, case, way, shown, at_c, shelf[cup.value].lot, lots, before)
                            expected.append(sorted(said))
        body = all_in_words([asdict(plan) for plan in planned])
    slips = [{"words": words, "factor": factor} for words, factor in typed.SLIPS]
    said = page.evaluate(
        """async ([plans, grid, slips, cases]) => {
          const url = [...document.querySelectorAll("script")].map((s) => s.src).find((s) => s.endsWith("cups.js"));
          const { objections } = await import(new URL("cups/rules.js", url).href);
          return cases.map(([probe, key, shown, c, cup, tray, before]) => {
            const plan = plans.find((each) => each.probe === probe);
            const way = plan.ways.find((each) => each.key === key);
            return objections(plan, grid, slips, { way, shown, c, cup, tray, before }).map((o) => o.code).sort();
          });
        }""",
        [body, list(without_signal.GRID_C), slips, asked],
    )
    wrong = [(a[:4], a[4]["name"], s, e) for a, s, e in zip(asked, said, expected, strict=True) if s != e]
    assert not wrong, wrong[:5]
    codes = {code for each in expected for code in each}
    assert codes == {"wrong_cup", "no_cup", "typed_slip", "label_value", "cup_temperature"}
    assert len(asked) > 500


def begin(page, what="calibrate it"):
    name = page.locator("[data-probe] option", has_text="pH probe").first.inner_text()
    page.locator("[data-probe]").select_option(label=name)
    page.get_by_label(re.compile(what)).check()
    if what == "closing check":
        closed_in = page.get_by_label("Closed in")
        closed_in.select_option(label=closed_in.locator("option", has_text="7.01").first.inner_text())
    if page.get_by_label(re.compile("settings were looked at")).is_visible():
        page.get_by_label(re.compile("settings were looked at")).check()
    page.get_by_role("button", name="Begin").click()
    return name


def read(page, value, temperature="20"):
    page.get_by_role("button", name="The probe is in this cup").click()
    page.get_by_label("Temperature of the cup").fill(temperature)
    page.get_by_label("Display shows").fill(value)
    page.get_by_role("button", name="Add this reading").click()
    expect(page.locator("[data-shown] li").last).to_contain_text(value)


def take(page):
    page.get_by_role("button", name="Take this cup").click()


def test_a_whole_day_without_a_signal_is_sent_in_order(brumel, cups):
    page, context = cups, cups.context
    context.set_offline(True)
    page.reload()
    name = begin(page)
    read(page, "0.703")  # a lost point, asked about on the spot
    expect(page.locator("[data-questions]")).to_contain_text("ten times too small")
    page.get_by_role("button", name="Dip this cup afresh").click()
    page.get_by_label("Display shows").fill("7.03")
    take(page)  # what stands in the field is added first
    expect(page.locator("[data-cup-name]")).to_contain_text("4.01")
    page.reload()  # the browser is closed between two cups
    page.locator("[data-probe]").select_option(label=name)
    expect(page.locator("[data-turn]")).to_contain_text("Cup 2 of 3")
    read(page, "10.05")  # the wrong cup
    expect(page.locator("[data-questions]")).to_contain_text("nearer to")
    take(page)
    expect(page.get_by_label("It may be so, because")).to_be_focused()  # not without a reason
    check_axe(page, at="a cup that is asked about")
    page.get_by_role("button", name="Dip this cup afresh").click()
    page.get_by_label("Display shows").fill("4.00")
    take(page)
    read(page, "10.01")  # the label's value of 25 °C
    expect(page.locator("[data-questions]")).to_contain_text("label's value")
    page.get_by_label("It may be so, because").fill("It does show that")
    take(page)
    expect(page.locator("[data-read]")).to_contain_text("It does show that")
    page.get_by_role("button", name="Put the run in the queue").dblclick()  # a press given twice is one run
    expect(page.locator("[data-queue-words]")).to_have_text("1 run waits to be sent.")
    page.get_by_role("link", name="The sites of this outing").click()
    expect(page.locator("[data-backing]").filter(has_text="not yet judged")).to_have_count(1)
    page.get_by_label(re.compile("Water temperature")).fill("7.5")
    page.get_by_label(re.compile(f"{name} shows")).first.fill("8.0")
    page.get_by_role("button", name="Put the visit in the queue").click()
    expect(page.locator("[data-queue-words]")).to_have_text("1 visit and 1 run wait to be sent.")
    with brumel.desk.read() as session:
        assert not session.scalars(select(Run)).all()
    context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    queue = page.locator("[data-queue]")
    expect(queue).to_contain_text("points accepted before settling 3")  # one value a cup says nothing of drift
    queue.get_by_label("It may be so, because").fill("Each stood still")
    queue.get_by_role("button", name="Send with these reasons").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        (made,) = session.scalars(select(Calibration))
        ph_row = session.scalar(select(Reading).where(Reading.quantity == "ph"))
        assert (made.usable, made.signal, ph_row.calibration_id, ph_row.backing) == (True, "ph", made.id, "open")
        assert made.at < ph_row.at
    context.set_offline(True)
    page.get_by_role("link", name="Calibrate a probe").click()
    begin(page, "closing check")
    read(page, "7.05")
    take(page)
    page.get_by_role("button", name="Put the run in the queue").click()
    expect(page.locator("[data-queue-words]")).to_have_text("1 run waits to be sent.")
    context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        (closing,) = session.scalars(select(Closing))
        assert closing.calibration_id == made.id


def test_what_rests_on_a_run_that_is_asked_about_waits_behind_it(brumel, cups):
    page, context = cups, cups.context
    context.set_offline(True)
    name = begin(page)
    for value in ("7.03", "4.28", "9.75"):  # a dull bulb: its verdict is not plain
        read(page, value)
        take(page)
    page.get_by_role("button", name="Put the run in the queue").click()
    page.get_by_role("link", name="The sites of this outing").click()
    for site, probe in (("1. Creek mouth, north bank", name), ("2. Reed channel", "Conductivity")):
        page.locator("select[name=site]").select_option(label=site)
        page.get_by_label(re.compile("Water temperature")).fill("7.5")
        page.get_by_label(re.compile(f"{probe}.* shows")).first.fill("8.0" if probe == name else "14000")
        page.get_by_role("button", name="Put the visit in the queue").click()
    context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    queue = page.locator("[data-queue]")
    expect(queue).to_contain_text("The verdict is")
    expect(queue).to_contain_text(f"Waits for the run of Calibration of {name}")
    expect(page.locator("[data-queue-words]")).to_have_text("1 visit and 1 run wait to be sent.")  # the other passed
    queue.get_by_label("It may be so, because").fill("No other probe today")
    queue.get_by_role("button", name="Send with these reasons").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    expect(queue).to_contain_text("Sent. Calibration")


def test_a_thermometer_is_checked_beside_its_reference_without_a_signal(brumel, cups):
    page = cups
    page.context.set_offline(True)
    page.locator("[data-probe]").select_option(label="Thermometer A8")
    if page.get_by_label(re.compile("settings were looked at")).is_visible():
        page.get_by_label(re.compile("settings were looked at")).check()
    page.get_by_role("button", name="Begin").click()
    turn = page.locator("[data-turn]")
    expect(turn).to_contain_text("Cup 1 of")
    count = int(turn.inner_text().split(" of ")[1].split()[0])
    for n in range(1, count + 1):
        expect(turn).to_contain_text(f"Cup {n} of")
        page.get_by_role("button", name="The probe is in this cup").click()
        expect(page.get_by_label("Temperature of the cup")).to_be_hidden()  # it shows that itself
        page.get_by_label("Display shows").fill("8.2")
        take(page)
        expect(page.locator("[data-cup-words]")).to_contain_text("Type what the reference showed")
        page.get_by_label("The reference shows").fill("8,2")
        take(page)
    page.get_by_role("button", name="Put the run in the queue").click()
    expect(page.locator("[data-queue-words]")).to_have_text("1 run waits to be sent.")
    page.context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    queue = page.locator("[data-queue]")
    expect(queue).to_contain_text("The verdict is")  # one value says nothing of drift: early
    queue.get_by_label("It may be so, because").fill("Stirred, and long in")
    queue.get_by_role("button", name="Send with these reasons").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
