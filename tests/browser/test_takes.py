"""A take as people look at it: found in lines, near in lanes, played, changed afterwards."""

import json

import numpy as np
from playwright.sync_api import expect
from scipy.signal import correlate

from kettle_core.program.cues import Hide, Mark, Place, Show
from kettle_media.player.show import show_of_take
from kettle_media.program.mix import ProgramMix
from kettle_media.take.afterwards import read_afterwards
from kettle_media.take.folder import TakeFolder
from tests.browser.case import BrowserCase

# Record times at which the files that play are, by the take's clocks.
PLACES = """async () => {
  const told = await (await fetch(document.querySelector("[data-lines]").dataset.lines)).json();
  return [...document.querySelectorAll("[data-plays]")].filter((e) => !e.paused).map((e) => {
    const track = told.tracks.find((t) => t.name === e.dataset.plays);
    const [from, file, rate] = track.knots[0];
    return from + (e.currentTime - file) / rate;
  });
}"""
HEARD = """() => [...document.querySelectorAll("[data-plays]")].filter((e) => !e.muted)
  .map((e) => e.dataset.plays)"""

# What is given to the sound device and when, and which picture is drawn when by the same clock.
TAPPED = """
window.tapped = {sound: [], seen: [], turns: []};
const send = WebSocket.prototype.send;
WebSocket.prototype.send = function (data) {
  const {turn} = JSON.parse(data);
  if (turn !== undefined) tapped.turns.push(turn);
  return send.call(this, data);
};
const start = AudioBufferSourceNode.prototype.start;
AudioBufferSourceNode.prototype.start = function (when) {
  tapped.context = this.context;
  const all = this.buffer.getChannelData(0);
  const thin = Array.from({length: all.length / 6}, (_, n) => all[6 * n + 2]);
  tapped.sound.push([when, thin]);
  return start.call(this, when);
};
const draw = CanvasRenderingContext2D.prototype.drawImage;
CanvasRenderingContext2D.prototype.drawImage = function (...all) {
  const media = this.canvas.parentElement;
  if (tapped.context && media?.localName === "plan-media") {
    const {currentTime, outputLatency} = tapped.context;
    tapped.seen.push([currentTime - outputLatency, Number(media.dataset.shows)]);
  }
  return draw.apply(this, all);
};
"""
THIN_HZ = 8000
# Somewhat less than after what time a late one is seen.
WHILE_S = 0.24
ON_TOP = """(node) => {
  const {left, top} = node.getBoundingClientRect();
  return document.elementFromPoint(left + 9, top + 9) === node;
}"""


