"""A round without a signal: a profile as one visit, every answer that can come back, and the browser's rules held to core."""

import io
import json
import re
import uuid
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import expect
from sqlalchemy import func, select

from brumel.core import sense
from brumel.core.believability import Flag, Shown
from brumel.core.expectation import Expected
from brumel.core.oxygen import saturation_mg_l
from brumel.core.slips import Sight, slip_of, ways
from brumel.store.tables import Reading, Visit
from brumel.web.rounds.offline import together
from brumel.work import bench, rounds
from brumel.work.rounds import outings
from brumel.work.rounds.sheet.plausibility import bands, findings
from brumel.work.rounds.sites import Earlier
from tests.browser.conftest import check_axe
from tests.work import helpers as h


@pytest.fixture
def field(brumel, open_page):
    """The field page of the lagoon's outing on a phone, kept for when there is no signal."""
    outing = outings.start(brumel.desk, brumel.things.ansa, h.key(), round_id=str(h.a_round(brumel.desk).id)).id
    page = open_page(brumel.base, width=390, height=844)
    page.goto(f"/rounds/outings/{outing}/field")
    expect(page.locator("[data-net]")).to_contain_text("This page is kept")
    return page


def type_set(page, ph, temperature, depth=""):
    page.get_by_label(re.compile("Water temperature")).fill(temperature)
    page.get_by_label(re.compile("Depth")).fill(depth)
    page.get_by_label(re.compile("pH probe .* shows")).first.fill(ph)


def visits(brumel):
    with brumel.desk.read() as session:
        return session.scalar(select(func.count()).select_from(Visit))


def test_a_profile_typed_without_a_signal_is_one_visit(brumel, field, tmp_path):
    page, context = field, field.context
    context.set_offline(True)
    page.goto("/rounds/running")  # as the home screen opens it
    assert page.url == field.url
    page.locator("select[name=site]").select_option(label="3. Basin, middle")
    more = page.get_by_role("button", name="Keep this, read another depth")
    for depth, ph in (("0,3", "8.1"), ("1", "8.05"), ("1,5", "8.02"), ("2", "8.0")):
        type_set(page, ph, "7.4", depth)
        more.click()
        expect(page.locator("[data-sets] li").last).to_contain_text(f"{depth.replace(',', '.')} m")
    type_set(page, "3.1", "7.4", "3")  # a slip: it is asked about while one can still repeat
    more.click()
    expect(page.locator("[data-questions]")).to_contain_text("what this site can be")
    expect(page.get_by_label("It may be so, because")).to_be_focused()
    page.get_by_label(re.compile("pH probe .* shows")).first.fill("7.9")
    page.get_by_label("Note of the visit").focus()
    expect(page.locator("[data-question]")).to_have_count(0)  # the question goes with the value it was about
    page.get_by_label("Note of the visit").fill("Clear to the ground")
    image = io.BytesIO()
    Image.new("RGB", (2400, 1200), "teal").save(image, "PNG")
    page.get_by_label("Photos").set_input_files({"name": "b.png", "mimeType": "image/png", "buffer": image.getvalue()})
    expect(page.locator("[data-photo-words]")).to_have_text("1 of 4 kept with this visit.")
    # The other site has a sheet of its own, and the browser is closed in between.
    page.locator("select[name=site]").select_option(label="1. Creek mouth, north bank")
    expect(page.locator("[data-sets] li")).to_have_count(0)
    expect(page.get_by_label("Note of the visit")).to_have_value("")
    page.close()
    page = context.new_page()
    page.goto(field.url)
    page.locator("select[name=site]").select_option(label="3. Basin, middle")
    expect(page.locator("[data-sets] li")).to_have_count(4)
    expect(page.get_by_label(re.compile("pH probe .* shows")).first).to_have_value("7.9")
    check_axe(page, at="the field page")
    page.get_by_role("button", name="Put the visit in the queue").click()
    expect(page.locator("[data-queue-words]")).to_have_text("1 visit waits to be sent.")
    expect(page.locator("[data-queue] li")).to_contain_text("0.3, 1, 1.5, 2, 3 m")
    expect(page.locator("select[name=site]")).to_have_value(brumel.things.sites["basin"])  # it goes nowhere by itself
    assert visits(brumel) == 0
    context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        (visit,) = session.scalars(select(Visit))
        ph = [r for r in rounds.of_visit(session, visit.id) if r.quantity == "ph"]
        assert sorted((r.depth_m, round(r.raw, 2)) for r in ph) == [
            (0.3, 8.1),
            (1.0, 8.05),
            (1.5, 8.02),
            (2.0, 8.0),
            (3.0, 7.9),
        ]
        (photo,) = rounds.visit_of(session, visit.id).photos
        assert (photo.width, photo.height) == (1600, 800)


