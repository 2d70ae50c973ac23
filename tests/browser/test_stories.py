"""The whole story in the real interface: live, typed, by keyboard alone, by thumb, and through a crash."""

import csv
import io
import json
import re
import uuid
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect
from sqlalchemy import func, select

from brumel.store.logger import LoggerSeries
from brumel.store.records import Closing
from brumel.store.rounds import Outing
from brumel.store.tables import Calibration, Point, Reading, Sample
from brumel.work import bench, rounds, simulator
from tests.browser.conftest import AXE, axe_findings, check_axe, overprints, small_targets
from tests.work import helpers as h


def settled(page):
    expect(page.locator("[data-main], [data-main-all]")).to_have_attribute("aria-disabled", "false", timeout=120_000)


def begin(page, probe="pH probe A1", source=None):
    page.goto("/bench")
    page.get_by_role("link", name=f"Calibrate {probe}").click()
    if source:
        page.get_by_label(source).check()
    page.get_by_role("button", name="Start the run").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Cup 1")


def accept(page, press):
    """Accepts the point. A reading that moves again as it is pressed takes the button back; then it is pressed once more."""
    press()
    try:
        expect(page.locator("[data-accept]")).to_have_count(0, timeout=12_000)
    except AssertionError:
        settled(page)
        press()


def live_cup(page):
    page.get_by_role("button", name="The probe is in the cup").click()
    settled(page)
    accept(page, page.get_by_role("button", name="Accept this point").click)


def tab_to(page, name):
    """Press Tab until the link of that name has the focus, as a hand without a mouse does."""
    for _ in range(60):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.textContent.trim()") == name:
            return
    raise AssertionError(f"{name} cannot be reached by Tab")


def count(brumel, thing):
    with brumel.desk.read() as session:
        return session.scalar(select(func.count()).select_from(thing))


def test_live_from_cold_probe_to_exported_reading(brumel, open_page):
    page = open_page(brumel.base)
    begin(page)
    page.get_by_role("button", name="The probe is in the cup").click()
    expect(page.locator("[data-main]")).to_have_attribute("aria-disabled", "true")
    expect(page.locator("[data-n=to_go]")).not_to_have_text("–")
    expect(page.locator(".d-cup-now .d-cup-at")).to_contain_text("at 18.")  # the cup's own temperature, not the label's
    settled(page)
    expect(page.locator("[data-sentence]")).to_contain_text("limit 0.6")
    accept(page, page.get_by_role("button", name="Accept this point").click)
    live_cup(page)
    live_cup(page)
    expect(page.get_by_role("heading", level=1)).to_have_text("fit for use")
    expect(page.locator("svg.d-plate")).to_be_visible()
    check_axe(page)
    page.get_by_role("button", name="Use this calibration").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Calibration 10")
    number = re.search(r"\d+", page.get_by_role("heading", level=1).inner_text()).group()

    page.goto("/rounds")
    page.get_by_role("link", name="Raceway 3, inflow", exact=True).first.click()
    expect(page.get_by_role("button", name="Open the sheet")).to_be_visible()  # the page is there, not the one before
    for box in page.get_by_role("checkbox").all():
        box.uncheck()
    page.get_by_role("checkbox", name=re.compile("pH probe A1")).check()
    page.get_by_role("button", name="Open the sheet").click()
    page.get_by_role("button", name="The probe is in the water").click()
    settled(page)
    expect(page.locator(".ladder li")).to_have_count(5)
    expect(page.locator("[data-refresh=ladder]")).to_contain_text(f"calibration {number} in force")
    shown = page.locator("[data-n=reported]").inner_text()
    page.get_by_role("button", name="Record this reading").click()
    expect(page.get_by_role("row").filter(has_text="pH probe A1")).to_contain_text("recorded")
    with brumel.desk.read() as session:
        kept = session.scalars(select(Reading).where(Reading.quantity == "ph")).one()
        truth = simulator.truth(session, f"site:{kept.site_id}")["ph"]
    assert abs(kept.value - truth) <= kept.expanded_uncertainty
    assert abs(kept.value - float(shown.split(" ")[0])) < 0.02

    page.goto("/records")
    with page.expect_download() as download:
        page.get_by_role("link", name="Take away").click()
        page.get_by_role("link", name=re.compile("CSV.*readings")).click()
    rows = list(csv.DictReader(io.StringIO(download.value.path().read_text("utf-8"))))
    assert {r["calibration_number"] for r in rows if r["quantity"] == "ph"} == {number}


