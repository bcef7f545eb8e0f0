"""From two takes to a finished file: cut in lines, titled, exported; by mouse and by keys."""

import re

import av
from playwright.sync_api import expect

from tests.browser.case import BrowserCase

MARGIN = 44


class AssemblyPage(BrowserCase):
    DEMO_TAKES, DEMO_PART = "4 8", "3"

    def open(self):
        page = self.page
        page.goto(f"{self.base}/tutorials/1/assembly/")
        self.until("document.body.dataset.ready === 'assembly'")
        # Its takes have come and been looked at: what is quiet is known.
        page.get_by_text("found. Taken out").or_(page.get_by_text("Nothing more")).wait_for()

    def drag(self, from_share, until_share):
        """Over a part of the first line."""
        page = self.page
        box = page.locator("[data-lines] canvas").bounding_box()
        wide = box["width"] - MARGIN
        y = box["y"] + 40
        page.mouse.move(box["x"] + MARGIN + from_share * wide, y)
        page.mouse.down()
        page.mouse.move(box["x"] + MARGIN + until_share * wide, y, steps=6)
        page.mouse.up()

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
        page.get_by_role("button", name="At the end", exact=True).click()
        self.length("0:10 of 0:14")
        page.get_by_role("button", name="Lanes A").click()
        expect(page.get_by_text("Main display").first).to_be_visible()
        self.check_page()
        page.locator("[data-lines]").press("Home")
        page.get_by_role("button", name="Play Space").click()
        self.until("document.querySelector('[data-take-at]').textContent > '0:02'")
        page.get_by_role("button", name="Pause Space").click()
        page.get_by_role("link", name="Go on to Export G").click()
        expect(page.get_by_text("0:10").first).to_be_visible()
        self.check_page()
        # The first one is cancelled, and made after all.
        page.get_by_role("button", name="Make it for slow connections 3").click()
        page.get_by_role("button", name="Cancel").click()
        page.get_by_role("button", name="Make it after all").click()
        page.get_by_role("link", name="Download").wait_for()
        expect(page.get_by_text("frames", exact=False).first).to_be_visible()
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
        page.keyboard.press("7")
        page.get_by_role("link", name="Download planning-a-signature.m4a").wait_for()
        with av.open(str(self.file("planning-a-signature.m4a"))) as file:
            self.assertGreater(file.duration / 1e6, 3)