def test_the_home_screen_opens_at_the_outing_that_runs(brumel, field):
    page = field
    url = page.locator("link[rel=manifest]").get_attribute("href")
    manifest = page.request.get(url).json()
    assert (manifest["display"], manifest["start_url"]) == ("standalone", "/rounds/running")
    for icon in manifest["icons"]:
        size = Image.open(io.BytesIO(page.request.get(icon["src"]).body())).size
        assert icon["sizes"] == f"{size[0]}x{size[1]}"
    here = page.url
    page.goto("/")
    page.goto(manifest["start_url"])
    assert page.url == here
    outings.end(brumel.desk, brumel.things.ansa, h.key(), outing_id=here.split("/")[-2])
    page.goto(manifest["start_url"])
    expect(page).to_have_url(re.compile("/rounds$"))


#: What may come back instead of Brumel's word, and what the phone then says; none of it may lose the visit.
ANSWERS = [
    ({"status": 200, "body": "<html>Sign in to the guest network</html>"}, "did not come from Brumel"),
    ({"status": 200, "body": json.dumps({"key": str(uuid.uuid4()), "readings": 2})}, "The visit is safe here"),
    ({"status": 302, "headers": {"Location": "/sign-in"}}, "did not come from Brumel"),
    ({"status": 401, "body": "{}"}, "The visit is safe here"),
    ({"status": 403, "body": json.dumps({"message": "Not yours."})}, "Not yours"),
    ({"status": 409, "body": json.dumps({"message": "Read by another."})}, "Read by another"),
    ({"status": 413, "body": "too large"}, "The visit is safe here"),
    ({"status": 422, "body": json.dumps({"message": "Why is it so?"})}, "Why is it so"),
    ({"status": 429, "body": json.dumps({"error": "Too many requests."})}, "Too many requests"),
    ({"status": 500, "body": ""}, None),
    ({"status": 503, "body": "<h1>maintenance</h1>"}, None),
]


def test_no_answer_but_brumel_s_own_strikes_a_visit_out(brumel, field):
    page, now = field, {"answer": None}

    def answering(route):
        if now["answer"] is None:
            route.abort()
        elif now["answer"] == "brumel":
            route.continue_()
        else:
            route.fulfill(**now["answer"])

    page.route("**/send", answering)
    type_set(page, "8.0", "7.5")
    page.get_by_role("button", name="Put the visit in the queue").click()
    left = page.locator("[data-queue-words]")
    again = page.locator("[data-queue]").get_by_role("button", name=re.compile("Try again|Keep both|Send with"))
    expect(left).to_contain_text("tried again")
    for now["answer"], words in ANSWERS:
        button = again.first if again.count() else page.get_by_role("button", name="Send now")
        with page.expect_response("**/send"):  # the words of two answers may be alike: each has to come
            button.click()
        # A visit that was answered waits for a press of its own; one that got no answer is sent again by itself.
        expect(again).to_have_count(1 if words else 0)
        if words:
            expect(page.locator("[data-queue]")).to_contain_text(words)
            expect(left).to_have_text("1 visit waits to be sent.")
        else:
            expect(left).to_contain_text("tried again")
    assert visits(brumel) == 0
    # Saved as a file, lost with the browser's storage, read back; a file of something else changes nothing.
    with page.expect_download() as saved:
        page.get_by_role("button", name="Save what waits as a file").click()
    file, back = saved.value.path(), page.get_by_label("Read a saved file back")
    now["answer"] = ANSWERS[6][0]
    page.get_by_role("button", name="Send now").click()
    expect(page.locator("[data-queue]")).to_contain_text("The visit is safe here")
    page.once("dialog", lambda dialog: dialog.accept())
    page.locator("[data-queue]").get_by_role("button", name="Drop mine").click()
    expect(left).to_have_text("Nothing waits.")
    back.set_input_files({"name": "x.json", "mimeType": "application/json", "buffer": b'{"items": []}'})
    expect(page.locator("[data-file-words]")).to_contain_text("is no file of saved visits")
    for words in ("1 came back into the queue.", "All of it is in the queue already."):
        back.set_input_files({"name": "visits.json", "mimeType": "application/json", "buffer": file.read_bytes()})
        expect(page.locator("[data-file-words]")).to_have_text(words)
    now["answer"] = "brumel"
    page.get_by_role("button", name="Send now").click()
    expect(left).to_have_text("Nothing waits.")
    assert visits(brumel) == 1