def test_typed_story_with_a_questioned_value(brumel, open_page):
    page = open_page(brumel.base)
    begin(page, "pH probe B1")
    for signal in ("2,0", "176.5", "-171.0"):
        page.get_by_text("It was read already").click()
        for seconds, last in (("20", False), ("45", True)):
            page.get_by_label("Display shows").fill(signal)
            page.get_by_label("Temperature").fill("20")
            page.get_by_label("Seconds it had stood").fill(seconds)
            page.get_by_role("button", name="Add this reading").click()
            expect(page.get_by_text("Typed so far")).to_be_visible()
            expect(page.locator("tbody tr")).to_have_count(2 if last else 1)
        page.get_by_role("button", name="Accept this point").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("fit for use")
    page.get_by_role("button", name="Use this calibration").click()

    page.goto("/rounds")
    page.get_by_role("link", name="Warm pool, deep end", exact=True).first.click()
    expect(page.get_by_role("button", name="Open the sheet")).to_be_visible()  # the page is there, not the one before
    for box in page.get_by_role("checkbox").all():
        box.uncheck()
    page.get_by_role("checkbox", name=re.compile("pH probe B1")).check()
    page.get_by_label("typed from the displays").check()
    page.get_by_role("button", name="Open the sheet").click()
    page.get_by_label("Unit pH probe B1 shows").select_option("mV")
    page.get_by_label("Display shows").fill("150")
    page.get_by_label("Water temperature").fill("29,4")
    page.get_by_role("button", name="Record, it stood still").click()
    expect(page.locator("[data-questions]")).to_contain_text("outside what this site can be")
    expect(page.get_by_label("Display shows")).to_have_value("150")  # nothing is lost, and nothing kept
    expect(page.get_by_label("It may be so, because")).to_be_focused()
    check_axe(page, at="a typed sheet with a question")
    page.keyboard.type("Acid feed stuck open; duty manager told")
    page.keyboard.press("Enter")
    expect(page.get_by_role("row").filter(has_text="pH probe B1")).to_contain_text("recorded")
    page.goto("/records/readings")
    expect(page.get_by_role("row").filter(has_text="pH").first).to_contain_text("fails")


def test_by_keyboard_alone_a_three_point_run_takes_few_presses(brumel, open_page):
    page = open_page(brumel.base, at="/")
    presses = 0

    def press(key):
        nonlocal presses
        presses += 1
        page.wait_for_load_state()  # the keys are listened to once the page is whole
        page.keyboard.press(key)

    press("2")  # Bench
    expect(page.get_by_role("heading", level=1)).to_have_text("Bench")
    tab_to(page, "Calibrate pH probe A1")
    press("Enter")
    expect(page.get_by_role("button", name="Start the run")).to_be_visible()
    press("Enter")
    for _ in range(3):
        expect(page.get_by_role("button", name="The probe is in the cup")).to_be_visible()
        press("Enter")
        settled(page)
        accept(page, lambda: press("Enter"))
    expect(page.get_by_role("heading", level=1)).to_have_text("fit for use")
    press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Calibration")
    assert presses <= 12
    press("?")
    expect(page.get_by_role("dialog")).to_contain_text("Print the record")
    press("Escape")
    press("3")
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    tab_to(page, "Raceway 3, inflow")
    press("Enter")
    expect(page.get_by_role("button", name="Open the sheet")).to_be_visible()
    press("Enter")
    expect(page.get_by_role("button", name="The probes are in the water")).to_be_focused()
    press("Enter")
    settled(page)
    press("Enter")
    expect(page.get_by_role("status").first).to_contain_text(re.compile("[Rr]ecorded"))
    press("n")  # the sheet is left first: on it a digit belongs to the entry
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    press("5")
    expect(page.get_by_role("heading", level=1)).to_contain_text("visit")
    press("x")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Take away")
    with page.expect_download() as download:
        page.keyboard.press("x")
    assert "Raceway 3, inflow" in download.value.path().read_text("utf-8")


