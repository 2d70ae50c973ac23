"""A whole day through the real interface, a day without a signal, and a sheet by keyboard alone."""

import re

from playwright.sync_api import expect
from sqlalchemy import func, select

from brumel.store.records import Decision, Signature
from brumel.store.tables import Reading, Visit
from brumel.work import rounds, simulator
from brumel.work.demo.load import PASSWORD
from brumel.work.rounds import calendar, outings
from tests.browser.test_stories import live_cup, settled
from tests.work import helpers as h


def in_the_water(page):
    page.get_by_role("button", name=re.compile("in the water")).click()
    main = page.locator("[data-main-all], [data-main]")
    expect(main).to_have_attribute("aria-disabled", "false", timeout=120_000)
    expect(main).not_to_have_text(
        re.compile(r"\d of \d"), timeout=120_000
    )  # the thermometer has settled long before pH
    return main


def of_round(brumel, name="Lagoon"):
    with brumel.desk.read() as session:
        return next(str(r.id) for r in calendar.rounds(session) if r.name == name)


def test_a_whole_day_from_the_plan_to_the_signature(brumel, open_page):
    page = open_page(brumel.base, at="/")
    expect(page.locator("[data-plan] tr").first).to_be_visible()
    page.goto(f"/bench/probes/{brumel.things.probes['A1']}")
    page.get_by_role("button", name="Start the run").click()
    for _ in range(3):
        live_cup(page)
    page.get_by_role("button", name="Use this calibration").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Calibration")

    page.goto(f"/rounds/plans/{of_round(brumel)}")
    page.get_by_role("button", name="Begin: pack, then go").click()
    page.get_by_role("checkbox", name=re.compile("pH probe A1")).check()
    page.get_by_role("button", name="Save what is ticked").click()
    expect(page.get_by_text("1 things are on the packing list")).to_be_visible()
    outing = page.url
    page.get_by_role("link", name="Take readings Creek mouth, north bank").click()
    expect(page.get_by_role("button", name="Open the sheet")).to_be_visible()  # the page is there, not the one before
    for box in page.get_by_role("checkbox").all():
        box.uncheck()
    page.get_by_role("checkbox", name=re.compile("pH probe A1")).check()
    page.get_by_role("checkbox", name=re.compile("Thermometer A8")).check()
    page.get_by_role("button", name="Open the sheet").click()
    in_the_water(page).click()
    expect(page.get_by_role("status").first).to_contain_text(re.compile("[Rr]ecorded"))
    page.goto(outing)
    expect(page.get_by_role("listitem").filter(has_text="Creek mouth")).to_contain_text("readings recorded")
    page.get_by_role("button", name="Back from the round").click()

    with brumel.desk.sessions.begin() as session:  # it dried on the way home
        name = f"probe:{brumel.things.probes['A1']}"
        body = simulator.truth(session, name)
        simulator.set_truth(session, name, body | {"offset_mv": float(body["offset_mv"]) - 30.0})
    page.get_by_role("link", name=re.compile("Close it.*pH probe A1")).click()
    page.get_by_label("Close it in").select_option(label="N7-121 · Buffer 7.01")
    page.get_by_role("button", name="Start the check").click()
    page.get_by_role("button", name="The probe is in the cup").click()
    settled(page)
    page.get_by_role("button", name="Accept this point").click()
    answer = page.get_by_label(re.compile("same, because|because"))
    if page.get_by_role("alert").count() and answer.count():
        answer.first.fill("It is what it shows")
        page.get_by_role("button", name="Accept this point").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("It does not hold")
    page.get_by_role("button", name="Record the check").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("does not hold")
    expect(page.get_by_text("The lead decides about the readings")).to_be_visible()
    closing = page.url

    lead = open_page(brumel.base, "ilka")
    lead.goto("/records/review")
    lead.get_by_role("link", name=re.compile("pH probe A1, check")).click()
    assert lead.url == closing
    expect(lead.locator("tbody tr").filter(has_text="Creek mouth")).to_contain_text(
        re.compile("corrected|not reported")
    )
    lead.get_by_label("Why").fill("A dry cap; the drift was steady")
    lead.get_by_label(re.compile("Signed")).fill("Somebody Else")
    lead.get_by_role("button", name=re.compile("Decide")).click()
    expect(lead.get_by_role("alert")).to_contain_text("Sign with your own name")
    lead.get_by_label("Why").fill("A dry cap; the drift was steady")
    lead.get_by_label(re.compile("Signed")).fill("Ilka Torvend")
    lead.get_by_role("button", name=re.compile("Decide")).click()
    expect(lead.get_by_text("Decided by Ilka Torvend")).to_be_visible()
    lead.goto("/records/review")
    lead.get_by_role("link", name=re.compile("Creek mouth")).first.click()
    lead.get_by_label(re.compile("Your password")).fill(PASSWORD)
    lead.keyboard.press("Enter")
    expect(lead.get_by_role("row").filter(has_text=re.compile("Creek mouth.*pH"))).to_be_visible()
    with brumel.desk.read() as session:
        newest = session.scalar(select(Reading).where(Reading.quantity == "ph").order_by(Reading.version.desc()))
        assert (newest.version, session.scalar(select(func.count()).select_from(Decision))) == (2, 1)
        assert session.get(Signature, newest.id).name == "Ilka Torvend"


def fill(page, site, ph, at):
    place = page.locator("select[name=site]")
    # A finger that leaves the site as it is changes nothing; the script's choice would bring the form in anew.
    if place.locator("option:checked").inner_text() != site:
        place.select_option(label=site)
    page.get_by_label(re.compile("Water temperature")).fill(at)
    page.get_by_label(re.compile("pH probe .* shows")).first.fill(ph)
    page.get_by_role("button", name="Put the visit in the queue").click()


