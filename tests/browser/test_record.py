"""The real application in real Chromium: a lesson recorded by keys alone, and what disturbs it."""

import re
from contextlib import suppress

from playwright.sync_api import expect

from kettle_core.errors import EngineError
from kettle_core.program.cues import (
    CloseUp,
    GoOn,
    Hide,
    Mark,
    Mute,
    Pause,
    Place,
    Show,
    Step,
    ToScene,
    Unmute,
)
from kettle_engine.client import EngineClient
from kettle_media.take.cues import read_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import read_times
from tests.browser.case import BrowserCase

OUTLINE = "- Title and greeting [0:20]\n    Say who you are.\n- Fold it (4 min)\n"

# Seen by the page itself: where it is slow, a countdown may be over before it is looked for.
COUNTS = """() => {
  window.counted = false;
  const look = () => {
    window.counted ||= document.querySelector("[data-count-words]").checkVisibility();
  };
  new MutationObserver(look).observe(document.body, {subtree: true, attributes: true});
}"""
SENT = "!document.querySelector('[data-stage]').hasAttribute('data-sending')"


class Recording(BrowserCase):
    def setUp(self):
        super().setUp()
        self.addCleanup(self.end_what_is_left)

    def end_what_is_left(self):
        """A test that failed must not cost the ones after it."""
        engine = EngineClient(self.data)
        with suppress(EngineError):
            engine.ask("give_up")

    def begin(self):
        """Record the demo rig by its key."""
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/")
        page.get_by_label("Countdown").fill("0")
        page.keyboard.press("Tab")
        page.keyboard.press("r")
        self.is_recording()

    def is_recording(self):
        expect(self.page.locator("[data-record]")).to_have_attribute("data-engine", "recording")
        self.until("document.querySelector('[data-elapsed]').textContent > '0:00:00.5'")

    def taken(self):
        """Stop by the key; the take's folder."""
        self.page.keyboard.press("s")
        self.page.wait_for_url("**/takes/*/")
        folder = self.page.locator(".facts .text-break").inner_text()
        return TakeFolder(self.data / folder)

    def pressed(self, name, state="true"):
        button = self.page.get_by_role("button", name=name)
        expect(button.first).to_have_attribute("aria-pressed", state)

    def planned(self):
        """A tutorial with a running order, made by keys."""
        page, keys = self.page, self.page.keyboard
        page.goto(self.base)
        page.locator("#tutorial-name").focus()
        keys.type("Casing in")
        keys.press("Enter")
        page.wait_for_url("**/tutorials/*/")
        page.get_by_label("A line each step").focus()
        keys.press("Control+a")
        keys.insert_text(OUTLINE)
        keys.press("Tab")
        keys.press("Enter")
        expect(page.get_by_text("4:20 planned")).to_be_visible()
        page.get_by_label("Begins with").nth(1).select_option("At the bench")
        expect(page.locator("[data-saved]")).to_have_text("Saved")
        self.check_page()
        page.locator("h1").evaluate("node => document.activeElement.blur()")
        keys.press("r")
        page.wait_for_url("**/record/")

    def test_1_a_whole_lesson_by_keys_alone(self):
        page, keys = self.page, self.page.keyboard
        self.planned()
        expect(page.get_by_label("Tutorial")).to_have_value(re.compile(r"\d+"))
        expect(page.get_by_role("button", name="Fold it")).to_be_visible()
        self.check_page()
        page.get_by_label("Countdown").fill("2")
        page.evaluate(COUNTS)
        page.keyboard.press("Tab")
        keys.press("r")
        self.is_recording()
        self.assertTrue(page.evaluate("window.counted"))
        self.assertRegex(page.title(), r"^● 0:00:\d\d · S stops")
        keys.press("n")
        expect(page.get_by_text("Say who you are.")).to_be_visible()
        self.check_page()
        keys.press("n")
        self.pressed("At the bench")
        keys.press("1")
        self.pressed("Sheet and me")
        keys.press("c")
        self.pressed("Close-up")
        keys.press("p")
        expect(page.locator("[data-run-word]")).to_have_text("Paused")
        keys.press("p")
        expect(page.locator("[data-run-word]")).to_have_text("Recording")
        keys.press("m")
        expect(page.get_by_label("Words of the mark")).to_be_focused()
        keys.type("fold line")
        keys.press("Enter")
        keys.press("g")
        for first, second, name in (("h", "1", "Main display"), ("u", "1", "Headset")):
            for state in ("true", "false"):
                keys.press(first)
                keys.press(second)
                self.pressed(name, state)
        expect(page.locator("[data-figures]")).to_contain_text("2 marks")
        self.assertEqual(page.locator("[data-desk-error]").inner_text(), "")
        cues, told = read_cues(self.taken())
        self.assertEqual(told, [])
        kinds = [type(c) for c in cues]
        self.assertEqual(kinds[:6], [ToScene, Step, Step, ToScene, ToScene, CloseUp])
        for kind in (Pause, GoOn, Hide, Show, Mute, Unmute):
            self.assertEqual(kinds.count(kind), 1, kind)
        marks = [c for c in cues if isinstance(c, Mark)]
        self.assertEqual([m.text for m in marks], ["", "fold line", "good"])
        self.assertEqual(marks[0].at_ns, marks[1].at_ns)
        self.assertEqual([c.step for c in cues if isinstance(c, Step)],
                         ["Title and greeting", "Fold it"])  # fmt: skip
        # What was recorded is there at once, from its tracks; from its plan once sync is known.
        media = "[data-take-player] :is(video, plan-media)"
        expect(page.locator(f"{media}:visible")).to_have_count(1)
        page.get_by_role("button", name="Play Space").click()
        self.until(f"[...document.querySelectorAll('{media}')].some((m) => m.currentTime > 0.8)")
        keys.press("r")
        page.wait_for_url("**/record/")

    def test_2_thrown_away_only_when_it_is_said_twice(self):
        page, keys = self.page, self.page.keyboard
        self.begin()
        take = EngineClient(self.data).ask("status")["take"]["folder"]
        first = TakeFolder(self.data / "takes" / take).read_info().id
        keys.press("g")
        expect(page.locator("[data-figures]")).to_contain_text("1 mark")
        keys.press("o")
        dialog = page.get_by_role("dialog", name="Start over?")
        expect(dialog).to_contain_text("with 1 mark, will be thrown away")
        # Who presses Enter without reading keeps what there is.
        keys.press("Enter")
        expect(dialog).to_be_hidden()
        expect(page.locator("[data-figures]")).to_contain_text("1 mark")
        keys.press("o")
        keys.press("Shift+Tab")
        keys.press("Enter")
        expect(page.locator("[data-figures]")).not_to_contain_text("1 mark")
        self.is_recording()
        again = TakeFolder(self.data / "takes" / take).read_info().id
        self.assertNotEqual(first, again)
        keys.press("v")
        keys.press("Shift+Tab")
        keys.press("Enter")
        expect(page.get_by_role("button", name="Record take")).to_be_enabled()
        self.assertFalse((self.data / "takes" / take).exists())

    def test_3_neither_a_reload_nor_a_web_that_dies_harms_a_take(self):
        page = self.page
        self.begin()
        page.keyboard.press("2")
        self.pressed("At the bench")
        page.reload()
        self.is_recording()
        self.pressed("At the bench")
        self.kill_web()
        # Stop is there all the time, and from a terminal too.
        expect(page.get_by_role("button", name="Stop")).to_be_enabled()
        expect(page.locator("[data-live-notice]")).to_be_hidden()
        page.keyboard.press("1")
        self.pressed("Sheet and me")
        folder = self.taken()
        info = folder.read_info()
        for name in ("headset", "system"):
            rows = read_times(folder.times_path(info.track(name)))
            self.assertEqual(rows["dropped"].sum(), 0)
            self.assertEqual(rows["no"].size, rows["no"][-1] - rows["no"][0] + 1)
        scenes = [c.scene for c in read_cues(folder)[0]]
        self.assertEqual(scenes, ["scene-1", "scene-2", "scene-1"])

    def test_4_a_layer_is_dragged_and_moved_by_keys(self):
        page = self.page
        self.begin()
        layer = page.get_by_role("button", name="Desk webcam: drag")
        box = layer.bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 60, y - 40, steps=4)
        page.mouse.up()
        self.until(SENT)
        layer.focus()
        page.keyboard.press("ArrowLeft")
        self.until(SENT)
        cues = [c for c in read_cues(self.taken())[0] if isinstance(c, Place)]
        self.assertGreaterEqual(len(cues), 2)
        self.assertLess(cues[-2].box.left, 481 - 30)
        self.assertEqual(cues[-1].box.left, cues[-2].box.left - 10)
        self.assertEqual((cues[-1].box.width, cues[-1].scene), (144, "scene-1"))

    def test_5_keys_are_changed_and_clashes_said(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/keys/")
        self.check_page()
        page.get_by_label("Pause, and go on").fill("s")
        page.keyboard.press("Enter")
        expect(page.get_by_text("S is also the key of “Stop and keep the take”")).to_be_visible()
        self.check_page()
        page.get_by_label("Pause, and go on").fill("x")
        page.keyboard.press("Enter")
        expect(page.get_by_text("is also the key")).to_have_count(0)
        self.begin()
        page.keyboard.press("x")
        expect(page.locator("[data-run-word]")).to_have_text("Paused")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys of this page")).to_contain_text("Go on")
        page.keyboard.press("Escape")
        self.taken()

    def test_6_what_is_refused_in_the_countdown_is_not_said_of_the_take(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/record/")
        page.get_by_label("Countdown").fill("6")
        page.keyboard.press("Tab")
        page.keyboard.press("r")
        expect(page.locator("[data-record]")).to_have_attribute("data-engine", "countdown")
        page.keyboard.press("g")
        refused = page.locator("[data-desk-error]")
        expect(refused).to_contain_text("Nothing is being recorded")
        self.is_recording()
        expect(refused).to_be_hidden()