def test_the_browser_questions_the_same_values_as_core(brumel, field):
    """One table of cases, judged by Python and by the browser's rules: sites, quantities, histories and values."""
    rng, now = np.random.default_rng(5), datetime.now(UTC)
    cases, expected = [], []
    with brumel.desk.read() as session:
        sites = [rounds.site_of(session, brumel.things.sites[name]) for name in ("lagoon", "raceway", "pool")]
        for site in sites:
            for quantity in ("ph", "conductivity", "oxygen", "temperature", "redox", "nitrate"):
                usual = site.ranges.get(quantity, {}).get("usual", (1.0, 30.0))
                middle, half = (usual[0] + usual[1]) / 2, (usual[1] - usual[0]) / 2
                for count in (0, 4, 12):
                    told = [
                        Earlier(middle + half * rng.normal() / 4, now - timedelta(days=7 * (n + 1)), 0.0)
                        for n in range(count)
                    ]
                    past = {quantity: told}
                    plain = [vars(b) for b in bands(site, past, quantity, now)]
                    for value in (*usual, middle, middle + half * 1.01, middle - 3 * half, middle + half * 40, -5.0):
                        odd = {f.key for f in findings(site, past, quantity, value, now) if f.flag >= Flag.SUSPECT}
                        cases.append([value, plain])
                        expected.append(sorted(odd - {"slip"}))
    module = field.evaluate("document.querySelector('script[type=module][src*=\"js/field.js\"]').src")
    told = field.evaluate(
        """async ([url, cases]) => {
          const { questioned } = await import(new URL("field/judging.js", url).href);
          return cases.map(([value, bands]) => questioned(value, bands).map((band) => band.key).sort());
        }""",
        [module, cases],
    )
    assert len(cases) > 300
    assert sum(bool(one) for one in expected) > 60
    wrong = [
        (case[0], mine, theirs) for case, mine, theirs in zip(cases, expected, told, strict=True) if mine != theirs
    ]
    assert wrong == []