def test_killed_halfway_it_goes_on_at_the_same_step(brumel, open_page):
    page = open_page(brumel.base, width=390, height=844)
    begin(page)
    live_cup(page)
    page.get_by_role("button", name="The probe is in the cup").click()
    expect(page.locator(".numbers [data-n=value]")).not_to_have_text("–")
    url = page.url
    brumel.kill()
    with brumel.desk.read() as session:
        before = {(s.dip_id, s.seq): s.signal for s in session.scalars(select(Sample))}
        assert session.scalar(select(func.count()).select_from(Point)) == 1
    page.close()
    brumel.start()
    page = open_page(brumel.base, width=390, height=844)
    page.goto("/")
    page.get_by_role("link", name="Go on").first.click()
    assert page.url == url
    expect(page.get_by_role("heading", level=1)).to_contain_text("Cup 2")
    settled(page)
    page.get_by_role("button", name="Accept this point").click()
    live_cup(page)
    expect(page.get_by_role("heading", level=1)).to_have_text("fit for use")
    with brumel.desk.read() as session:
        after = {(s.dip_id, s.seq): s.signal for s in session.scalars(select(Sample))}
    assert before.items() <= after.items()  # nothing lost, nothing changed


def test_two_tabs_on_one_run_follow_each_other(brumel, open_page):
    one = open_page(brumel.base)
    begin(one)
    two = open_page(brumel.base, "ilka")
    two.goto(one.url)
    one.get_by_role("button", name="The probe is in the cup").click()
    settled(one)
    two.reload()
    settled(two)
    one.get_by_role("button", name="Accept this point").click()
    expect(one.get_by_role("heading", level=1)).to_contain_text("Cup 2")
    expect(two.get_by_role("heading", level=1)).to_contain_text("Cup 2")  # told by the stream, reads itself afresh
    assert count(brumel, Point) == 1


def test_a_wrong_cup_is_spoken_up_about_while_it_happens(brumel, open_page):
    h.fault(brumel.desk, brumel.things.probes["A1"], "wrong_cup")
    page = open_page(brumel.base)
    begin(page)
    live_cup(page)
    page.get_by_role("button", name="The probe is in the cup").click()
    expect(page.locator("[data-speak]")).to_contain_text("nearer to Buffer 7.01")
    settled(page)
    page.get_by_role("button", name="Accept this point").click()
    expect(page.get_by_role("alert")).to_contain_text("Say why you take it all the same")
    assert count(brumel, Point) == 1
    assert count(brumel, Calibration) == 0


def test_a_press_counts_for_what_was_shown_as_settled_a_moment_before(brumel, open_page):
    page = open_page(brumel.base)

    def moves_again(route):
        shown = {"t": [1], "y": [1], "suspicions": []}
        events = [
            shown | {"seq": 5, "state": "settled", "settled": True},
            shown | {"seq": 6, "state": "settling", "settled": False},
        ]
        lines = [f"event: reading\ndata: {json.dumps(event)}\n\n" for event in events]
        route.fulfill(content_type="text/event-stream", body="retry: 600000\n\n" + "".join(lines))

    page.route("**/stream", moves_again)
    begin(page)
    page.get_by_role("button", name="The probe is in the cup").click()
    expect(page.locator("[data-seen]").first).to_have_value("5")
    expect(page.locator("[data-main]")).to_have_text(re.compile("^Accept this point"))
    expect(page.locator("[data-main]")).to_have_attribute("aria-disabled", "false")


