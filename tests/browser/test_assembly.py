"""From two takes to a finished file: cut in lines, titled, exported; by mouse and by keys."""

import re

import av
from playwright.sync_api import expect

from tests.browser.case import BrowserCase

MARGIN = 44


class AssemblyPage(BrowserCase):
    DEMO_TAKES = "4 8"

    def open(self):
        page = self.page
        page.goto(f"{self.base}/tutorials/1/assembly/")
        self.until("document.body.dataset.ready === 'assembly'")
        # Its takes have come and been looked at: what is quiet is known.
        page.get_by_text("found. Taken out").or_(page.get_by_text("Nothing more")).wait_for()

    def drag(self, from_share, until_share):
        """Over a part of the first line."""
        page = self.page
        page.evaluate("scrollTo(0, 0)")
        box = page.locator("[data-lines] canvas").first.bounding_box()
        wide = box["width"] - MARGIN
        y = box["y"] + 40
        page.mouse.move(box["x"] + MARGIN + from_share * wide, y)
        page.mouse.down()
        page.mouse.move(box["x"] + MARGIN + until_share * wide, y, steps=6)
        page.mouse.up()

    def drag_tab(self):
        """A scene's tab to an earlier time, once let go of by Escape and once for good."""
        page, tab = self.page, self.page.locator(".line-scene").filter(has_text="At the bench")
        place = "document.querySelector('[data-cue^=scene][data-cue$=scene-2]').dataset.cue"
        began = page.evaluate(place)
        for last in ("Escape", ""):
            box = tab.bounding_box()
            page.mouse.move(box["x"] + 10, box["y"] + 8)
            page.mouse.down()
            page.mouse.move(box["x"] - 40, box["y"] + 8, steps=5)
            expect(tab).to_have_text(re.compile(r"At the bench 0:0\d\.\d"))
            if last:
                page.keyboard.press(last)
            page.mouse.up()
            expect(tab).to_have_text("At the bench")
        self.until(f"{place} !== '{began}'")
        at, before = (int(name.split("@")[1].split(":")[0]) / 1e9
                      for name in (page.evaluate(place), began))  # fmt: skip
        self.assertTrue(0.3 < before - at < 1.2, (before, at))
        self.assertLess(tab.bounding_box()["x"], box["x"] - 30)
        page.get_by_role("button", name="Undo U").click()
        self.until(f"{place} === '{began}'")

    def length(self, words):
        expect(self.page.locator("[data-part=assembly-head]")).to_contain_text(words)

    def file(self, name):
        return self.data / "exports" / name

    def test_1_cut_titled_and_exported_with_the_mouse(self):
        page = self.page
        self.open()
        self.length("0:12 of 0:12")
        self.drag(0.1, 0.25)
        expect(page.locator("[data-cut-place]")).to_contain_text(re.compile("2.[1-4] s marked"))
        page.get_by_role("button", name="Take out O").click()
        self.length("0:10 of 0:12")
        page.get_by_role("button", name="Undo U").click()
        self.length("0:12 of 0:12")
        page.get_by_role("button", name="Do again Y").click()
        self.length("0:10 of 0:12")
        self.drag(0.4, 0.6)
        page.get_by_label("Speed", exact=True).fill("1000000")
        page.get_by_role("button", name="Set the speed S").click()
        expect(page.get_by_text("A speed is 0.1 to 64 ×")).to_be_visible()
        page.get_by_label("Speed", exact=True).fill("3")
        page.get_by_label("Its sound").select_option("stretched")
        page.get_by_role("button", name="Set the speed S").click()
        self.length("0:08 of 0:12")
        expect(page.locator(".line-speed")).to_have_text("× 3")
        page.get_by_label("Words of the card").fill("Folding a signature")
        page.get_by_label("Seen for").fill("2")
        page.get_by_label("Size").focus()
        # The page is asked for in between: what was typed and is not sent yet stays.
        page.evaluate("document.addEventListener('parts:swapped', () => { window.swapped = true })")
        page.evaluate(
            "document.querySelector('[data-live]').dispatchEvent(new Event('live:again'))"
        )
        self.until("window.swapped")
        page.get_by_role("button", name="At the end", exact=True).click()
        self.length("0:10 of 0:14")
        page.get_by_role("button", name="Lanes A").click()
        expect(page.locator("[data-lane-labels]").get_by_text("Main display")).to_be_visible()
        self.check_page()
        page.locator("[data-lines]").press("Home")
        page.get_by_role("button", name="Play Space").click()
        self.until("document.querySelector('[data-take-at]').textContent > '0:02'")
        page.get_by_role("button", name="Pause Space").click()
        page.get_by_role("link", name="Go on to Export G").click()
        expect(page.get_by_text("0:10").first).to_be_visible()
        self.check_page()
        # One that takes long is cancelled; it could be made after all.
        page.get_by_role("button", name="Make it for large screens 6").click()
        page.get_by_role("button", name="Cancel").click()
        expect(page.get_by_role("button", name="Make it after all")).to_be_visible()
        page.get_by_role("button", name="Delete").click()
        page.get_by_role("button", name="Make it for slow connections 3").click()
        page.get_by_role("link", name="Download planning-a-signature-720.mp4").wait_for()
        expect(page.locator("[data-part=shown]").get_by_text("Frames")).to_be_visible()
        with av.open(str(self.file("planning-a-signature-720.mp4"))) as file:
            self.assertAlmostEqual(file.duration / 1e6, 9.8, delta=0.3)
        self.until("document.querySelector('video').readyState > 0")
        self.check_page()

    def test_2_by_keys_alone_from_the_lines_to_a_file(self):
        page = self.page
        self.open()
        page.keyboard.press("v")
        page.locator("[data-lines]").focus()
        page.keyboard.press("End")
        for _ in range(2):
            page.keyboard.press("Shift+ArrowLeft")
        before = page.locator("[data-part=assembly-head]").inner_text()
        page.keyboard.press("o")
        expect(page.locator("[data-part=assembly-head]")).not_to_have_text(before)
        page.keyboard.press("u")
        self.until("document.querySelector('[data-saved]').textContent === 'Saved'")
        # What counts as quiet, from the field; then all of it at once.
        page.keyboard.press("Home")
        page.keyboard.press("q")
        expect(page.get_by_text("Nothing more is quiet")).to_be_visible()
        page.keyboard.press("g")
        page.wait_for_url("**/export/")
        self.until("document.body.dataset.ready === 'export'")
        page.keyboard.press("9")
        page.get_by_role("link", name="Download planning-a-signature.m4a").wait_for()
        with av.open(str(self.file("planning-a-signature.m4a"))) as file:
            self.assertGreater(file.duration / 1e6, 3)

    def test_3_a_version_tells_its_takes_otherwise_and_a_stretch_of_it_goes_into_a_text(self):
        page = self.page
        self.open()
        page.get_by_role("button", name="All takes, whole again").click()
        self.length("0:12 of 0:12")
        scenes = page.locator(".line-scene")
        self.drag(0.36, 0.6)
        page.get_by_label("Scene", exact=True).select_option(label="At the bench")
        page.keyboard.press("Escape")
        page.keyboard.press("i")
        expect(page.get_by_text("Only in this version: 2 changes")).to_be_visible()
        expect(scenes.filter(has_text="At the bench")).to_have_count(1)
        self.drag_tab()
        # A close-up is drawn: sized by keys, moved by the mouse.
        self.drag(0.19, 0.26)
        page.get_by_role("button", name="Draw it").click()
        frame = page.get_by_role("button", name="The part to go nearer to")
        frame.press("-")
        box = frame.bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] / 2 - 30, box["y"] + box["height"] / 2, steps=4)
        page.mouse.up()
        page.get_by_role("button", name="Go nearer Z").click()
        expect(page.get_by_text("Only in this version: 4 changes")).to_be_visible()
        page.get_by_label("Name of the chapter").last.fill("Fold it twice")
        page.get_by_role("button", name="Chapter here K").click()
        chapters = page.locator("[data-part=assembly-chapters] input[type=text]")
        expect(chapters.first).to_have_value("Fold it twice")
        expect(page.locator(".line-step").filter(has_text="Fold it twice")).to_have_count(1)
        self.check_page()
        self.drag(0.1, 0.3)
        page.get_by_role("link", name="Export this stretch").click()
        expect(page.get_by_text("Only the stretch from")).to_be_visible()
        page.get_by_role("button", name="Make it to show in a text 8").click()
        page.get_by_role("link", name="Download planning-a-signature-480.gif").wait_for()
        self.assertGreater(self.file("planning-a-signature-480.gif").stat().st_size, 10_000)
        self.check_page()
