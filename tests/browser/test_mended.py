"""Things that once broke in a browser: sessions and kept pages, the phone's queue, depths, logger decisions, typed Enter."""

import re
import time
import uuid
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect
from sqlalchemy import func, select, update

from brumel.store.logger import LoggerDecision
from brumel.store.tables import Dip, Probe, SignIn, Visit
from brumel.work import bench, kit, rounds
from brumel.work.link import samples
from brumel.work.rounds import calendar, outings
from tests.browser.conftest import check_axe
from tests.browser.test_stories import settled
from tests.work import helpers as h

READY = "This page is kept: it opens without one."


def begun(brumel, name="Lagoon"):
    """An outing of today, begun by Ansa."""
    with brumel.desk.read() as session:
        found = next(r for r in calendar.rounds(session) if name in r.name)
    return outings.start(brumel.desk, brumel.things.ansa, h.key(), round_id=str(found.id)).id


def kept_field(page, brumel):
    out = begun(brumel)
    page.goto(f"/rounds/outings/{out}/field")
    expect(page.locator("[data-net]")).to_contain_text(READY)
    return out


def fill_sheet(page, *, ph, depth="", temperature="11.2"):
    page.get_by_label("Water temperature").fill(temperature)
    page.get_by_label("Depth").fill(depth)
    row = page.locator(".typed-row", has=page.get_by_label(re.compile("pH probe")))
    row.locator("input").fill(ph)
    page.get_by_role("button", name="queue").click()


# The first page after a sign-in opens the kept ones a moment after it has loaded; nobody goes out of reach that fast.
UNLOCKED = """async () => {
  const cache = await caches.open("brumel-field-2");
  const isLocked = async () => (await (await cache.match("/rounds/kept-session")).json()).locked;
  while (await isLocked()) await new Promise((resolve) => setTimeout(resolve, 50));
}"""


def test_a_session_outlives_its_network_and_ends_when_it_is_signed_out(brumel, open_page):
    page = open_page(brumel.base)
    out = kept_field(page, brumel)
    # Another address and another browser line: nothing of either is part of the session.
    page.set_extra_http_headers({"X-Forwarded-For": "203.0.113.9", "User-Agent": "another"})
    page.goto("/bench")
    expect(page).to_have_url(re.compile("/bench$"))
    cookies = page.context.cookies()
    assert next(c for c in cookies if c["name"] == "brumel")["expires"] > datetime.now(UTC).timestamp() + 11 * 3600
    # The sign-in runs out on the server: the kept page is locked, not gone, and the queue is untouched.
    page.goto(f"/rounds/outings/{out}/field")
    page.context.set_offline(True)
    fill_sheet(page, ph="7.9")
    expect(page.locator("[data-queue-words]")).to_have_text("1 visit waits to be sent.")
    with brumel.desk.sessions.begin() as session:
        session.execute(update(SignIn).values(seen_at=SignIn.seen_at - timedelta(hours=9)))
    page.context.set_offline(False)
    page.goto("/bench")
    expect(page).to_have_url(re.compile("/sign-in"))
    page.context.set_offline(True)
    page.goto(f"/rounds/outings/{out}/field")
    expect(page.get_by_role("heading")).to_have_text("This page is locked")
    # In Brumel's dress, by the styles of the kept page.
    assert page.evaluate("[...document.styleSheets].map((each) => each.cssRules.length > 9)") == [True, True]
    page.context.set_offline(False)
    page.goto("/sign-in")
    page.get_by_label("User name").fill("ansa")
    page.get_by_label("Password").fill("tarnholt-field-book")
    page.keyboard.press("Enter")
    page.wait_for_url(brumel.base + "/")
    page.evaluate(UNLOCKED)
    page.context.set_offline(True)
    page.goto(f"/rounds/outings/{out}/field")
    expect(page.locator("[data-queue]")).to_contain_text(re.compile("Waits|Sent|Not taken"))
    page.context.set_offline(False)