def test_without_a_signal_nothing_is_lost_sent_twice_or_settled_in_silence(brumel, open_page):
    made = outings.start(brumel.desk, brumel.things.ansa, h.key(), round_id=of_round(brumel)).id
    page = open_page(brumel.base, width=390, height=844)
    context = page.context
    page.goto(f"/rounds/outings/{made}/field")
    expect(page.locator("[data-net]")).to_contain_text("This page is kept")
    context.set_offline(True)
    page.reload()
    expect(page.locator("[data-net]")).to_contain_text("No signal. This page is kept")
    fill(page, "1. Creek mouth, north bank", "24", "7,5")  # swapped
    expect(page.locator("[data-judged]")).to_contain_text("lies outside")
    fill(page, "1. Creek mouth, north bank", "8.0", "7,5")
    expect(page.locator("[data-queue-words]")).to_have_text("1 visit waits to be sent.")
    fill(page, "2. Reed channel", "7.9", "7.1")
    fill(page, "3. Basin, middle", "8.1", "7.3")
    expect(page.locator("[data-queue-words]")).to_have_text("3 visits wait to be sent.")
    page.close()
    again = context.new_page()
    again.goto(f"/rounds/outings/{made}/field")
    expect(again.locator("[data-queue-words]")).to_have_text("3 visits wait to be sent.")
    with brumel.desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 0
    # Meanwhile the lead reads the second water.
    other = rounds.start_visit(
        brumel.desk,
        brumel.things.ilka,
        h.key(),
        site_id=brumel.things.sites["reed"],
        probes=[brumel.things.probes["B1"]],
        source="typed",
        outing_id=made,
    ).id
    row = [rounds.Typed(brumel.things.probes["B1"], "ph", 7.95)]
    rounds.type_readings(
        brumel.desk,
        brumel.things.ilka,
        h.key(),
        visit_id=other,
        typed=rounds.TypedSheet(rows=row, temperature_c=7.0, still=True),
    )
    rounds.take_all(brumel.desk, brumel.things.ilka, h.key(), visit_id=other)
    context.set_offline(False)
    again.get_by_role("button", name="Send now").click()
    expect(again.locator("[data-queue]")).to_contain_text("was read by Ilka Torvend")
    expect(again.locator("[data-queue-words]")).to_have_text("1 visit waits to be sent.")  # it holds up no other
    again.get_by_role("button", name="Keep both").click()
    expect(again.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    again.get_by_role("button", name="Send now").click()
    with brumel.desk.read() as session:
        mine = session.scalars(select(Visit).where(Visit.operator_id == brumel.things.ansa.id).order_by(Visit.at))
        assert [v.site.name for v in mine] == ["Creek mouth, north bank", "Reed channel", "Basin, middle"]
    # A sheet left on the phone waits for who filled it in; what was kept of the sites goes with the sign-out.
    context.set_offline(True)
    fill(again, "1. Creek mouth, north bank", "8.05", "7.4")
    again.route("**/send", lambda route: route.abort())  # before the signal: the page sends by itself when it is back
    context.set_offline(False)
    again.goto("/")
    again.once("dialog", lambda dialog: dialog.accept())  # one sheet waits: it is said, and stays
    again.get_by_role("button", name="Sign out").click()
    expect(again).to_have_url(re.compile("sign-in"))
    again.wait_for_function("caches.keys().then((names) => names.length === 0)")
    again.get_by_label("User name").fill("ilka")
    again.get_by_label("Password").fill(PASSWORD)
    again.get_by_role("button", name="Sign in").click()
    again.unroute("**/send")
    sent = []
    again.on("request", lambda r: sent.append(r.url) if r.url.endswith("/send") else None)
    again.goto(f"/rounds/outings/{made}/field")
    expect(again.locator("[data-queue]")).to_contain_text("waits until Ansa Merrik signs in here")
    again.get_by_role("button", name="Send now").click()
    expect(again.locator("[data-queue]")).to_contain_text("waits until Ansa")
    again.wait_for_timeout(1500)  # a sending that should not be would be under way by now
    assert sent == []
    with brumel.desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 4


def test_a_sheet_of_five_quantities_by_keyboard_alone(brumel, open_page):
    page = open_page(brumel.base)
    page.goto(f"/rounds/sites/{brumel.things.sites['lagoon']}")
    presses = 0

    def press(key, times=1):
        nonlocal presses
        for _ in range(times):
            presses += 1
            page.wait_for_load_state()
            page.keyboard.press(key)

    page.get_by_label(re.compile("live, as far")).focus()
    press("ArrowDown")  # typed
    press("Enter")
    shown = {"Thermometer": "9.4", "pH": "8.02", "Conductivity": "12100", "ORP": "215", "Oxygen": "9.8"}
    expect(page.locator(".typed-sheet")).to_be_visible()
    fields = page.locator(".typed-sheet input[name^=value_]").count()
    assert fields == 5
    for _ in range(fields):  # the first value has the focus, Enter leads on, and the last one records
        label = page.evaluate("document.activeElement.labels[0].textContent")
        page.keyboard.type(next(v for name, v in shown.items() if label.startswith(name)))
        press("Enter")
    expect(page.get_by_text("readings recorded.")).to_be_visible()
    assert presses == 2 + fields
    with brumel.desk.read() as session:
        kept = set(session.scalars(select(Reading.quantity)))
    assert kept >= {"temperature", "ph", "conductivity", "redox", "oxygen", "salinity", "saturation"}