PAGES = [
    "/",
    "/bench",
    "/rounds",
    "/kit",
    "/kit/methods",
    "/kit/methods/do-zero-air",
    "/kit/due",
    "/kit/lots/new",
    "/kit/lots/new?quantity=combined",
    "/kit/lots/new?quantity=ammonium",
    "/kit/probes/new?quantity=redox",
    "/kit/meters/new",
    "/records",
    "/records/calibrations",
    "/records/audit",
    "/records/review",
    "/records?rows=compact",
    "/records/readings",
    "/records/views/checks",
    "/records/views/lots",
    "/records/take-away",
    "/records/documents",
    "/records/documents/letterhead",
    "/rounds/sites/edit",
    "/rounds/plans/edit",
    "/worksheet",
    "/worksheet/conductivity",
    "/worksheet/compare",
    "/practice",
    "/people",
    "/people/webhooks",
    "/account",
    "/records/import",
    "/glossary/sources",
    "/glossary/sources/QARTOD",
    "/glossary/formats",
    "/glossary/licences",
]


#: Pages used with wet hands; the others are read at a desk.
FIELD_PAGES = "/$|/bench|/rounds/visits|/rounds/outings|/kit/probes/[^/]+/inspection"


@pytest.mark.parametrize(("width", "look"), [(1280, "paper"), (390, "sun"), (1280, "night")])
def test_axe_finds_nothing_and_nothing_overflows(told, open_page, width, look):
    page = open_page(told.base, "ilka", width=width, at="/")
    page.add_init_script(AXE)
    page.get_by_role("button", name=look).click()
    links = [
        *PAGES,
        f"/bench/probes/{told.things.probes['A1']}",
        f"/kit/probes/{told.things.probes['A2']}",
        f"/rounds/sites/{told.things.sites['raceway']}",
        f"/kit/probes/{told.things.probes['A5']}",
        f"/kit/probes/{told.things.probes['A5']}/inspection",
        f"/kit/probes/{told.things.probes['A1']}/inspection",
        f"/kit/probes/{told.things.probes['A1']}/record",
        f"/kit/meters/{told.things.meters['Field set A']}",
        f"/kit/meters/{told.things.meters['Field set A']}/settings",
        f"/bench/probes/{told.things.probes['A5']}",
        f"/kit/probes/{told.things.probes['A5']}/maintenance/membrane",
        f"/kit/meters/{told.things.meters['Field set A']}/battery",
        "/kit/lots/new?quantity=conductivity",
        f"/kit/lots/{told.things.lots['N10-071']}",
        "/units",
        f"/bench/meters/{told.things.meters['Field set A']}/session",
        f"/rounds/sites/edit?site={told.things.sites['basin']}",
        f"/rounds/sites/{told.things.sites['basin']}",
    ]
    with told.desk.read() as session:
        links.append(f"/records/readings/{session.scalar(select(Reading.id).limit(1))}")
        deep = select(Reading.visit_id).where(Reading.depth_m.is_not(None))
        deepest = session.scalar(deep.limit(1))
        links += [f"/rounds/visits/{deepest}", f"/records/visits/{deepest}"]
        links.append(f"/records/documents/preview/visit?visit={deepest}")
        out = session.scalar(select(Outing).order_by(Outing.started_at.desc()).limit(1))
        links += [
            f"/records/rounds/{out.id}",
            f"/rounds/outings/{out.id}",
            f"/rounds/outings/{out.id}/field",
            f"/rounds/plans/{out.round_id}",
        ]
        links += [
            f"/records/closings/{session.scalar(select(Closing.id).where(Closing.holds == held).limit(1))}"
            for held in (True, False)
        ]
        links.append(f"/rounds/series/{session.scalar(select(LoggerSeries.id))}")
        links.append(f"/records/affected/lot/{told.things.lots['N10-071']}")
        links.append(f"/bench/probes/{told.things.probes['A1']}/closing")
        for probe in ("A1", "A3", "A6"):  # plate, errors and an ion tip's line
            mine = select(Calibration.id).where(Calibration.probe_id == uuid.UUID(told.things.probes[probe]))
            links.append(f"/records/calibrations/{session.scalar(mine.limit(1))}")
    found = []
    # What the looks change is contrast: the two wide ones are searched for that on every second page.
    rules = "" if look == "sun" else "color-contrast"
    chosen = links if look == "sun" else links[:: 2 if look == "night" else -2]
    if look == "paper":
        chosen = [*chosen, *(f"/bench/probes/{told.things.probes[probe]}" for probe in ("A3", "A4", "A6", "C1", "A8"))]
    for link in chosen:
        page.goto(link)
        found += axe_findings(page, link, rules) + overprints(page, link)
        if width == 390:
            found += small_targets(page, link, 44 if re.match(FIELD_PAGES, link) else 24)
        if re.search(r"/bench/probes/[^/]*$", link) and look == "paper":
            words = len(page.locator("main").inner_text().split())
            found += [f"{link} says {words} words"] if words > 120 else []
        wide = page.evaluate("document.documentElement.scrollWidth")
        if wide > width:
            found.append(f"{link} is {wide} wide")
    page.goto("/bench/runs/" + h.start(told.desk, told.things, "B1", source="typed"))
    found += axe_findings(page, "run") + overprints(page, "run")
    if look != "night":
        for sum_page in ("ph", "buffer", "oxygen", "conductivity", "closing"):
            page.goto(f"/worksheet/{sum_page}")
            found += overprints(page, sum_page)
    assert not found, "\n".join(found)