def test_the_phone_names_the_same_slip_as_core(field):
    """One table: what is expected of six quantities, and each value as it would be after every slip and after none."""
    should = {
        "temperature": Expected(8.0, 4.0, 12.0, 9),
        "conductivity": Expected(180.0, 120.0, 240.0, 9),
        "oxygen": Expected(10.6, 9.2, 12.0, 9),
        "nitrate": Expected(1.4, 0.9, 1.9, 9),
        "ph": Expected(7.1, 6.6, 7.6, 9),
        "redox": Expected(240.0, 180.0, 300.0, 9),
    }
    grid = together()["grid_c"]
    full = [float(saturation_mg_l(c, 0.0, 1013.25)) for c in grid]
    cases, expected = [], []
    for quantity, here in should.items():
        middle = here.middle
        for factor in (1.0, 1.02, 10.0, 0.1, 1000.0, 0.001, 0.5, 0.68, 4.43, 3.1, 100 / 11.3, -1.0):
            for c in (3.0, 12.0, 24.0, None):  # at 8 °C the natural factor is that of TDS
                for beside in (None, "ph", "oxygen"):
                    value = should[beside].middle if beside and factor == 3.1 else middle * factor
                    read = {quantity: value} | ({beside: middle} if beside and beside != quantity else {})
                    slip = slip_of(
                        quantity, Shown(quantity), value, Sight(should, read, temperature_c=c, tds_factor=0.65)
                    )
                    expected.append([slip.key, slip.partner] if slip else None)
                    around = [here.low, here.high, here.middle]
                    cases.append([quantity, around, read, [w._asdict() for w in ways(quantity, 0.65)], c])
    module = field.evaluate("document.querySelector('script[type=module][src*=\"js/field.js\"]').src")
    told = field.evaluate(
        """async ([url, cases, should, tables, oxygen]) => {
          const { slipOf, swappedWith } = await import(new URL("field/judging.js", url).href);
          return cases.map(([quantity, here, read, ways, c]) => {
            if (read[quantity] >= here[0] && read[quantity] <= here[1]) return null;
            const other = swappedWith(quantity, read, should);
            if (other) return ["swapped", other];
            const slip = slipOf(read[quantity], here, ways, { c, tables, oxygen });
            return slip ? [slip.way.key, ""] : null;
          });
        }""",
        [module, cases, {q: [e.low, e.high, e.middle] for q, e in should.items()}, together(), full],
    )
    assert told == expected
    assert {k[0] for k in expected if k} >= {"ten", "thousand", "uncompensated", "percent", "basis", "sign", "swapped"}


def test_a_sheet_that_repeats_the_last_one_is_asked_about_out_of_reach_too(field):
    module = field.evaluate("document.querySelector('script[type=module][src*=\"js/field.js\"]').src")
    typed, before = {"ph": 7.1, "oxygen": 9.4, "conductivity": 181}, {"ph": [7.1, 0], "oxygen": [9.4, 60]}
    told = field.evaluate(
        """async ([url, cases]) => {
          const { copiedFrom } = await import(new URL("field/judging.js", url).href);
          return cases.map(([typed, before]) => copiedFrom(typed, before, 3) ?? null);
        }""",
        [
            module,
            [
                [typed, before | {"conductivity": [181, 30]}],
                [typed, before | {"conductivity": [182, 30]}],
                [typed, before | {"conductivity": [181, 50_000]}],  # of another visit
                [{"ph": 7.1, "oxygen": 9.4}, before],  # two values may well be alike
                [typed, None],
            ],
        ],
    )
    assert told == [0, None, None, None, None]


def test_core_and_the_phone_hold_the_same_oxygen_displays_against_each_other(field):
    """Saturation at 8 °C and sea level: 11.84 mg/L in fresh water, 9.48 in sea water of 35 (USGS-TM, tables 6.2-6, 6.2-7)."""
    cases, expected = [], []
    grid = together()["grid_c"]
    for terms in ((0.0, 1013.25), (35.0, 1013.25), (0.0, 900.0)):
        for set_terms in ((0.0, 1013.25), (35.0, 1013.25)):
            tables = {
                key: [float(saturation_mg_l(c, *each)) for c in grid]
                for key, each in (("here", terms), ("p", set_terms))
            }
            for mg_l in (3.0, 9.4, 11.84, 18.0):
                for c in (0.0, 8.0, 21.3, 40.0):
                    as_set, as_here = (100 * mg_l / float(saturation_mg_l(c, *t)) for t in (set_terms, terms))
                    for percent in (as_set, as_set * 1.015, as_here, as_here * 0.9):
                        found = sense.oxygen_together(
                            mg_l, percent, c, sense.OxygenTerms(*set_terms), sense.OxygenTerms(*terms)
                        )
                        light = sense.oxygen_without_light(percent, light=None)
                        codes = {"oxygen:pair": found, "saturation:oxygen_light": light}
                        expected.append(sorted(k for k, f in codes.items() if f.flag >= Flag.SUSPECT))
                        row = {"probe": "p", "unit": "mg_l", "value": mg_l, "beside": percent}
                        turned = {"probe": "p", "unit": "percent", "value": percent, "beside": mg_l}
                        cases.append([row if len(cases) % 2 else turned, c, tables])
    module = field.evaluate("document.querySelector('script[type=module][src*=\"js/field.js\"]').src")
    told = field.evaluate(
        """async ([url, cases, together]) => {
          const { oxygenOddities } = await import(new URL("field/judging.js", url).href);
          return cases.map(([row, c, tables]) => oxygenOddities(row, c, tables, together).map((o) => o.code).sort());
        }""",
        [module, cases, {**together(), "grid_c": list(grid)}],
    )
    assert told == expected
    assert {code for each in expected for code in each} == {"oxygen:pair", "saturation:oxygen_light"}
    assert 0.2 < sum(bool(one) for one in expected) / len(expected) < 0.8