def test_signing_out_warns_while_sheets_wait_then_clears_the_kept_pages(brumel, open_page):
    page = open_page(brumel.base)
    out = kept_field(page, brumel)
    page.route("**/send", lambda route: route.abort())
    fill_sheet(page, ph="7.9")
    expect(page.locator("[data-queue-words]")).to_contain_text(re.compile("No answer|1 visit waits"))
    said = []
    page.once("dialog", lambda d: (said.append(d.message), d.dismiss()))
    page.get_by_role("button", name="Sign out").click()
    page.wait_for_timeout(300)
    assert "1 visit waits to be sent" in said[0]
    old = page.context.cookies()
    page.once("dialog", lambda d: d.accept())
    page.get_by_role("button", name="Sign out").click()
    expect(page).to_have_url(re.compile("/sign-in"))
    page.context.add_cookies(old)  # a copied cookie is worth nothing: the row of the session has ended
    page.goto("/bench")
    expect(page).to_have_url(re.compile("/sign-in"))
    page.context.set_offline(True)
    with pytest.raises(Exception, match=r"ERR_(INTERNET_DISCONNECTED|FAILED)"):
        page.goto(f"/rounds/outings/{out}/field")
    page.context.set_offline(False)


@pytest.mark.parametrize(
    ("status", "body", "says"),
    [
        (429, '{"error": "Too many tries."}', "Too many tries"),
        (403, "<html>blocked</html>", "did not come from Brumel"),
        (400, '{"error": "This form is out of date."}', "out of date"),
        (413, "too large", "did not come from Brumel"),
        (200, "<html>Welcome to the harbour's network</html>", "did not come from Brumel"),
        (200, '{"readings": 3}', "did not come from Brumel"),
    ],
)
def test_only_brumel_s_own_word_strikes_a_sheet_out(brumel, open_page, status, body, says):
    page = open_page(brumel.base)
    kept_field(page, brumel)
    answers = [status]

    def answer(route):
        if answers:
            route.fulfill(status=answers.pop(), body=body)
        else:
            route.continue_()

    page.route("**/send", answer)
    fill_sheet(page, ph="7.9", depth="0.5")
    first = page.locator("[data-queue] li").first
    expect(first).to_contain_text(says)
    fill_sheet(page, ph="7.8", depth="1")  # the next one is not held up
    expect(page.locator("[data-queue] li").nth(1)).to_contain_text("Sent")
    first.get_by_role("button", name="Try again").click()
    expect(first).to_contain_text("Sent")


def test_a_profile_typed_without_a_signal_is_one_visit_of_its_site(brumel, open_page):
    page = open_page(brumel.base, width=390, height=800)
    out = kept_field(page, brumel)
    page.locator("select[name=site]").select_option(brumel.things.sites["basin"])
    chosen = page.locator("select[name=site]").input_value()
    page.context.set_offline(True)
    for depth, ph in (("0,5", "7.91"), ("1", "7.84"), ("2", "7.72")):
        fill_sheet(page, ph=ph, depth=depth)
        expect(page.locator("select[name=site]")).to_have_value(chosen)
    expect(page.locator("[data-queue-words]")).to_have_text("3 visits wait to be sent.")  # the last is kept too
    page.context.set_offline(False)
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        (visit,) = session.scalars(select(Visit).where(Visit.outing_id == uuid.UUID(out)))
        depths = [r.depth_m for r in rounds.of_visit(session, visit.id) if r.quantity == "ph"]
        assert str(visit.site_id) == chosen
    assert sorted(depths) == [0.5, 1.0, 2.0]


def test_same_as_last_time_starts_in_one_line_and_says_only_what_is_so(told, open_page):
    page = open_page(told.base)
    with told.desk.read() as session:
        probe = session.scalars(select(Probe).where(Probe.name == "pH probe A2")).one().id
    page.goto(f"/bench/probes/{probe}")
    line, start = page.locator("[data-same]"), page.get_by_role("button", name="Start the run")
    expect(line).to_have_text(re.compile(r"^Same as last time: 7 → 4 → 10.*; N7-121, N4-118, N10-"))
    expect(start).to_be_in_viewport()
    cup = page.get_by_label("1, pH 7 buffer")
    expect(cup).not_to_be_visible()
    page.keyboard.press("c")
    cup.select_option(index=1)
    expect(line).not_to_be_visible()
    start.click()  # the settings are not ticked: refused, and what was chosen is still chosen, unfolded
    expect(page.get_by_role("alert")).to_contain_text("settings")
    expect(cup).to_be_visible()
    assert cup.evaluate("e => e.selectedIndex") == 1
    expect(line).to_have_count(0)


