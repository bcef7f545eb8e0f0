"""Inputs as people set them up: seen and heard, added, ordered, drawn, lost and back."""

import io
import time

from PIL import Image
from playwright.sync_api import expect

from kettle_engine.client import EngineClient
from tests.browser.case import BrowserCase


def drawn(name):
    """How often a live picture was drawn, as a JavaScript expression."""
    return f"Number(document.querySelector('canvas[data-picture=\"{name}\"]').dataset.drawn ?? 0)"


class Inputs(BrowserCase):
    def rows(self):
        return self.page.locator("[data-rows] tr").evaluate_all(
            "rows => rows.map(r => r.dataset.row)"
        )

    def open_sheet(self):
        self.page.goto(f"{self.base}/rigs/demo/")
        self.until(f"{drawn('webcam-1')} > 1")

    def saved(self):
        expect(self.page.locator("[data-saved]").first).to_have_text("Saved")

    def region(self):
        return [int(self.page.locator(f"#region-{n}").input_value()) for n in
                ("left", "top", "width", "height")]  # fmt: skip

    def test_1_add_by_mouse_and_by_keys_alone(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/")
        page.keyboard.press("a")
        page.wait_for_url("**/add/")
        self.until(f"{drawn('spare-display-1/quirefold')} > 0")
        expect(page.locator("[data-input-state='spare-system/bench-radio']")).to_have_text("plays")
        self.check_page()
        page.get_by_role("button", name="Add Quirefold").click()
        expect(page.get_by_role("heading", name="Quirefold")).to_be_visible()
        expect(page.get_by_role("status").filter(has_text="still").or_(
            page.locator("[data-input-state]"))).to_have_text("still")  # fmt: skip
        page.keyboard.press("b")
        page.wait_for_url("**/rigs/demo/")
        page.keyboard.press("a")
        page.wait_for_url("**/add/")
        page.get_by_role("button", name="Add Sound of Bench radio").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="Sound of Bench radio")).to_be_visible()
        page.get_by_label("Gain, dB").fill("99")
        page.keyboard.press("Tab")
        expect(page.get_by_text("can't be above 30 dB")).to_be_visible()
        page.get_by_label("Gain, dB").fill("-4.5")
        page.keyboard.press("Tab")
        self.saved()
        expect(page.get_by_text("48 kHz stereo · −4.5 dB")).to_be_visible()
        self.check_page()
        page.get_by_role("button", name="Delete this input").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_text("was deleted with its places")).to_be_visible()
        self.assertNotIn("system-bench-radio", self.rows())
        page.keyboard.press("u")
        expect(page.get_by_text("Taken back: Sound of Bench radio deleted")).to_be_visible()
        self.assertIn("system-bench-radio", self.rows())

    def test_2_order_and_rename_rows_and_go_by_arrow_keys(self):
        page = self.page
        self.open_sheet()
        before = self.rows()
        handle = page.locator("#handle-tablet")
        handle.focus()
        page.keyboard.press("ArrowUp")
        self.saved()
        moved = [*before]
        moved.insert(1, moved.pop(2))
        self.assertEqual(self.rows(), moved)
        expect(handle).to_be_focused()
        page.keyboard.press("ArrowDown")
        rows = "[...document.querySelectorAll('[data-rows] tr')]"
        self.until(f"{rows}.map(r => r.dataset.row).join() === '{','.join(before)}'")
        target = page.locator("[data-row=headset]").bounding_box()
        handle.hover()
        page.mouse.down()
        page.mouse.move(target["x"] + 10, target["y"] + 10, steps=12)
        page.mouse.move(target["x"] + 10, target["y"] + target["height"] - 6, steps=12)
        # Rows make room while the pointer rests on them.
        place = f"{rows}.findIndex(r => r.dataset.row === 'tablet')"
        self.until(f"{place} >= 4")
        page.mouse.up()
        self.until(
            f"{place} >= 4 && document.querySelector('[data-saved]').textContent === 'Saved'"
        )
        dropped = self.rows()
        self.assertGreaterEqual(dropped.index("tablet"), 4)
        page.reload()
        self.assertEqual(self.rows(), dropped)
        self.until(f"{drawn('tablet')} > 0")
        name = page.locator("#name-webcam-2")
        name.fill("Bench from above")
        name.press("Enter")
        self.saved()
        expect(page.get_by_role("button", name="Bench from above: seen in Title")).to_be_visible()
        name.fill("  ")
        name.press("Enter")
        expect(page.get_by_text("An input needs a name")).to_be_visible()
        cross = page.get_by_role("button", name="Main display: seen in Sheet and me")
        cross.focus()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowDown")
        expect(
            page.get_by_role("button", name="Second display: seen in At the bench")
        ).to_be_focused()
        page.get_by_label("Second display is on").check()
        expect(page.locator("[data-input-state=display-2]")).to_contain_text("ing")
        self.until(f"{drawn('display-2')} > 0")
        self.check_page()

    def test_3_a_region_is_drawn_pulled_typed_and_moved_by_keys(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/display-1/")
        page.get_by_label("A region of it").check()
        region = page.locator("[data-region]")
        expect(region).to_be_visible()
        self.until(f"{drawn('display-1')} > 0")
        self.assertEqual(self.region(), [320, 180, 1280, 720])
        # The region is drawn on all of the display, not on what was cut out of it.
        size = "document.querySelector('canvas[data-picture=display-1]').dataset.size"
        self.assertEqual(page.evaluate(size), "whole")
        box = region.bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] - 900, box["y"] + box["height"] / 2 + 20, steps=10)
        page.mouse.up()
        self.saved()
        left, top, width, height = self.region()
        self.assertEqual((left, width, height), (0, 1280, 720))
        self.assertGreater(top, 200)
        box = region.bounding_box()
        page.mouse.move(box["x"] + box["width"] - 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] + 2000, box["y"] + box["height"] / 2, steps=10)
        page.mouse.up()
        expect(page.locator("#region-width")).to_have_value("1920")
        region.focus()
        page.keyboard.press("ArrowUp")
        page.keyboard.press("Shift+ArrowUp")
        expect(page.locator("#region-top")).to_have_value(str(top - 22))
        page.locator("#region-preset").select_option("1080x1080")
        expect(page.locator("#region-height")).to_have_value("1080")
        expect(page.get_by_text("1:1", exact=True)).to_be_visible()
        page.locator("#region-width").fill("801")
        page.keyboard.press("Tab")
        expect(page.locator("#region-width")).to_have_value("800")
        self.check_page()
        page.get_by_label("Whole display").check()
        expect(region).to_have_count(0)
        # Two fields set at once are both kept, and what is being typed is not lost by a save.
        page.get_by_label("Keys").uncheck()
        page.get_by_label("Name").fill("Sheet displ")
        page.keyboard.type("ay")
        self.saved()
        expect(page.get_by_label("Name")).to_have_value("Sheet display")
        page.keyboard.press("Tab")
        expect(page.get_by_role("heading", name="Sheet display")).to_be_visible()
        page.reload()
        expect(page.get_by_label("Keys")).not_to_be_checked()

    def test_4_unplugged_while_watching_and_taken_up_again(self):
        page = self.page
        self.open_sheet()
        engine = EngineClient(self.data)
        state = page.locator("[data-input-state=webcam-1]")
        expect(state).to_have_text("moving")
        engine.ask("fault", device="webcam-1", fault="unplugged", on=True)
        expect(state).to_have_text("not plugged in")
        before = page.evaluate(drawn("webcam-2"))
        self.until(f"{drawn('webcam-2')} > {before} + 3")
        engine.ask("fault", device="webcam-1", fault="unplugged", on=False)
        expect(state).to_have_text("moving")
        page.goto(f"{self.base}/studio/")
        self.check_page()
        page.get_by_role("button", name="Headset: silent").click()
        self.saved()
        page.go_back()
        expect(page.locator("[data-input-state=headset]")).to_contain_text("nothing for")
        engine.ask("fault", device="headset", fault="silent", on=False)

    def test_5_a_microphone_is_set_up_step_by_step(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/headset/")
        self.check_page()
        page.keyboard.press("s")
        page.wait_for_url("**/set-up/")
        expect(page.locator("[data-input-state=headset]")).to_have_text("hears you")
        self.until("document.querySelector('[data-strip=headset]').style.cssText.includes('level')")
        page.keyboard.press("l")
        expect(page.get_by_text("Speak on:")).to_be_visible()
        expect(page.get_by_text("Loudest peak")).to_be_visible()
        self.check_page()
        page.keyboard.press("t")
        expect(page.get_by_role("button", name="The gain is")).to_be_disabled()
        self.until("[...document.querySelectorAll('audio')].every(a => a.duration > 5)")

    def test_6_pictures_and_files_are_taken_in_or_refused(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/add/")
        field = page.locator("#picture-file")
        field.set_input_files({"name": "logo.png", "mimeType": "image/png", "buffer": b"MZ no"})
        page.get_by_role("button", name="Add the picture").click()
        expect(page.get_by_text("is not a picture that can be used")).to_be_visible()
        out = io.BytesIO()
        Image.new("RGBA", (301, 200), (169, 79, 39, 180)).save(out, "PNG")
        picture = {"name": "Kettle mark.png", "mimeType": "image/png", "buffer": out.getvalue()}
        page.locator("#picture-file").set_input_files(picture)
        page.get_by_role("button", name="Add the picture").click()
        expect(page.get_by_role("heading", name="Kettle mark")).to_be_visible()
        expect(page.get_by_text("302 × 200 px").first).to_be_visible()
        self.until(f"{drawn('kettle-mark')} > 0")
        page.keyboard.press("b")
        with page.expect_download() as download:
            page.get_by_role("link", name="Export to a file").click()
        page.goto(self.base)
        page.locator("#rig-file").set_input_files(download.value.path())
        page.get_by_role("button", name="Import the rig").click()
        expect(page.get_by_text("was imported with")).to_be_visible()
        self.assertIn("kettle-mark", self.rows())
        time.sleep(0.2)
        self.check_page()
