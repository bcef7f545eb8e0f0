"""What every page stands on: nothing typed is lost, keys leave controls what is theirs."""

import re

from playwright.sync_api import expect

from tests.browser.case import BrowserCase

HIDE = """hidden => {
  Object.defineProperty(document, "hidden", {get: () => hidden, configurable: true});
  document.dispatchEvent(new Event("visibilitychange"));
}"""
PLAYS = "document.querySelector('[data-plays=program], plan-media')?.paused === false"


class Ground(BrowserCase):
    DEMO_TAKES = "2"

    def open_take(self):
        page = self.page
        page.goto(self.base)
        expect(page.locator(".card-sheet img")).not_to_have_count(0)
        page.goto(f"{self.base}/takes/1/")
        self.until("document.body.dataset.ready === 'take'")
        return page

    def test_1_what_could_not_be_saved_stays_and_is_sent_again(self):
        page = self.open_take()
        name, said = page.get_by_label("Name of the take"), page.locator("[data-saved]").first
        page.route("**/library/takes/1/name/", lambda route: route.abort())
        name.fill("A better name")
        page.keyboard.press("Tab")
        expect(said).to_contain_text("is not saved yet")
        # What another page changes meanwhile takes nothing of it away.
        other = self.browser.new_page()
        self.addCleanup(other.close)
        other.goto(f"{self.base}/takes/1/")
        other.get_by_role("button", name=re.compile("^Mark")).first.click()
        expect(page.locator("[data-part=take-marks] li")).not_to_have_count(0)
        expect(name).to_have_value("A better name")
        page.unroute("**/library/takes/1/name/")
        expect(said).to_have_text("Saved")
        page.reload()
        expect(name).to_have_value("A better name")

    def test_2_what_is_being_typed_is_there_after_leaving_reloading_and_closing(self):
        page = self.open_take()
        name = page.get_by_label("Name of the take")
        for leave in (
            lambda: page.goto(f"{self.base}/rigs/demo/"),
            page.reload,
        ):
            name.fill("Typed and left")
            leave()
            self.open_take()
            expect(name).to_have_value("Typed and left")
            name.fill("Take one")
            page.keyboard.press("Tab")
            expect(page.locator("[data-saved]").first).to_have_text("Saved")
        # A form with a button is not sent by leaving: its text is there again.
        page.goto(f"{self.base}/tutorials/1/")
        title = page.locator("form:has(input[value=new]) input[name=title]")
        title.fill("Press it under a board")
        self.until("Object.keys(localStorage).some((key) => key.startsWith('typed /tutorials'))")
        page.reload()
        expect(title).to_have_value("Press it under a board")
        page.keyboard.press("Tab")
        title.press("Enter")
        expect(page.locator("[data-saved]").first).to_have_text("Saved")
        page.reload()
        expect(title).to_have_value("")

    def test_3_space_and_enter_do_what_a_control_does(self):
        page, keys = self.open_take(), self.page.keyboard
        fold = page.locator("summary", has_text="Files of this take")
        fold.focus()
        for opened in (True, False):
            keys.press("Space")
            self.assertEqual(fold.evaluate("one => one.parentElement.open"), opened)
        self.assertFalse(page.evaluate(PLAYS))
        # Who points at a button and then presses Space wants to hear it.
        page.get_by_role("button", name=re.compile("^Mark")).first.click()
        keys.press("Space")
        self.until(PLAYS)
        keys.press("Space")
        self.until(f"!({PLAYS})")
        # Keys of what is folded away do nothing, and letters in a number are none.
        marks = page.locator("[data-part=take-marks] li").count()
        page.locator("input[type=number]:visible").first.focus()
        keys.press("m")
        keys.press("o")
        expect(page.locator("[data-part=take-marks] li")).to_have_count(marks)
        keys.press("Tab")
        keys.press("?")
        page.get_by_role("checkbox", name="Keys do this on all pages").uncheck()
        page.get_by_role("button", name="Close").click()
        keys.press("m")
        page.reload()
        self.until("document.body.dataset.ready === 'take'")
        keys.press("m")
        expect(page.locator("[data-part=take-marks] li")).to_have_count(marks)
        page.get_by_role("button", name="Keys ?").click()
        page.get_by_role("checkbox", name="Keys do this on all pages").check()
        keys.press("Escape")

    def test_4_record_follows_other_pages_and_what_its_address_asks_for(self):
        page = self.page
        record = f"{self.base}/rigs/demo/record/"
        page.goto(record)
        scene = page.get_by_label("Begins with")
        page.evaluate(
            """place => localStorage.setItem(place, JSON.stringify({scene: "scene-3"}))""",
            f"record {record}start/",
        )
        page.goto(f"{record}?scene=scene-2&step=")
        expect(scene).to_have_value("scene-2")
        rows = page.locator(".summary-table tbody tr")
        expect(rows).to_have_count(4)
        scene.select_option("scene-1")
        other = self.browser.new_page()
        self.addCleanup(other.close)
        other.goto(f"{self.base}/rigs/demo/")
        other.get_by_role("button", name="System audio: recorded on its own track").click()
        expect(rows).to_have_count(3)
        expect(scene).to_have_value("scene-1")
        other.locator("#undo").click()
        expect(rows).to_have_count(4)

    def test_5_a_hidden_page_says_in_its_title_how_the_take_goes_on(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/")
        page.get_by_label("Countdown").fill("0")
        page.get_by_role("button", name="Record take").click()
        self.until("document.title.startsWith('●')")
        page.evaluate(HIDE, True)
        before = page.title()
        self.until(f"document.title.startsWith('●') && document.title !== {before!r}")
        page.evaluate(HIDE, False)
        page.get_by_role("button", name="Stop").click()
        page.wait_for_url("**/takes/*/")

    def test_6_the_focus_stays_where_something_was(self):
        page = self.page
        page.goto(self.base)
        for name in ("One", "Two"):
            page.get_by_label("Name of a new folder").fill(name)
            page.get_by_role("button", name="Add a folder").click()
            page.wait_for_url("**/?in=*")
            page.goto(self.base)
        page.get_by_role("button", name="Take the folder One away").click()
        expect(page.get_by_role("button", name="Take the folder One away")).to_have_count(0)
        self.until("document.activeElement !== document.body")
        undo = page.get_by_role("button", name="Undo")
        undo.focus()
        page.keyboard.press("Space")
        expect(page.get_by_role("button", name="Take the folder One away")).to_have_count(1)
        self.until("document.activeElement !== document.body")
        self.assertEqual(self.problems, [])