def test_each_decision_about_a_series_is_taken_in_a_browser(told, open_page):
    page = open_page(told.base, "ilka")
    page.goto("/records/review")
    with told.desk.read() as session:
        before = session.scalar(select(func.count()).select_from(LoggerDecision))
    links = page.locator("a[href*='/rounds/series/']")
    page.goto(links.first.get_attribute("href"))
    for number, reason in enumerate(("Weed on the sensor", "Looked at once more", "Third look"), 1):
        form = page.locator("form[action$='/decide']")
        if not form.get_by_label(re.compile("^Why")).is_visible():
            page.get_by_text("Decide again").click()
        options = form.get_by_role("radio")
        options.nth(number % options.count()).check()
        form.get_by_label(re.compile("^Why")).fill(reason)
        form.get_by_label(re.compile("[Nn]ame")).fill("Ilka Torvend")
        form.get_by_role("button", name="Decide").click()
        expect(page.locator("table", has_text=reason).first).to_be_visible()
    with told.desk.read() as session:
        assert session.scalar(select(func.count()).select_from(LoggerDecision)) == before + 3
    page.get_by_text("It is the wrong file").click()
    page.locator("form[action$='/withdraw']").get_by_label("Why").fill("Of another pond")
    page.get_by_role("button", name="Withdraw it").click()
    expect(page.locator("main")).to_contain_text("Withdrawn by Ilka Torvend: Of another pond")
    expect(page.get_by_role("button", name="Decide")).to_have_count(0)


def test_empty_enter_accepts_what_settled_and_digits_stay_in_their_field(brumel, open_page):
    h.quick_method(brumel.desk, brumel.things, "ph-7-one-point", "ph-one-quick")
    run = h.start(brumel.desk, brumel.things, "B1", "ph-one-quick", source="typed")
    page = open_page(brumel.base)
    page.goto(f"/bench/runs/{run}")
    page.keyboard.press("Enter")  # the probe is in the cup: the clock runs
    value = page.get_by_label("Display shows")
    expect(value).to_be_focused()
    page.keyboard.press("Enter")  # nothing typed, nothing settled: nothing happens, and the focus stays
    expect(value).to_be_focused()
    assert "runs" in page.url
    for count in (1, 2):
        page.wait_for_timeout(700)
        value.fill("4.2")
        page.get_by_label("Temperature").fill("18.4")
        value.press("Enter")
        expect(page.get_by_role("button", name="Strike out")).to_have_count(count)
        expect(value).to_be_focused()
        expect(value).to_have_value("")
    expect(page.locator("[data-typed]")).to_have_attribute("data-typed", "settled")
    page.locator("h1").click()
    for digit in "2345":  # beside the field too, a digit leads to no other place: it is part of the value
        page.keyboard.press(digit)
    assert page.url.endswith(f"/bench/runs/{run}")
    expect(value).to_have_value("2345")
    value.fill("")
    page.keyboard.press("x")  # a letter in the empty field is a key of the page
    expect(page.get_by_role("button", name="Strike out")).to_have_count(1)
    page.wait_for_timeout(700)
    page.keyboard.type("4.2")
    page.keyboard.press("Enter")
    expect(page.locator("[data-typed]")).to_have_attribute("data-typed", "settled")
    value.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name=re.compile("fit|care|use"))).to_be_visible()
    assert not h.state_of(brumel.desk, run).current


def test_changing_the_method_starts_no_run_and_pages_open_at_their_top(brumel, open_page):
    page = open_page(brumel.base, width=390, height=700)
    probe = brumel.things.probes["A1"]
    page.goto(f"/bench/probes/{probe}")
    assert page.evaluate("window.scrollY") == 0
    method = page.get_by_label("Method")
    method.focus()
    method.select_option("ph-7-one-point")
    page.wait_for_url(re.compile("method=ph-7-one-point"))
    for _ in range(3):
        page.keyboard.press("Enter")
        page.keyboard.press("ArrowDown")
    page.wait_for_timeout(300)
    assert "/runs/" not in page.url
    with brumel.desk.read() as session:
        assert kit.open_run(session, uuid.UUID(probe)) is None
    other = page.context.new_page()  # the page itself may be on its way to the method that was chosen last
    other.goto("/bench/")
    expect(other.get_by_role("heading", level=1)).to_be_visible()