def test_a_way_of_typing_without_a_calibration_is_said_beside_its_unit(brumel, open_page):
    """A calibration made live, in mV, backs no displayed pH: said on the page that is taken along."""
    desk, things = brumel.desk, brumel.things
    run = h.start(desk, things, "B1", source="typed")
    for value in (-2.0, 168.0, -170.0):
        state = h.state_of(desk, run)
        where = {"run_id": run, "step": state.current.spec.key, "turn": state.turn}
        for after in (60.0, 120.0):
            typed = bench.TypedValue("mv", value, 20.4, after)
            bench.type_reading(desk, things.ansa, h.key(), **where, typed=typed)
        bench.accept(desk, things.ansa, h.key(), **where, how=bench.Acceptance(answer="Looked again"))
    h.finish(desk, things, run)
    outing = outings.start(brumel.desk, brumel.things.ansa, h.key(), round_id=str(h.a_round(brumel.desk).id)).id
    page = open_page(brumel.base, width=390, height=844)
    said = "a typed pH has no valid calibration. Type mV, or calibrate it by what it displays."
    given = dict(site_id=things.sites["lagoon"], probes=[things.probes["B1"]], source="typed", outing_id=outing)
    sheet = rounds.start_visit(desk, things.ansa, h.key(), **given).id
    for before_leaving in ("/", f"/rounds/outings/{outing}", f"/rounds/visits/{sheet}"):
        page.goto(before_leaving)
        expect(page.locator("main")).to_contain_text(said)
    page.goto(f"/rounds/outings/{outing}/field")
    unit = page.get_by_label("Unit pH probe B1 shows")
    unit.select_option("ph")
    line = page.locator("[data-backing]").filter(has_text="No valid calibration stands behind this")
    expect(line.first).to_contain_text("It was made in mV: type that.")
    unit.select_option("mv")
    expect(page.locator(f"[data-backing='{brumel.things.probes['B1']}']")).to_have_text("")


def test_what_only_brumel_can_ask_is_answered_in_the_queue(brumel, field):
    page = field
    page.get_by_label(re.compile("Unit pH probe .* shows")).first.select_option("mv")
    type_set(page, "150", "7.5")  # about pH 4.4; the phone cannot tell
    page.get_by_role("button", name="Put the visit in the queue").click()
    queue = page.locator("[data-queue]")
    expect(queue).to_contain_text("outside")
    send = queue.get_by_role("button", name="Send with these reasons")
    send.click()  # without one it is asked again
    expect(queue.get_by_label("It may be so, because")).to_have_value("")
    queue.get_by_label("It may be so, because").fill("Acid feed stuck open")
    check_axe(page, at="a question in the queue")
    send.click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        assert session.scalar(select(Reading.reason).where(Reading.quantity == "ph")) == "Acid feed stuck open"


def test_a_network_cut_at_any_step_of_sending_loses_and_doubles_nothing(brumel, field):
    page, cut = field, {"at": None}

    def sending(route):
        if cut["at"] == "on the way there":
            route.abort()
        elif cut["at"] == "on the way back":
            route.fetch()
            route.abort()
        else:
            route.continue_()

    page.route("**/send", sending)
    type_set(page, "8.0", "7.5")
    left = page.locator("[data-queue-words]")
    for step in ("off", "on the way there", "on the way back"):
        cut["at"] = step
        page.context.set_offline(step == "off")
        if step == "off":
            page.get_by_role("button", name="Put the visit in the queue").click()
            expect(left).to_have_text("1 visit waits to be sent.")
            continue
        with page.expect_event("requestfailed"):
            page.get_by_role("button", name="Send now").click()
        expect(left).to_contain_text("tried again")
        assert visits(brumel) == (1 if step == "on the way back" else 0)
    cut["at"] = None
    page.get_by_role("button", name="Send now").click()
    expect(left).to_have_text("Nothing waits.")
    assert visits(brumel) == 1
    with brumel.desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Reading).where(Reading.quantity == "ph")) == 1


