"""A logger serviced by thumb without a signal, and its record looked at by keyboard down to single values."""

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from playwright.sync_api import expect
from sqlalchemy import func, select

from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Deployment, Service
from brumel.work.desk import Desk
from brumel.work.rounds import deployments as dep
from brumel.work.simulator.loggers import Sensor, shown, water
from tests.browser.conftest import check_axe, small_targets
from tests.work import helpers as h

FOULS = Sensor(fouling_per_day=-0.05, noise=0.02, step=0.01)


@pytest.fixture
def out(brumel):
    """An oxygen logger in the reed channel for ten days, which sends what it records."""
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    begin = now - timedelta(days=10)
    then, things = Desk(brumel.desk.sessions, lambda: begin), brumel.things
    new = dep.NewDeployment(
        things.sites["reed"], things.meters["Bench set B"], "Reed channel", 1800.0, begin, begin + timedelta(days=40),
        [dep.PlannedChannel("oxygen", things.probes["B2"]), dep.PlannedChannel("temperature")],
    )  # fmt: skip
    id_ = dep.save(then, things.ansa, h.key(), new=new).id
    looked_at = [s.key for s in load_deployments().settings]
    dep.configure(then, things.ansa, h.key(), deployment_id=id_, looked_at=looked_at, at=begin, ahead_s=0.0)
    dep.start(then, things.ansa, h.key(), deployment_id=id_, at=begin)
    t = np.arange(begin.timestamp() + 1800, now.timestamp(), 1800.0)
    oxygen = shown(water("oxygen", t, 5), t, FOULS, [begin.timestamp()], [begin.timestamp()], 5)
    records = [
        dep.SentRecord(
            datetime.fromtimestamp(float(at), UTC), {"oxygen": round(float(o), 2), "temperature": 12.0 + (i % 48) / 20}
        )
        for i, (at, o) in enumerate(zip(t, oxygen, strict=True))
    ]
    dep.receive(brumel.desk, things.ansa, h.key(), deployment_id=id_, records=records)
    return id_


def services(brumel):
    with brumel.desk.read() as session:
        return session.scalar(select(func.count()).select_from(Service))


DRAFT = """(place) => new Promise((done) => {
  const asked = indexedDB.open("brumel-field");
  asked.onsuccess = () => {
    const found = asked.result.transaction("drafts").objectStore("drafts").get(place);
    found.onsuccess = () => { asked.result.close(); done(found.result?.fields ?? {}); };
  };
})"""


def wait_for_draft(page, id_, field, value):
    """Until the browser has written down what was typed last."""
    for _ in range(100):
        if page.evaluate(DRAFT, f"service/{id_}").get(field) == value:
            return
        page.wait_for_timeout(50)
    raise AssertionError("it was not written down")


def test_a_service_visit_typed_by_thumb_without_a_signal_is_led_kept_and_sent_once(brumel, out, open_page):
    page = open_page(brumel.base, width=390, height=844, timezone_id="America/Lima")
    page.goto(f"/rounds/deployments/{out}/service")
    expect(page.locator("[data-net]")).to_contain_text("opens without a signal")
    check_axe(page, at="service")
    assert small_targets(page, "service", 44) == []
    context = page.context
    context.set_offline(True)
    page.goto(f"/rounds/deployments/{out}/service")  # from what the browser kept
    on = page.get_by_role("button", name="Next step")
    page.get_by_label("What you found").fill("Brown film")
    page.locator("button[data-now=at]").click()  # by the site's clock, wherever the phone thinks it is
    on.click()
    page.locator("[name=oxygen_before]").fill("8,4")
    page.locator("[name=oxygen_before]").press("Enter")  # leads on, does not send
    page.locator("[name=oxygen_after]").fill("8.9")
    wait_for_draft(page, out, "oxygen_after", "8.9")
    page.reload()  # the phone was put away: what was typed is there
    expect(page.locator("[name=oxygen_before]")).to_have_value("8,4")
    expect(page.locator("[name=oxygen_after]")).to_have_value("8.9")
    for _ in range(5):
        on.click()
    expect(on).to_be_hidden()
    page.get_by_label("What you did").fill("Cleaned")
    keep = page.get_by_role("button", name="Record the visit")
    keep.click()
    expect(page.locator("[data-queue]")).to_contain_text("Waits for a signal")
    assert services(brumel) == 0
    context.set_offline(False)
    # It has no moment at which it was back in the water: that is said, and put right with all that was typed.
    refused = page.locator("[data-refused]")
    expect(refused).to_contain_text("When was it back in the water?")
    page.get_by_role("button", name="Put the visit right").click()
    page.locator("button[data-now=back_at]").click()
    keep.click()
    page.wait_for_url(re.compile("/rounds/deployments/service/"))
    expect(page.locator("main")).to_contain_text("Off by 0.50 mg/L in all")
    expect(page.locator("main")).to_contain_text("Brown film")
    assert services(brumel) == 1
    with brumel.desk.read() as session:
        at = session.scalar(select(Service.at))
    assert abs((datetime.now(UTC) - at).total_seconds()) < 300


def test_the_record_is_looked_at_by_keyboard_down_to_single_values(brumel, out, open_page):
    page = open_page(brumel.base)
    page.goto(f"/rounds/deployments/{out}/look")
    expect(page.locator(".chart canvas")).to_have_count(2)
    shown_ = page.locator("[data-shown]")
    whole = shown_.inner_text()
    check_axe(page, at="look")
    values = page.locator("[data-values]")
    expect(values).to_be_hidden()
    for _ in range(4):
        before = shown_.inner_text()
        page.keyboard.press("i")
        expect(shown_).not_to_have_text(before)
    expect(values).to_be_visible()
    values.locator("summary").click()
    expect(values.locator("tbody tr").first).to_contain_text(re.compile("Temperature|Dissolved oxygen"))
    before = shown_.inner_text()
    page.keyboard.press("j")
    expect(shown_).not_to_have_text(before)
    page.keyboard.press("a")
    expect(shown_).to_have_text(whole)
    chart = page.locator(".chart .u-over").first.bounding_box()
    page.mouse.move(chart["x"] + 100, chart["y"] + 40)
    page.mouse.down()
    page.mouse.move(chart["x"] + 200, chart["y"] + 40, steps=4)
    page.mouse.up()
    expect(shown_).not_to_have_text(whole)
    for width in (320, 390):
        page.set_viewport_size({"width": width, "height": 800})
        assert page.evaluate("document.documentElement.scrollWidth") <= width


def test_its_pages_fit_and_are_sound_on_a_phone_and_a_desk(brumel, out, open_page):
    page = open_page(brumel.base, "ilka", width=390, height=844)
    for path in ("", "/{id}", "/{id}/correct/oxygen", "/plan", "/{id}/service", "/{id}/look"):
        at = "/rounds/deployments" + path.format(id=out)
        page.set_viewport_size({"width": 390, "height": 844})
        page.goto(at)
        check_axe(page, at=at)
        assert small_targets(page, at, 24) == []
        for width in (320, 390, 1280):
            page.set_viewport_size({"width": width, "height": 800})
            assert page.evaluate("document.documentElement.scrollWidth") <= width, (at, width)
    with brumel.desk.read() as session:
        assert session.scalar(select(Deployment.state)) == "confirmed"
