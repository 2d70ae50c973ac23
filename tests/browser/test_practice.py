"""Practice as it is played: a live scenario by keyboard, a typed one by thumb on a phone, and what axe makes of its pages."""

import re

from playwright.sync_api import expect

from tests.browser.conftest import axe_findings, overprints, small_targets


class AtTable:
    """Hands at the table of a practice world; `press` does what this player's hand does with a button."""

    def __init__(self, page, press):
        self.page, self.press = page, press
        self.findings = []

    def begin(self, title, pace="20", source="live"):
        self.page.goto("/practice")
        self.page.get_by_label("The meter").select_option(source)
        self.page.get_by_label("Time runs").select_option(pace)
        self.press(self.page.get_by_role("button", name=re.compile(f"^Begin.*{re.escape(title)}")))
        expect(self.page.get_by_role("heading", name=title)).to_be_visible()
        if self.page.viewport_size["width"] < 760:  # the script folds the table away on a phone
            expect(self.page.locator(".practice-table:not([open])")).to_be_visible()

    def hand(self, name, said):
        fold = self.page.locator(".practice-table")
        if fold.get_attribute("open") is None:
            fold.locator("> summary").click()
        self.press(self.page.locator("[data-drawn]").get_by_role("button", name=name, exact=True))
        expect(self.page.locator(".table-said")).to_contain_text(said)

    def into_cup(self, bottle, letter):
        self.hand("holder", "in its holder")
        self.hand("Rinse with pure water", "rinsed")
        self.hand("Blot", "blotted")
        self.hand(f"Pour a cup of {bottle}", f"Cup {letter}")
        self.hand(f"cup {letter}", f"stands in cup {letter}")

    def fold_away(self):
        fold = self.page.locator(".practice-table")
        if fold.get_attribute("open") is not None:
            fold.locator("> summary").click()

    def look(self, at, least=24):
        """What axe finds, what a finger misses, what lies on one another, and what runs over the edge."""
        self.findings += axe_findings(self.page, at) + overprints(self.page, at) + small_targets(self.page, at, least)
        wide = self.page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        self.findings += [f"{at} runs over by {wide} px"] if wide > 0 else []

    def find(self, cause, next_step):
        self.press(self.page.get_by_role("link", name="Say what you found").first)
        self.page.get_by_label(cause).check()
        self.page.get_by_label("certain").check()
        self.page.get_by_label("What comes next").select_option(label=next_step)
        self.look("finding")
        self.press(self.page.get_by_role("button", name="Give this finding"))


def test_a_first_calibration_by_keyboard_and_its_debrief(brumel, open_page):
    page = open_page(brumel.base)

    def press(target):
        target.focus()
        page.keyboard.press("Enter")

    at = AtTable(page, press)
    at.begin("A first calibration, 7 then 4")
    at.look("table")
    page.keyboard.press("Enter")  # the task's own main action: to Bench
    expect(page.get_by_role("heading", name="Bench")).to_be_visible()
    page.get_by_label(re.compile("settings are as on record")).press("Space")
    page.get_by_role("button", name=re.compile("^Start")).press("Enter")
    for bottle, letter in (("Buffer 7.01 P7-201", "A"), ("Buffer 4.01 P4-118", "B")):
        expect(page.get_by_role("heading", name=re.compile(bottle[-6:]))).to_be_visible()
        at.into_cup(bottle, letter)
        page.get_by_role("button", name="The probe is in the cup").focus()
        page.keyboard.press("Enter")
        expect(page.locator(".state-settled")).to_be_visible()
        if letter == "A":
            at.look("run")
        page.get_by_role("button", name="Accept this point").press("Enter")
    press(page.get_by_role("button", name=re.compile("Use this calibration")))
    expect(page.locator("main")).to_contain_text("Calibration 1002")
    page.keyboard.press("f")
    expect(page.get_by_role("heading", name="What did you find?")).to_be_visible()
    page.go_back()
    at.find(re.compile("Nothing is wrong"), "Use this calibration and go to the water")
    expect(page.get_by_role("heading", name="Passed", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("Next of the tour"))).to_be_visible()
    at.look("debrief")
    page.goto("/practice/skills")
    at.look("skills")
    press(page.get_by_role("link", name="Ansa Merrik", exact=True))
    expect(page.get_by_role("row", name=re.compile("Calibrate pH"))).to_contain_text("first steps")
    at.look("person")
    assert not at.findings, "\n".join(at.findings[:12])


def test_a_dry_bulb_typed_by_thumb_on_a_phone(brumel, open_page):
    page = open_page(brumel.base, width=390, height=844, has_touch=True)
    at = AtTable(page, lambda target: target.tap())
    at.begin("A probe that stood dry over the weekend", source="typed")
    at.hand("Inspect the probe", "dull and dry")
    at.look("table", least=44)
    at.fold_away()
    page.get_by_role("link", name="Go to Bench").tap()
    page.get_by_label(re.compile("settings are as on record")).check()
    page.get_by_role("button", name=re.compile("^Start")).tap()
    for bottle, letter in (("Buffer 7.01 P7-201", "A"), ("Buffer 4.01 P4-118", "B")):
        at.into_cup(bottle, letter)
        at.fold_away()
        page.get_by_role("button", name="The probe is in the cup").tap()
        expect(page.locator(".clock")).to_be_visible()
        for turn in range(9):
            page.wait_for_timeout(2600)  # at 20 times the pace nearly a minute
            shown = page.locator(".summary-display [data-line]").all_inner_texts()
            page.get_by_label(re.compile("^Display shows")).fill(shown[1].replace("−", "-"))
            page.get_by_label(re.compile("^Temperature")).first.fill(shown[-1])
            page.get_by_role("button", name="Add this reading").tap()
            expect(page.get_by_role("table", name="Typed so far").locator("tbody tr")).to_have_count(turn + 1)
            if page.locator('[data-typed="settled"]').count():
                break
        if letter == "A":
            at.look("run", least=44)
        settled = page.locator('[data-typed="settled"]').count()
        reason = page.locator("[data-answer] textarea")
        if reason.is_visible():
            reason.fill("So it reads; a dry bulb, I think.")
        page.get_by_role("button", name="Accept this point" if settled else re.compile("Accept early")).tap()
    expect(page.locator("main")).to_contain_text(re.compile("do not use|use with care"))
    page.get_by_label(re.compile("^It (is put away|may be used with care), because")).fill("Dull and dry.")
    page.get_by_role("button", name=re.compile("do not use", re.I)).first.tap()
    expect(page.locator("main")).to_contain_text("Calibration 1002")
    at.find("The bulb has dried out", "Soak overnight, then calibrate again")
    expect(page.locator("h1")).to_contain_text(re.compile("[Pp]assed"))
    expect(page.get_by_role("row", name=re.compile("The truth was found"))).to_contain_text("yes")
    at.look("debrief", least=24)
    assert not at.findings, "\n".join(at.findings[:12])