def test_signed_out_and_in_again(brumel, open_page):
    page = open_page(brumel.base, None)
    page.goto("/kit")
    check_axe(page, at="sign in")
    page.get_by_label("User name").fill("ansa")
    page.get_by_label("Password").fill("wrong wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("not right")
    page.get_by_label("Password").fill("tarnholt-field-book")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Kit")
    page.get_by_role("button", name="Sign out").click()
    expect(page).to_have_url(re.compile("sign-in"))
    page.goto("/kit")
    expect(page.get_by_role("heading", level=1)).to_have_text("Sign in")


def test_a_sum_follows_the_typing_and_its_address_can_be_shared(brumel, open_page):
    page = open_page(brumel.base, at="/")
    page.keyboard.press("6")
    page.get_by_role("link", name="What oxygen should read here").click()
    check_axe(page, at="worksheet")
    page.get_by_label("Water temperature", exact=True).fill("20")
    page.get_by_role("textbox", name="Altitude").fill("0")
    expect(page.locator(".reported-now")).to_contain_text("9.09 mg/L")
    page.get_by_label("Unit of Water temperature").select_option("°F")
    page.get_by_label("Water temperature", exact=True).fill("86")
    expect(page.locator(".reported-now")).to_contain_text("7.56 mg/L")
    page.get_by_label("Salinity", exact=True).fill("salty")
    expect(page.get_by_role("alert")).to_contain_text("Salinity must be a number")
    page.get_by_label("Salinity", exact=True).fill("35")
    expect(page.locator(".reported-now")).to_contain_text("6.24 mg/L")
    shared = open_page(brumel.base, "ilka", width=390, height=844)
    shared.goto(page.url)
    expect(shared.locator(".reported-now")).to_contain_text("6.24 mg/L")
    check_axe(shared, at="worksheet on a phone")


def test_many_records_are_printed_while_one_watches_and_stopped_when_one_likes(told, open_page):
    page = open_page(told.base, width=390, height=844)
    page.goto(f"/records/calibrations?since={datetime.now(UTC) - timedelta(days=16):%Y-%m-%d}")
    page.keyboard.press("p")
    expect(page.get_by_role("heading", level=1)).to_have_text("Calibration records as one PDF")
    expect(page.get_by_role("status")).to_contain_text(re.compile(r"\d+ of \d+"))
    page.get_by_role("button", name="Stop it").click()
    expect(page.locator("main")).to_contain_text("Stopped at")
    page.get_by_role("button", name="Try again").click()
    ready = page.get_by_role("link", name="Save the file")
    expect(ready).to_be_visible(timeout=180_000)  # the page is read afresh once it is there
    with page.expect_download() as saved:
        ready.click()
    assert saved.value.path().read_bytes()[:5] == b"%PDF-"
    check_axe(page, at="a job")


@pytest.mark.parametrize(("readings", "most", "width"), [(1, 15, 1280), (2, 18, 390)])
def test_a_typed_three_point_run_takes_few_presses_from_today(brumel, open_page, readings, most, width):
    """Digits, sign, separator and suffix are not counted; the temperature of every cup is typed, nothing is carried over."""
    h.quick_method(brumel.desk, brumel.things, "ph-7-4-10", "ph-quick", readings)
    for_last_time(brumel, readings)
    page = open_page(brumel.base)
    page.set_viewport_size({"width": width, "height": 844})
    page.goto("/")
    presses = []

    def press(key):
        page.wait_for_load_state()
        presses.append(key)
        page.keyboard.press(key)

    press("s")
    again = page.get_by_role("button", name="Start pH probe B1")
    press(again.get_attribute("data-key"))
    for value in ("-2.0", "168,1", "-170.4"):
        expect(page.get_by_role("button", name="The probe is in the cup")).to_be_focused()
        press("Enter")
        for n in range(readings):
            field = page.get_by_label("Display shows")
            expect(field).to_be_focused()
            page.wait_for_timeout(700)
            page.keyboard.type(value)
            if n == 0:
                press("Tab")
                page.keyboard.type("20,4")
            press("Enter")
            expect(page.get_by_role("button", name="Strike out")).to_have_count(n + 1)
        expect(page.locator("[data-state]")).to_have_text("settled")
        expect(page.locator("[data-wrong-cup]:visible")).to_have_count(0)
        press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("fit for use")
    press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Calibration")
    assert len(presses) <= most, presses


def for_last_time(brumel, readings):
    """Probe B1 was calibrated once before, by this method, typed."""
    things, desk = brumel.things, brumel.desk
    run = h.start(desk, things, "B1", "ph-quick", "typed")
    for value in (-2.0, 168.0, -170.0):
        state = h.state_of(desk, run)
        where = {"run_id": run, "step": state.current.spec.key, "turn": state.turn}
        for after in (40.0, 80.0):
            typed = bench.TypedValue("mv", value, 20.4, after)
            bench.type_reading(desk, things.ansa, h.key(), **where, typed=typed)
        bench.accept(desk, things.ansa, h.key(), **where, how=bench.Acceptance(answer="Looked again"))
    h.finish(desk, things, run, use=False)


def test_a_typed_visit_of_five_quantities_takes_few_presses(brumel, open_page):
    page = open_page(brumel.base)
    page.set_viewport_size({"width": 390, "height": 844})
    site = brumel.things.sites["lagoon"]
    presses = []

    def press(key):
        page.wait_for_load_state()
        presses.append(key)
        page.keyboard.press(key)

    def enter(*values):
        for value in values:
            page.keyboard.type(value)
            press("Enter")

    aboard = [brumel.things.probes[p] for p in ("A1", "A3", "A4", "A5", "C1")]
    visit = rounds.start_visit(brumel.desk, brumel.things.ansa, h.key(), site_id=site, probes=aboard, source="typed").id
    page.goto(f"/rounds/visits/{visit}")
    expect(page.locator("[data-value]").first).to_be_focused()
    enter("8,02", "14200", "9.4", "312", "0.1", "9.5")
    expect(page.get_by_role("status").first).to_contain_text("recorded")
    assert len(presses) <= 20, presses