def test_two_phones_at_one_site_and_a_phone_that_is_full(brumel, field, open_page):
    other = open_page(brumel.base, "ilka", width=390, height=844)
    other.goto(field.url)
    expect(other.locator("[data-net]")).to_contain_text("This page is kept")
    for page, ph in ((field, "8.0"), (other, "8.1")):
        page.context.set_offline(True)
        type_set(page, ph, "7.5")
        page.get_by_role("button", name="Put the visit in the queue").dblclick()  # a press given twice is one visit
        expect(page.locator("[data-queue-words]")).to_have_text("1 visit waits to be sent.")
    for page, words in ((field, "Nothing waits."), (other, "1 visit waits to be sent.")):
        page.context.set_offline(False)
        page.get_by_role("button", name="Send now").click()
        expect(page.locator("[data-queue-words]")).to_have_text(words)
    expect(other.locator("[data-queue]")).to_contain_text("was read by Ansa Merrik")
    assert other.evaluate("document.documentElement.scrollWidth") <= 390
    other.get_by_role("button", name="Keep both").click()
    expect(other.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    assert visits(brumel) == 2
    # Nothing more fits into the phone: it is said, and what is on the page stays.
    page = field
    full = "throw new DOMException('full', 'QuotaExceededError')"
    page.evaluate(f"() => {{ for (const way of ['put', 'add']) IDBObjectStore.prototype[way] = () => {{ {full}; }}; }}")
    type_set(page, "7.9", "7.4")
    page.get_by_role("button", name="Put the visit in the queue").click()
    expect(page.locator("[data-judged]")).to_contain_text("This phone is full")
    expect(page.get_by_label(re.compile("pH probe .* shows")).first).to_have_value("7.9")
    assert visits(brumel) == 2


#: Two visits of a site each, two depths at the first, as fast as a page can be pressed.
HASTE = """() => {
  const form = document.querySelector("[data-sheet]");
  const type = (name, value) => { form.elements[name].value = value; };
  const fields = [...form.elements].filter((e) => e.name.startsWith("value_"));
  const value = fields.find((e) => /pH probe/.test(e.labels[0].textContent));
  const set = (ph, depth) => { type("temperature_c", "7.5"); type("depth_m", depth); type(value.name, ph); };
  const queue = [...form.querySelectorAll("button")].find((b) => /queue/.test(b.textContent));
  set("8.01", "0.5");
  document.querySelector("[data-more]").click();
  set("8.02", "1");
  queue.click();
  form.elements.site.selectedIndex += 1;
  form.elements.site.dispatchEvent(new Event("change", { bubbles: true }));
  set("7.93", "");
  queue.click();
  queue.click();
}"""


def test_who_types_faster_than_the_phone_writes_loses_nothing(brumel, field):
    page = field
    page.context.set_offline(True)
    page.evaluate(HASTE)
    expect(page.locator("[data-queue-words]")).to_have_text("2 visits wait to be sent.")
    page.context.set_offline(False)
    page.get_by_role("button", name="Send now").click()
    expect(page.locator("[data-queue-words]")).to_have_text("Nothing waits.")
    with brumel.desk.read() as session:
        taken = session.scalars(select(Visit).order_by(Visit.at)).all()
        values = [
            [(r.depth_m, round(r.raw, 2)) for r in rounds.of_visit(session, visit.id) if r.quantity == "ph"]
            for visit in taken
        ]
        assert [visit.site.name for visit in taken] == ["Creek mouth, north bank", "Reed channel"]
    assert [sorted(each, key=str) for each in values] == [[(0.5, 8.01), (1.0, 8.02)], [(None, 7.93)]]