class TakePage(BrowserCase):
    DEMO_TAKES = "1 20"

    def setUp(self):
        super().setUp()
        page = self.page
        page.goto(self.base)
        # The last one is a lesson, with cues.
        page.get_by_role("link", name="take 2").click()
        self.until("document.body.dataset.ready === 'take'")
        expect(page.get_by_text("Sync: how it was measured")).to_be_visible()
        expect(page.get_by_role("button", name="Plays P")).to_be_visible()
        self.folder = TakeFolder(self.data / "takes" / "demo-take-02")

    @property
    def at_s(self):
        text = self.page.locator("[data-take-at]").inner_text()
        minutes, seconds = text.split(":")
        return 60 * int(minutes) + float(seconds)

    @property
    def cues(self):
        return read_afterwards(self.folder)[0].cues or ()

    @property
    def placed(self):
        return [c for c in self.cues if isinstance(c, Place)]

    def until_placed(self, holds):
        for _ in range(100):
            if holds(self.placed):
                return
            self.page.wait_for_timeout(100)
        self.fail(self.placed)

    def saved(self):
        expect(self.page.locator("[data-saved]")).to_have_text("Saved")

    def test_1_found_in_lines_played_and_changed_with_the_mouse(self):
        page = self.page
        self.check_page()
        lines = page.locator("[data-lines]")
        box = lines.bounding_box()
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + 50)
        self.assertAlmostEqual(self.at_s, 7.1, delta=0.6)
        page.get_by_role("button", name="Hear Headset alone").click()
        page.get_by_role("button", name="See Desk webcam").click()
        page.get_by_label("Speed").select_option("0.5")
        lines.press("Home")
        page.get_by_role("button", name="Play Space").click()
        self.until(f"({HEARD})().join() === 'headset'")
        self.until(
            "[...document.querySelectorAll('[data-plays]')].filter(e => !e.paused).length === 2"
        )
        apart = 9.0
        for _ in range(200):
            places = page.evaluate(PLACES)
            apart = abs(places[0] - places[1]) if len(places) == 2 else 9.0
            if apart < 0.04:
                break
            page.wait_for_timeout(100)
        self.assertLess(apart, 0.04)
        page.get_by_role("button", name="Pause Space").click()
        # A frame on is a frame on, and the picture goes along.
        page.get_by_role("button", name="On .").click()
        before = self.at_s
        page.get_by_role("button", name="On .").click()
        self.assertAlmostEqual(self.at_s - before, 1 / 30, delta=0.002)
        page.get_by_role("button", name="Plays P").click()
        self.until(f"({HEARD})().join() === 'program'")
        # A stretch across the end of a line; what was pressed meanwhile may have moved the page.
        lines.scroll_into_view_if_needed()
        box = lines.bounding_box()
        page.mouse.move(box["x"] + box["width"] * 0.8, box["y"] + 50)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] * 0.2, box["y"] + box["height"] - 12, steps=6)
        page.mouse.up()
        expect(page.locator("[data-take-place]")).to_contain_text("to 0:1")
        page.get_by_label("Picture", exact=True).select_option(label="Desk webcam")
        page.get_by_role("button", name="Hide it").click()
        self.saved()
        kinds = [type(c) for c in self.cues]
        self.assertEqual((kinds.count(Hide), kinds.count(Show)), (1, 1))
        expect(page.locator("[data-part=take-marks]")).to_contain_text("Desk webcam hidden")
        page.get_by_role("button", name="Back to what was recorded").click()
        expect(page.locator("[data-part=take-marks]")).not_to_contain_text("Desk webcam hidden")

    def test_7_a_layer_is_placed_for_a_stretch_in_the_player(self):
        page = self.page
        page.locator("[data-lines]").press("Home")
        page.keyboard.press("x")
        expect(page.locator("[data-stage-words]")).to_contain_text("nothing can be moved")
        for key in ("ArrowRight",) * 5 + ("Shift+ArrowRight",) * 3:
            page.keyboard.press(key)
        self.until("document.querySelector('[data-stage]').dataset.at === '5.0000'")
        layer = page.locator("[data-stage] [data-layer]").last
        expect(layer).to_be_visible()
        before = layer.bounding_box()
        middle = before["x"] + before["width"] / 2, before["y"] + before["height"] / 2
        page.mouse.move(*middle)
        page.mouse.down()
        page.mouse.move(middle[0] - 60, middle[1] - 20, steps=5)
        page.mouse.up()
        self.saved()
        expect(page.locator("[data-part=take-marks]")).to_contain_text("Desk webcam placed")
        placed = self.placed
        self.assertEqual([c.at_ns // 10**9 for c in placed], [5, 8])
        there = placed[0].box.left
        self.assertLess(there, placed[1].box.left - 100)
        # By keys: a step to the right, kept once one stops.
        self.until("document.querySelector('[data-stage] [data-layer]') !== null")
        layer.focus()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowRight")
        self.until_placed(lambda placed: placed[0].box.left == there + 20)
        self.check_page()
        page.keyboard.press("u")
        page.keyboard.press("u")
        self.until_placed(lambda placed: not placed)
        # What was pressed last is kept however soon the page is left.
        self.until("document.querySelector('[data-stage] [data-layer]') !== null")
        layer.focus()
        page.keyboard.press("ArrowRight")
        page.goto(self.base)
        self.until_placed(lambda placed: len(placed) == 2)

    def test_4_what_was_changed_plays_from_its_plan_picture_and_sound_together(self):
        page = self.page
        page.add_init_script(TAPPED)
        page.reload()
        self.until("document.body.dataset.ready === 'take'")
        page.locator("[data-lines]").press("Home")
        page.get_by_label("Picture", exact=True).select_option(label="Desk webcam")
        page.get_by_role("button", name="Hide it").click()
        self.saved()
        page.get_by_role("button", name="Cancel").first.click()
        self.until("document.querySelector('plan-media')?.dataset.shows === '0.0000'")
        page.get_by_role("button", name="Play Space").click()
        in_time = f"tapped.seen.filter((s, n, all) => n && s[0] - all[n - 1][0] < {WHILE_S})"
        ended = "document.querySelector('plan-media').ended"
        self.until(f"({in_time}.length > 80 && tapped.sound.length > 60) || {ended}")
        page.get_by_role("button", name="Pause Space").click()
        tapped = page.evaluate("({sound: tapped.sound, seen: tapped.seen})")
        show = show_of_take(self.folder)
        self.addCleanup(show.close)
        mix = ProgramMix(show.plan, show.sounds.read).read(show.plan.samples)[0, 2::6]
        # By what each piece of sound holds, where it is heard; after it the sound stands still.
        heard = [(when, program_s(mix, np.array(thin))) for when, thin in tapped["sound"]]
        begins, programs = (np.array(row) for row in zip(*heard, strict=True))
        seen = np.array([row for row in tapped["seen"] if row[0] > begins[0]])
        number = np.searchsorted(begins, seen[:, 0], side="right") - 1
        lengths_s = np.array([len(thin) / THIN_HZ for _, thin in tapped["sound"]])[number]
        sounds_s = programs[number] + np.minimum(seen[:, 0] - begins[number], lengths_s)
        # A picture that is late is seen only where none was for a while (on a busy machine).
        in_time = np.diff(seen[:, 0], prepend=seen[0, 0] - 1) < WHILE_S
        self.assertGreater(in_time.sum(), 20)
        self.assertLess(np.median(np.abs(sounds_s - seen[:, 1])[in_time]), 0.04)
        self.loop_without_a_gap()
        # A jump, and a step of one frame.
        page.locator("[data-lines]").press("ArrowRight")
        page.get_by_role("button", name="On .").click()
        self.until(
            "Math.abs(document.querySelector('plan-media').dataset.shows"
            " - document.querySelector('plan-media').currentTime) < 0.001"
        )
        page.locator("[data-lines]").press("u")
        self.saved()

    def loop_without_a_gap(self):
        """A second, over and over: pictures go round."""
        page = self.page
        lines = page.locator("[data-lines]")
        lines.press("Home")
        lines.press("Shift+ArrowRight")
        page.get_by_role("button", name="Loop L").click()
        page.get_by_role("button", name="Play Space").click()
        self.until("tapped.seen.length > 10")
        page.evaluate("tapped.turns.length = tapped.seen.length = 0")
        # It goes round and round in one turn, whose sound is laid end to end; what the page learns
        # meanwhile does not begin another one.
        for _ in range(20):
            page.evaluate("document.dispatchEvent(new CustomEvent('parts:swapped'))")
            page.wait_for_timeout(60)
        self.until("""(() => {
            return tapped.seen.filter((s, n, all) => n && s[1] < all[n - 1][1]).length >= 3;
        })()""")
        self.assertEqual(page.evaluate("new Set(tapped.turns).size"), 1)
        page.get_by_role("button", name="Pause Space").click()
        page.get_by_role("button", name="Loop L").click()
        self.assertLess(max(page.evaluate("tapped.seen.map((s) => s[1])")), 1.05)

    def test_5_its_scenes_and_sound_are_changed_on_the_pages_of_a_rig(self):
        page, keys = self.page, self.page.keyboard
        recorded = self.folder.read_info().rig_values.scene("scene-1")
        page.locator("[data-lines]").press("d")
        sheet = "document.querySelector('[data-sheet]')?.dataset.drawn"
        self.until(f"Number({sheet}) > 0")
        self.check_page()
        page.locator("[data-stack]").get_by_role("link", name="Desk webcam").click()
        keys.press("ArrowLeft")
        self.saved()
        self.until("document.querySelector('plan-media').src.endsWith('=2')")
        changed = json.loads(self.folder.rig_path.read_text())["scenes"][0]["layers"][1]
        self.assertEqual(changed["box"]["left"], recorded.layers[1].box.left - 1)
        before = page.evaluate(sheet)
        page.get_by_label("Place in the take").fill("7.5")
        self.until("document.querySelector('plan-media').dataset.shows === '7.5000'")
        self.until(f"Number({sheet}) > {before}")
        page.get_by_role("link", name="Sound", exact=True).click()
        expect(page.get_by_label("Place in the take")).to_be_visible()
        page.locator("body").press(" ")
        expect(page.locator("[data-bar-word]")).to_have_text("Pause")
        self.until("document.querySelector('plan-media').currentTime > 7.8")
        page.locator("body").press(" ")
        page.get_by_role("button", name="Compare the 10 s before here L").click()
        expect(page.locator(".compare-numbers")).to_be_visible()
        self.check_page()
        page.get_by_role("button", name="As it was recorded W").click()
        expect(page.get_by_text("Scenes and sound are as they were recorded")).to_be_visible()
        self.assertFalse(self.folder.rig_path.exists())
        page.get_by_role("link", name="Take", exact=True).click()
        page.wait_for_url("**/takes/*/")
        self.until("document.body.dataset.ready === 'take'")
        self.assertGreater(self.at_s, 7.7)

    def test_6_what_another_page_changes_is_shown_and_told(self):
        page = self.page
        other = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(other.close)
        other.goto(page.url)
        other.locator("[data-part=afterwards]").get_by_placeholder("good").fill("seen there")
        other.get_by_role("button", name="Mark it").click()
        told = page.locator("[data-saved]").first
        expect(told).to_contain_text("Changed on another page")
        expect(page.locator("[data-part=take-marks] input[value='seen there']")).to_be_visible()
        page.locator("#undo").click()
        expect(other.locator("[data-part=take-marks] input[value='seen there']")).to_have_count(0)

    def test_3_a_track_is_moved_by_hand_and_put_back(self):
        page = self.page
        # A file that can't be loaded is told, over what plays from its plan too, and tried again.
        page.locator("[data-lines]").press("h")
        expect(page.locator("plan-media[data-plays=program]")).to_be_visible()
        page.route("**/headset/*", lambda route: route.abort())
        page.get_by_role("button", name="Hear Headset alone").click()
        told = page.locator("[data-take-lost]")
        expect(told).to_contain_text("Headset cannot be loaded")
        self.assertTrue(told.evaluate(ON_TOP))
        page.unroute("**/headset/*")
        page.get_by_role("button", name="Play Space").click()
        headset = "document.querySelector('[data-plays=headset]')"
        self.until(f"!{headset}.paused && {headset}.currentTime > 0.1")
        expect(told).to_be_empty()
        page.get_by_role("button", name="Pause Space").click()
        page.locator("[data-take=program]").click()
        page.locator("#undo").click()
        self.saved()
        page.get_by_text("Sync: how it was measured").click()
        page.get_by_role("button", name="Headset: + 1 ms").click()
        page.get_by_role("button", name="Loop two seconds here").click()
        expect(page.get_by_role("button", name="Loop L")).to_have_attribute("aria-pressed", "true")
        self.until("[...document.querySelectorAll('[data-plays]')].some(e => !e.paused)")
        page.get_by_role("button", name="Play the tracks as they came").click()
        self.until(f"({HEARD})().join() === 'headset,system'")
        page.get_by_role("button", name="Pause Space").click()
        field = page.get_by_label("Headset: later by, in ms")
        expect(field).to_have_value("1")
        field.fill("9000")
        field.press("Tab")
        expect(page.locator("[data-part=take-sync]")).to_contain_text("at most 5000 ms")
        field.fill("0")
        field.press("Tab")
        self.saved()
        self.assertEqual(read_afterwards(self.folder)[0].nudges, ())
        self.check_page()

    def test_2_all_of_it_by_keys_alone(self):
        page, keys = self.page, self.page.keyboard
        page.locator("[data-lines]").focus()
        for key in ("Home", "ArrowRight", "ArrowRight", "ArrowRight"):
            keys.press(key)
        self.assertAlmostEqual(self.at_s, 3.0, delta=0.01)
        keys.press("Shift+ArrowRight")
        keys.press("Shift+ArrowRight")
        expect(page.locator("[data-take-place]")).to_have_text("0:03.0 to 0:05.0, 2.0 s")
        keys.press("Tab")
        near = page.locator("[data-take-near]").inner_text()
        keys.press("n")
        expect(page.locator("[data-take-near]")).not_to_have_text(near)
        keys.press("f")
        keys.press("l")
        page.locator("[data-lines]").focus()
        keys.press(" ")
        self.until("!document.querySelector('[data-plays]').paused")
        keys.press(" ")
        self.until("document.querySelector('[data-plays]').paused")
        self.assertLessEqual(self.at_s, 5.1)
        keys.press("m")
        self.saved()
        mark = next(c for c in self.cues if isinstance(c, Mark) and c.until_ns)
        self.assertEqual((mark.at_ns, mark.until_ns), (3 * 10**9, 5 * 10**9))
        keys.press("h")
        expect(page.locator("[data-part=take-marks]")).to_contain_text("Main display hidden")
        keys.press("u")
        expect(page.locator("[data-part=take-marks]")).not_to_contain_text("Main display hidden")
        keys.press("u")
        self.saved()
        self.assertEqual(self.cues, ())
        page.locator("[data-lanes]").focus()
        before = self.at_s
        keys.press("ArrowLeft")
        self.assertAlmostEqual(before - self.at_s, 1 / 30, delta=1 / 30)
        keys.press("?")
        expect(page.get_by_role("dialog", name="Keys of this page")).to_contain_text("Mark it")
        keys.press("Escape")
        self.assertEqual(self.problems, [])


def program_s(mix, piece):
    """The program time at which a piece of its mix lies, in s."""
    found = correlate(mix, piece, "valid", "fft")
    energy = np.sqrt(np.convolve(np.square(mix), np.ones(piece.size), "valid") + 1e-9)
    return int(np.argmax(found / energy)) / THIN_HZ
