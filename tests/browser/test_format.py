"""The Format step as its users do it: set by keys alone, tried, proposed, recorded with."""

import json
import re

from playwright.sync_api import expect

from tests.browser.case import BrowserCase


class FormatSteps(BrowserCase):
    def tab_to(self, selector):
        """Go there by the tab key alone."""
        reached = "document.activeElement && document.activeElement.matches({})"
        for _ in range(120):
            if self.page.evaluate(reached.format(json.dumps(selector))):
                return
            self.page.keyboard.press("Tab")
        raise AssertionError(f"{selector} is not reached by the tab key.")

    def saved(self):
        expect(self.page.locator("[data-saved]")).to_have_text("Saved")

    def open(self):
        self.page.goto(f"{self.base}/rigs/demo/format/")
        expect(self.page.locator("h1")).to_have_text("Format")

    def test_1_set_by_keys_alone_worked_out_while_it_is_typed_and_told_where_it_is_wrong(self):
        page = self.page
        self.open()
        self.page.set_viewport_size({"width": 900, "height": 800})
        self.check_page()
        self.check_page()
        before = page.locator("[data-tried=mbit-webcam-1]").text_content()
        self.tab_to("#webcams-control")
        page.keyboard.type("constant")
        self.saved()
        self.tab_to("#webcams-kbps")
        page.keyboard.press("Control+a")
        page.keyboard.type("2500")
        # Nothing is saved yet; what follows is there already.
        expect(page.locator("[data-tried=mbit-webcam-1]")).to_have_text("2.50")
        self.assertNotEqual(before, "2.50")
        page.keyboard.press("Tab")
        self.saved()
        self.tab_to("#picture-frame_width")
        page.keyboard.press("Control+a")
        page.keyboard.type("1281")
        page.keyboard.press("Tab")
        expect(page.locator("[data-saved]")).to_have_text("Not saved")
        expect(page.locator(".field-error")).to_contain_text("Type 1280 or 1282.")
        expect(page.locator("#picture-frame_width")).to_have_value("1281")
        page.locator("#picture-frame_width").focus()
        page.keyboard.press("Control+a")
        page.keyboard.type("1280")
        page.keyboard.press("Tab")
        self.saved()
        expect(page.locator(".field-error")).to_have_count(0)
        page.locator("h1").click()
        page.keyboard.press("u")
        expect(page.locator("#picture-frame_width")).to_have_value("640")

    def test_3_a_starting_point_is_chosen_by_keys_and_its_list_closes(self):
        page = self.page
        self.open()
        menu = page.locator("#purposes")
        page.keyboard.press("p")
        expect(menu).to_be_visible()
        page.keyboard.press("Escape")
        expect(menu).to_be_hidden()
        page.keyboard.press("p")
        page.get_by_role("button", name="Hours on a nearly full disk").focus()
        page.keyboard.press("Enter")
        expect(page.locator("#picture-fps")).to_have_value("15")
        expect(menu).to_be_hidden()
        page.locator("h1").click()
        page.keyboard.press("u")
        expect(page.locator("#picture-fps")).to_have_value("30")

    def test_2_a_trial_is_cancelled_made_taken_undone_and_recorded_with(self):
        page = self.page
        self.open()
        # Fine detail is that of whole pictures.
        page.locator("#screens-scale").select_option("whole")
        self.saved()
        page.locator("h1").click()
        page.keyboard.press("t")
        job = page.locator(".trial .job")
        # A slow press: what is told of the job meanwhile must not move its button from under it.
        job.get_by_role("button", name="Cancel").hover()
        page.mouse.down()
        expect(job.locator("[data-job-figures]")).to_contain_text("left")
        page.mouse.up()
        expect(job).to_have_count(0)
        expect(page.locator(".trial-input")).to_have_count(0)
        page.keyboard.press("t")
        expect(page.locator(".trial-input svg .point")).to_have_count(6)
        self.check_page()
        expect(page.locator(".trial-crops img")).to_have_count(2)
        width = page.locator(".trial-crops img").last.evaluate("image => image.naturalWidth")
        self.assertEqual(width, 72)
        points = page.locator(".trial-point")
        points.last.click()
        expect(points.last).to_have_attribute("aria-current", "true")
        sentence = page.locator(".trial-proposal p").text_content()
        proposed = re.search(r"CRF (\d+) is the cheapest", sentence)
        self.assertTrue(proposed, sentence)
        page.keyboard.press("c")
        expect(page.locator("#screens-crf")).to_have_value(proposed[1])
        expect(page.locator("#take-display-1")).to_be_disabled()
        page.keyboard.press("u")
        expect(page.locator("#screens-crf")).to_have_value("18")
        page.keyboard.press("c")
        expect(page.locator("#screens-crf")).to_have_value(proposed[1])
        self.record(int(proposed[1]))

    def record(self, crf):
        """A short take has what was set: the CRF in its rig, its tracks and its name."""
        page = self.page
        page.locator("#screens-scale").select_option("1/2")
        self.saved()
        page.locator("#files-pattern").fill("{date} lesson {take}")
        page.keyboard.press("Tab")
        expect(page.locator("[data-tried=example]")).to_contain_text("lesson-01.mkv")
        self.saved()
        page.locator("h1").click()
        page.keyboard.press("g")
        page.wait_for_url("**/record/")
        page.locator("#id_countdown_s").fill("0")
        page.locator("h1, body").first.click()
        page.get_by_role("button", name="Record").click()
        expect(page.locator("[data-run-word]")).to_have_text("Recording")
        self.until("parseFloat(document.querySelector('[data-elapsed]').textContent.slice(-4)) > 1")
        page.get_by_role("button", name="Stop").click()
        page.wait_for_url("**/takes/*/")
        (folder,) = (self.data / "takes").iterdir()
        self.assertRegex(folder.name, r"^\d{4}-\d\d-\d\d-lesson-01$")
        take = json.loads((folder / "take.json").read_text())
        self.assertEqual(take["rig"]["format"]["screens"]["rate"]["crf"], crf)
        display = next(t for t in take["tracks"] if t["name"] == "display-1")
        self.assertEqual((display["mode"]["width"], display["mode"]["height"]), (960, 540))