def test_a_refused_field_says_so_beside_itself_until_it_is_changed(brumel, open_page):
    page = open_page(brumel.base, "ilka", width=390, height=844)
    page.goto(f"/rounds/sites/edit?site={brumel.things.sites['lagoon']}")
    field = page.get_by_label("Altitude")
    field.fill("a little")
    page.get_by_role("button", name="Save").first.click()
    told = "Altitude must be a number; it is “a little”."
    expect(field).to_have_attribute("aria-invalid", "true")
    expect(field).to_have_accessible_name("Altitude m")
    expect(field).to_have_accessible_description(told)
    expect(field).to_have_value("a little")
    check_axe(page, at="a refused site")
    page.get_by_role("alert").get_by_role("link", name=told).click()
    expect(field).to_be_focused()
    field.press_sequentially("7")
    expect(field).not_to_have_attribute("aria-invalid", "true")
    expect(page.locator(".field-fault")).to_have_count(0)


@pytest.mark.usefixtures("meter_stands_still")
def test_questions_on_a_live_sheet_come_and_go_with_the_readings(brumel, open_page):
    """The line that is not looked at asks too; what has answered itself goes, what is new comes."""
    things, desk = brumel.things, brumel.desk
    visit = rounds.start_visit(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["raceway"],
        probes=[things.probes["A1"], things.probes["A4"]],
        source="live",
    ).id
    dips = rounds.dip(desk, things.ansa, h.key(), visit_id=visit).dips

    def shows(probe, signal_mv, first):
        with desk.sessions.begin() as session:
            dip = session.get_one(Dip, uuid.UUID(dips[things.probes[probe]]))
            samples.store_samples(session, dip, [(first + i, (first + i) / 2, signal_mv, 4.0, None) for i in range(60)])

    shows("A4", 230.0, 0)
    page = open_page(brumel.base)
    page.goto(f"/rounds/visits/{visit}?probe={things.probes['A4']}")
    asked = page.locator("[data-question]")
    expect(asked).to_have_count(0)
    shows("A1", -132.0, 0)  # about pH 9.4
    expect(asked).to_contain_text(re.compile(r"pH 9\.\d+ is outside"))
    shows("A4", 1200.0, 60)
    expect(asked).to_have_count(2)  # each with a reason of its own, and a reason that was begun stays with its question
    reasons = page.get_by_label("It may be so, because")
    reasons.first.fill("Lime went in upstream")
    page.get_by_role("button", name="As above").click()
    expect(reasons.nth(1)).to_have_value("Lime went in upstream")
    reasons.nth(1).fill("Seen twice")
    shows("A4", 1150.0, 120)  # the figures move on, under the field that is written in
    expect(asked.nth(1)).to_contain_text("1150")
    expect(reasons.nth(1)).to_be_focused()
    expect(reasons.nth(1)).to_have_value("Seen twice")
    page.get_by_role("heading", level=1).click()
    shows("A4", 230.0, 180)
    expect(asked).to_have_count(1)
    expect(reasons).to_have_value("Lime went in upstream")
    shows("A4", 1150.0, 240)  # it comes back, and what was written to it with it
    expect(reasons.nth(1)).to_have_value("Seen twice")
    shows("A4", 230.0, 300)
    expect(asked).to_have_count(1)
    page.get_by_role("button", name=re.compile("early")).click()
    expect(page.get_by_role("status").first).to_contain_text("recorded")
    with desk.read() as session:
        kept = {r.quantity: r for r in rounds.of_visit(session, uuid.UUID(visit))}
    assert {q: r.reason for q, r in kept.items() if r.reason} == {"ph": "Lime went in upstream"}


def test_a_press_on_its_way_is_not_lost_when_the_page_would_be_read_afresh(brumel, open_page):
    """Another takes the point while the press is on its way; the page that comes says so."""
    page = open_page(brumel.base)
    run = h.start(brumel.desk, brumel.things)
    bench.dip(brumel.desk, brumel.things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    page.goto(f"/bench/runs/{run}")
    settled(page)

    def another_is_first(route):
        # Early and with an answer: on a machine under load the simulated link has gaps, and is asked about.
        how = bench.Acceptance(early=True, answer="Seen twice")
        bench.accept(brumel.desk, brumel.things.ilka, h.key(), run_id=run, step="neutral", turn=0, how=how)
        time.sleep(4)  # the page hears of it meanwhile
        route.continue_()

    page.route("**/accept/*", another_is_first)
    page.get_by_role("button", name="Accept this point").click()
    expect(page.get_by_text("another window")).to_be_visible()
