"""The real application in real Chromium: from the start page to the composed program."""

import os
import re
import signal
import time
from contextlib import suppress
from pathlib import Path

from playwright.sync_api import expect

from kettle_engine.client import EngineClient
from tests.browser.case import WAIT_S, BrowserCase


class WholeWay(BrowserCase):
    def record(self, seconds):
        page = self.page
        page.get_by_label("Countdown").fill("1")
        page.get_by_role("button", name="Record").click()
        expect(page.locator("[data-record]")).to_have_attribute("data-engine", "recording")
        self.until(f"document.querySelector('[data-elapsed]').textContent > '0:00:0{seconds}'")

    def test_1_open_record_stop_and_play(self):
        page = self.page
        page.goto(self.base)
        self.check_page()
        page.get_by_role("link", name="Record with Bench rig").click()
        page.wait_for_url("**/record/")
        canvas = page.locator("canvas[data-picture=program]")
        self.until("Number(document.querySelector('canvas').dataset.drawn) > 3")
        colours = canvas.evaluate(
            "c => new Set(c.getContext('2d').getImageData(0, 0, 960, 540).data).size"
        )
        self.assertGreater(colours, 50)
        self.check_page()
        page.get_by_label("Countdown").fill("44")
        page.get_by_role("button", name="Record").click()
        expect(page.get_by_text("The countdown is at most 10 s.")).to_be_visible()
        self.record(4)
        expect(page.get_by_role("button", name="Record take")).to_have_count(0)
        self.assertRegex(page.inner_text("[data-figures]"), r"MB · room for \d+ (h|min)")
        for width in (1280, 900, 480):
            page.set_viewport_size({"width": width, "height": 700})
            expect(page.get_by_role("button", name="Stop")).to_be_in_viewport()
        page.set_viewport_size({"width": 1280, "height": 800})
        page.keyboard.press("s")
        page.wait_for_url("**/takes/*/")
        page.goto(self.base)  # composing goes on when the page is left
        page.get_by_role("link", name="Bench rig, take 1").click()
        # It plays from its plan while it is composed, then its file takes over.
        expect(page.locator("plan-media[data-plays=program]")).to_be_visible()
        self.plays("program", frames=False)
        self.check_page()
        expect(page.locator("video[data-plays=program]")).to_be_visible(timeout=300_000)
        self.plays("program")
        page.get_by_role("button", name="Hear Headset alone").click()
        page.get_by_role("button", name="See Desk webcam").click()
        self.plays("headset", frames=False)
        self.plays("webcam-1")
        page.get_by_text("Files of this take").click()
        with page.expect_download() as download:
            page.get_by_role("link", name="MP4", exact=True).click()
        self.assertGreater(Path(download.value.path()).stat().st_size, 50_000)
        page.get_by_role("link", name="Takes").click()
        expect(page.get_by_role("link", name="Bench rig, take 1")).to_be_visible()
        self.check_page()

    def plays(self, name, frames=True):
        """Time moves, and frames are decoded where there is a picture."""
        page, element = self.page, f"document.querySelector('[data-plays={name}]')"
        page.locator("[data-lines]").press("Home")
        if page.get_by_role("button", name="Pause Space").count() == 0:
            page.get_by_role("button", name="Play Space").click()
        self.until(f"{element}.currentTime > 0.6")
        if frames:
            self.until(f"{element}.getVideoPlaybackQuality().totalVideoFrames > 5")
        page.get_by_role("button", name="Pause Space").click()

    def test_2_the_patch_sheet_is_live_and_worked_by_keys_alone(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/")
        expect(page.locator("[data-input-state=display-1]")).to_have_text(
            re.compile("still|changing")
        )
        expect(page.locator("[data-input-state=system]")).to_have_text("plays")
        self.check_page()
        point = page.get_by_role("button", name="Headset: heard in Sheet and me")
        point.focus()
        page.keyboard.press("Enter")
        expect(page.get_by_text("“Sheet and me” has no voice.")).to_be_visible()
        self.check_page()
        expect(point).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.get_by_text("“Sheet and me” has no voice.")).to_have_count(0)
        expect(page.get_by_text("1920 × 1080 px · 30 fps").last).to_be_visible()
        page.keyboard.press("f")
        page.wait_for_url("**/format/")
        page.go_back()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("Go on to Record")
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
        page.keyboard.press("g")
        page.wait_for_url("**/record/")

    def test_3_the_engine_killed_during_a_take_comes_back_and_the_take_is_repaired(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/")
        self.until("Number(document.querySelector('canvas').dataset.drawn) > 3")
        self.record(2)
        engine = EngineClient(self.data)
        deadline = time.monotonic() + WAIT_S
        while engine.ask("status")["take"]["tracks"]["webcam-1"]["written"] < 30:
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.1)
        # The recorder first: it would end its take properly if only the engine were killed. The
        # engine must not see that: it would start another one, which would end it properly too.
        hello = engine.ask("hello")
        os.kill(hello["pid"], signal.SIGSTOP)
        for pid in (hello["pids"]["recorder"], hello["pid"], *hello["pids"].values()):
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        expect(page.locator("[data-record]")).to_have_attribute("data-engine", "watching")
        # It is repaired beside everything else.
        repaired = page.get_by_role("link", name="was cut off and has been repaired")
        deadline = time.monotonic() + WAIT_S
        while not repaired.count():
            self.assertLess(time.monotonic(), deadline)
            page.goto(self.base)
        repaired.click()
        expect(page.get_by_text("was cut off and has been repaired")).to_be_visible()
        expect(page.locator("[data-plays=program]")).to_be_visible(timeout=300_000)

    def test_4_the_connection_comes_back_by_itself(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/")
        expect(page.locator("[data-input-state=webcam-1]")).to_have_text("moving")
        self.kill_web()
        expect(page.locator("[data-live-notice]")).to_be_hidden()
        expect(page.locator("[data-input-state=webcam-1]")).to_have_text("moving")

    def test_5_a_stop_in_the_countdown_records_nothing(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/")
        self.until("Number(document.querySelector('canvas').dataset.drawn) > 1")
        page.get_by_label("Countdown").fill("9")
        page.keyboard.press("Tab")
        page.keyboard.press("r")
        expect(page.get_by_text("Recording begins in")).to_be_visible()
        time.sleep(0.3)
        page.keyboard.press("s")
        expect(page.get_by_text("so nothing was recorded")).to_be_visible()
        expect(page.locator("[data-record]")).to_have_attribute("data-engine", "watching")
