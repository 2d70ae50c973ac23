"""An empty practice, by its pages alone: from the address the start command prints to the first round that came back."""

import re

import pytest
from playwright.sync_api import expect
from sqlalchemy import select

from brumel.config import first_code
from brumel.store.rounds import Outing
from brumel.store.tables import Reading
from tests.browser.conftest import check_axe

PASSWORD = "a-long-enough-word"


def test_a_practice_begins_with_nobody_and_closes_its_first_round(empty, open_page):
    page = open_page(empty.base, None)
    page.goto(f"/begin/{first_code('b' * 40)}")
    check_axe(page, at="begin")
    page.get_by_label("Your name").fill("Signe Dahl")
    page.get_by_label("User name").fill("signe")
    page.get_by_label("Password at least").fill(PASSWORD)
    page.get_by_label("The same once more").fill(PASSWORD)
    page.keyboard.press("Enter")
    steps = page.locator(".first-steps")
    expect(steps.get_by_role("link")).to_have_count(6)
    check_axe(page, at="first steps")

    def save():
        with page.expect_navigation():
            page.locator("main button.act").first.click()
        expect(page.get_by_role("alert")).to_have_count(0)

    def go(name):
        page.goto("/")
        steps.get_by_role("link", name=name, exact=True).click()

    go("Your practice")
    page.get_by_label("Name of the practice").fill("Dahl Water")
    save()
    go("A meter")
    page.get_by_label("Name").fill("Blue set")
    page.get_by_label("Serial").fill("BS-1")
    save()
    go("Its probes")
    page.get_by_label("Name").fill("pH one")
    page.get_by_label("Serial").fill("P-1")
    save()
    go("Solutions")
    page.get_by_label("Lot code").fill("N7-1")
    page.get_by_label("Name", exact=True).fill("Buffer 7")
    page.get_by_label("Expires").fill("2031-01-31")
    save()
    go("Sites")
    page.get_by_label("Client", exact=True).fill("Holm Hatchery")
    page.get_by_label("Name", exact=True).fill("Outlet")
    page.get_by_label(re.compile("^Altitude")).fill("41")
    page.get_by_label("Time zone", exact=True).fill("Europe/Oslo")
    page.get_by_label(re.compile("What it usually reads")).fill("ph: 6.5 to 8.5 (4 to 10)")
    save()
    go("A round")
    page.get_by_label("Name", exact=True).fill("The one round")
    page.get_by_label("Place of Outlet in the round").fill("1")
    save()
    page.goto("/")
    expect(steps).to_have_count(0)  # all is there; the day's own page takes over

    with page.expect_navigation():
        page.get_by_role("link", name=re.compile("Go on the round")).click()
    save()
    with page.expect_navigation():
        page.get_by_text("Take readings").first.click()
    expect(page.get_by_label("typed from the displays")).to_be_checked()  # its one meter has no link
    save()
    page.locator("input[name^=value_]").fill("7.42")
    page.get_by_label(re.compile("^Water temperature")).fill("11.5")
    page.get_by_role("button", name=re.compile("Record, it stood still")).click()
    with empty.desk.read() as session:
        outing_id = session.scalar(select(Outing.id))
    page.wait_for_url(re.compile(r"/rounds/visits/"))
    expect(page.get_by_text("no valid calibration").first).to_be_visible()
    page.goto(f"/rounds/outings/{outing_id}")
    page.get_by_role("button", name=re.compile("Back from the round")).click()
    expect(page.get_by_role("heading", name=re.compile("close the day"))).to_be_visible()
    with empty.desk.read() as session:
        assert session.get(Outing, outing_id).ended_at is not None
        values = {r.quantity: r.value for r in session.scalars(select(Reading))}
    assert values == {"ph": 7.42, "temperature": 11.5}


WIDE = """station;date time;depth_m;pH;Conductivity [mS/cm]
"Raceway 3, inflow";2018-01-01 08:00;0.5;7.24;0.213
"Raceway 3, inflow";2018-01-02 08:00;0.5;17.31;0.214
Nowhere;2018-01-03 08:00;0.5;7.31;0.215
"""


@pytest.mark.parametrize("width", [1280, 320])
def test_readings_of_before_are_brought_in_and_taken_back(brumel, open_page, width):
    page = open_page(brumel.base, "ilka", width=width)
    page.goto("/records/import")
    page.get_by_label("The file holds").select_option("readings")
    page.get_by_label("File", exact=True).set_input_files(
        {"name": "b.csv", "mimeType": "text/csv", "buffer": WIDE.encode()}
    )
    page.get_by_role("button", name="Look at it").click()
    expect(page.get_by_text("2 rows cannot be read")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    check_axe(page, at="an import")
    page.get_by_role("button", name="Write them").click()
    expect(page.get_by_role("alert")).to_contain_text("line 3: pH 17.31 lies outside")
    page.get_by_label("Leave the 2 rows out that cannot be read").check()
    page.get_by_role("button", name="Write them").click()
    expect(page.get_by_role("status").first).to_contain_text("2 were written, from 1 of 3 rows")
    page.goto("/records?until=2018-12-31")
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 visit")
    page.locator("tbody a").first.click()
    expect(page.get_by_text("brought in from b.csv, line 2; no calibration on record").first).to_be_visible()
    check_axe(page, at="a visit that was brought in")
    page.goto("/records/import")
    page.get_by_role("link", name=re.compile("b.csv")).click()
    page.get_by_text("Take all of it back").click()
    page.get_by_label(re.compile("^Why")).fill("the wrong year")
    page.get_by_role("button", name="Take it back").click()
    expect(page.get_by_text("Nothing of it counts any more").first).to_be_visible()
    page.goto("/records?until=2018-12-31")
    expect(page.get_by_role("heading", level=1)).to_contain_text(re.compile("^(No|0) visit"))
