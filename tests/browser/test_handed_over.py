"""What a lead does with the records in the browser: look through, sign, ask back, hand over; counted in presses."""

import re

from playwright.sync_api import expect
from sqlalchemy import func, select

from brumel.store.records import Signature, Unsigned
from brumel.store.tables import Client, Reading, Visit
from brumel.work.demo.load import PASSWORD
from tests.browser.conftest import check_axe


def test_a_visit_of_eight_quantities_and_three_depths_is_signed_in_five_presses(told, open_page):
    with told.desk.read() as session:
        waits = select(Reading.visit_id).join(Unsigned, Unsigned.reading_id == Reading.id)
        deep = waits.group_by(Reading.visit_id).having(func.count(Reading.depth_m.distinct()) == 3)
        visit = session.get(Visit, session.scalar(deep.having(func.count(Reading.quantity.distinct()) == 8)))
        unsigned = session.scalar(
            select(func.count()).select_from(Unsigned).join(Reading).where(Reading.visit_id == visit.id)
        )
    assert unsigned == 24
    page = open_page(told.base, "ilka", at="/")
    page.get_by_role("link", name=re.compile("reading.* to sign")).click()  # 1
    page.locator(f"a[href='/records/visits/{visit.id}']").click()  # 2
    expect(page.get_by_label(re.compile("Your password"))).to_be_focused()
    page.keyboard.type("not mine at all")
    page.keyboard.press("Enter")  # 3, a slip: what was set apart and the visit stay
    expect(page.get_by_role("alert")).to_contain_text("Password is not yours")
    page.get_by_label(re.compile("Your password")).fill(PASSWORD)
    page.keyboard.press("Enter")  # 4
    expect(page.get_by_role("heading", level=1)).to_contain_text("24 readings")
    check_axe(page, at="what was signed")
    page.keyboard.press("Enter")  # 5: back to what waits
    expect(page).to_have_url(re.compile("/records/review"))
    with told.desk.read() as session:
        of_visit = select(func.count()).select_from(Signature).join(Reading).where(Reading.visit_id == visit.id)
        assert session.scalar(of_visit) == 24


def test_a_round_is_signed_but_for_what_is_set_apart_and_a_visit_goes_back(told, open_page):
    page = open_page(told.base, "ilka")
    page.goto("/records/review")
    page.locator("a[href*='/records/rounds/']").first.click()
    gone = page.url
    apart = page.get_by_label(re.compile("^set apart: ")).first
    apart.check()
    left_out = apart.get_attribute("value")
    page.get_by_label(re.compile("Your password")).fill(PASSWORD)
    page.get_by_role("button", name=re.compile("Sign this round")).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Signing")
    page.goto(gone)
    assert [box.get_attribute("value") for box in page.get_by_label(re.compile("^set apart: ")).all()] == [left_out]
    page.locator("h2 a[href*='/records/visits/']").first.click()
    visit = page.url
    page.get_by_text("Send it back with a question").click()
    page.get_by_label(re.compile("^To ")).fill("Which tip was on the nitrate electrode?")
    page.get_by_role("button", name="Send back").click()
    expect(page.get_by_text("Waits for")).to_have_count(0)  # the lead may answer it too
    hand = open_page(told.base, "ansa", width=390, height=844, at="/")
    hand.get_by_role("listitem").filter(has_text="Which tip").get_by_role("link").click()
    expect(hand).to_have_url(visit)
    hand.get_by_label("Answer").fill("The new one, since Tuesday")
    hand.get_by_role("button", name="Answer").click()
    expect(hand.get_by_text("The new one, since Tuesday")).to_be_visible()
    check_axe(hand, at="a visit on a phone")
    hand.goto("/")
    expect(hand.get_by_text("Which tip")).to_have_count(0)
    page.goto("/records/review")
    expect(page.get_by_text("answered: The new one, since Tuesday")).to_be_visible()


def test_25_rows_fit_a_desk_and_a_phone_loses_no_column(told, open_page):
    page = open_page(told.base, "ilka")
    page.goto("/records")
    page.get_by_role("link", name="compact").click()
    shown = "rows => rows.filter(r => r.getBoundingClientRect().bottom <= innerHeight).length"
    expect(page.locator("tbody tr")).to_have_count(25)
    assert page.locator("tbody tr").evaluate_all(shown) == 25
    page.get_by_role("link", name="next page").click()  # what was chosen goes along
    expect(page.locator("tbody tr")).to_have_count(25)  # waits: a page half read has fewer
    first = page.locator("tbody tr").first
    wide = [cell.strip() for cell in first.locator("td:not(:empty)").all_inner_texts()]
    phone = open_page(told.base, "ilka", width=320, height=700)
    phone.goto(page.url)
    row = phone.locator("tbody tr").first
    assert all(row.locator("td:not(:empty)").nth(n).is_visible() for n in range(len(wide)))
    assert len(row.locator("td:not(:empty)").all()) == len(wide)
    assert phone.evaluate("document.documentElement.scrollWidth") == 320
    # A profile is folded, and opens where it stands.
    page.goto("/records?words=basin")
    profile = page.locator("details.depths").first
    expect(profile.locator(".depth").first).not_to_be_visible()
    profile.locator("summary").click()
    expect(profile.locator(".depth")).to_have_count(3)


def test_a_report_is_looked_at_issued_and_released_to_a_client_who_signs_in(told, open_page):
    page = open_page(told.base, "ilka")
    page.goto("/records/documents")
    page.get_by_label("Report for").select_option(label="Oldgate Lido")
    with told.desk.read() as session:
        last = session.scalar(select(func.max(Visit.at)))
        client = session.scalar(select(Client.id).where(Client.name == "Oldgate Lido"))
    page.get_by_label("from").fill(f"{last:%Y-%m-01}")
    page.get_by_label("up to and with").fill(f"{last:%Y-%m-%d}")
    page.get_by_role("button", name="Look at it").click()
    expect(page.get_by_role("heading", name="In short")).to_be_visible()
    page.get_by_role("button", name="Issue as PDF").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("TWS-")
    page.get_by_role("button", name="Release it").click()
    link = re.search(r"https?://\S+", page.get_by_role("status").inner_text()).group()
    stranger = open_page(told.base, None, width=390, height=844)
    stranger.goto(link)
    check_axe(stranger, at="a shared document")
    pdf = stranger.request.get(stranger.get_by_role("link", name="Open the PDF").get_attribute("href"))
    assert pdf.body()[:5] == b"%PDF-"
    page.goto(f"/records/documents/clients/{client}")
    page.get_by_label("Name", exact=True).fill("Duty desk")
    page.get_by_label("User name").fill("duty.desk")
    page.get_by_role("button", name="Invite").click()
    invitation = re.search(r"https?://\S+", page.get_by_role("status").inner_text()).group()
    stranger.goto(invitation)
    stranger.get_by_label("Password").fill("swims every day")
    stranger.get_by_label("The same once more").fill("swims every day")
    stranger.get_by_role("button", name="Choose it").click()
    stranger.get_by_label("User name").fill("duty.desk")
    stranger.get_by_label("Password").fill("swims every day")
    stranger.keyboard.press("Enter")
    expect(stranger.get_by_role("heading", level=1)).to_have_text("Your waters")
    check_axe(stranger, at="a client's page")
    expect(stranger.get_by_role("link", name=re.compile("TWS-"))).to_be_visible()
    stranger.goto("/records")
    expect(stranger.locator("main")).to_contain_text("does not cover this")
