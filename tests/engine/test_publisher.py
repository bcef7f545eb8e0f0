"""What pages are sent: pictures as they are used, in the sizes asked for, and only those."""

import json
import time
import unittest
from contextlib import suppress
from dataclasses import replace
from fractions import Fraction

import av
import cv2
import numpy as np
import zmq
from django.test import tag

from kettle_core.errors import EngineError
from kettle_core.picture.picture import Picture, rgb_to_picture
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card, Input, Looks, Rig, input_of_device
from kettle_core.rig.used_picture import as_used
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver, Layer, Scene
from kettle_engine.addresses import live_address
from kettle_engine.pace import REFRESH
from kettle_engine.protocol import LEVELS, STATUS, after_topic, hear_topic, picture_topic
from kettle_engine.viewing.small import small_picture
from kettle_media.picture.jpeg import picture_to_page_jpeg
from kettle_media.rig_document import SCENE, rig_to_dict
from kettle_studio.driver import Studio
from tests.engine.process import EngineProcess
from tests.fixtures import ROOT


def quadrants(width, height):
    """A picture whose four quarters are 40, 90, 140, 190 bright, in reading order."""
    y = np.zeros((height, width), np.uint8)
    y[: height // 2, : width // 2], y[: height // 2, width // 2 :] = 40, 90
    y[height // 2 :, : width // 2], y[height // 2 :, width // 2 :] = 140, 190
    half = np.full((height // 2, width // 2), 128, np.uint8)
    return Picture(y, half, half.copy())


def corners(picture):
    y = picture.y
    return [int(y[2, 2]), int(y[2, -3]), int(y[-3, 2]), int(y[-3, -3])]


class Small(unittest.TestCase):
    def test_a_picture_is_fitted_turned_mirrored_and_cropped_as_it_is_used(self):
        for width, height in ((1920, 1080), (3840, 2160), (640, 360)):
            source = quadrants(width, height)
            cases = (
                (Looks(), (240, 134), [40, 90, 140, 190]),
                (Looks(turn=180), (240, 134), [190, 140, 90, 40]),
                (Looks(mirrored=True), (240, 134), [90, 40, 190, 140]),
                (Looks(turn=90), (76, 136), [140, 40, 190, 90]),
                (Looks(crop=Box(width // 2, 0, width // 2, height // 2)), (240, 134), [90] * 4),
            )
            for looks, size, values in cases:
                small = small_picture(as_used(source, looks), 240, 136)
                self.assertLessEqual(abs(small.width - size[0]) + abs(small.height - size[1]), 4)
                self.assertLess(np.abs(np.subtract(corners(small), values)).max(), 3)

    def test_a_small_picture_is_not_blown_up_and_clear_parts_show_the_ground(self):
        rgb = np.zeros((20, 30, 3), np.uint8)
        picture = rgb_to_picture(rgb)
        cover = np.zeros((20, 30), np.uint8)
        cover[:, :16] = 255
        seen = small_picture(Picture(picture.y, picture.u, picture.v, cover), 240, 136)
        self.assertEqual((seen.width, seen.height), (30, 20))
        self.assertLess(int(seen.y[5, 5]), 20)
        self.assertGreater(int(seen.y[5, 25]), 190)


class PageJpeg(unittest.TestCase):
    def test_colours_are_those_of_the_picture(self):
        colours = [(16, 16, 16), (235, 235, 235), (180, 40, 40), (40, 160, 60), (50, 60, 190)]
        rgb = np.zeros((64, 64 * len(colours), 3), np.uint8)
        for number, colour in enumerate(colours):
            rgb[:, 64 * number : 64 * (number + 1)] = colour
        jpeg = picture_to_page_jpeg(rgb_to_picture(rgb), 95)
        shown = cv2.imdecode(np.frombuffer(jpeg, np.uint8), 1)[:, :, ::-1]
        for number, colour in enumerate(colours):
            found = shown[20:44, 64 * number + 20 : 64 * number + 44].mean(axis=(0, 1))
            np.testing.assert_allclose(found, colour, atol=4)


@tag("realtime")
class Published(unittest.TestCase):
    def setUp(self):
        infos = {d.id: d for d in Studio().list_devices()}
        names = ("display-2", "tablet", "headset")
        items = [input_of_device(infos[n], n) for n in names]
        card = Input("card", "Card", "text", "", Mode(320, 180), False, card=Card("Card"))
        off = replace(input_of_device(infos["webcam-1"], "webcam-1"), on=False)
        scene = Scene("scene-1", "One", (), ())
        self.rig = Rig("Rig", (*items, card, off), (scene,), Format(640, 360, Fraction(30)))
        self.engine = EngineProcess(self, ROOT / f"data-{self._testMethodName}")
        self.ask = self.engine.client.ask
        self.socket = zmq.Context.instance().socket(zmq.SUB)
        self.addCleanup(self.socket.close, 0)
        self.socket.connect(live_address(self.engine.data))

    def open(self, rig=None, **more):
        self.ask("open_rig", rig=rig_to_dict(rig or self.rig), **more)

    def watch(self, *topics):
        for topic in topics:
            self.socket.subscribe(topic)

    def until(self, holds, seconds=30):
        """Messages by topic, newest of each, until something holds."""
        seen, deadline = {}, time.monotonic() + seconds
        while not holds(seen):
            self.assertLess(time.monotonic(), deadline, list(seen))
            if self.socket.poll(100):
                topic, header, body = self.socket.recv_multipart()
                seen[topic] = (json.loads(header), body)
        return seen

    def state_of(self, seen, name, key):
        return seen.get(STATUS, ({},))[0].get("inputs", {}).get(name, {}).get(key)

    def test_only_what_is_watched_is_sent_and_states_are_told_in_words(self):
        small, large = picture_topic("small", "tablet"), picture_topic("large", "display-2")
        card = picture_topic("small", "card")
        self.watch(STATUS, LEVELS, small, large, card)
        self.open()
        seen = self.until(lambda s: {small, large, card, LEVELS} <= s.keys())
        self.assertEqual(set(seen) - {STATUS}, {small, large, card, LEVELS})
        self.until(lambda s: s.get(LEVELS, ({},))[0].keys() == {"headset"})
        shape = cv2.imdecode(np.frombuffer(seen[large][1], np.uint8), 1).shape
        self.assertEqual(shape, (540, 960, 3))
        words = self.until(lambda s: self.state_of(s, "headset", "words") == "hears you")
        self.assertEqual(words[STATUS][0]["inputs"].keys(), {"display-2", "tablet", "headset"})
        self.ask("fault", device="tablet", fault="busy", on=True)
        told = self.until(lambda s: self.state_of(s, "tablet", "state") == "fault")
        self.assertEqual(self.state_of(told, "tablet", "words"), "busy in another program")
        self.ask("fault", device="tablet", fault="busy", on=False)
        self.until(lambda s: self.state_of(s, "tablet", "state") == "live")

    def test_a_scene_is_shown_as_it_is_tried_then_as_it_is_kept_and_its_change_is_played(self):
        white = Card("White", backdrop="#ffffff", colour="#ffffff")
        card = Input("card", "Card", "text", "", Mode(320, 180), False, card=white)
        layer = Layer("card", "card", Box(0, 0, 320, 180), Box(0, 0, 320, 180))
        first = Scene("scene-1", "One", (layer,), ())
        whole = replace(layer, box=Box(0, 0, 640, 360))
        second = Scene("scene-2", "Two", (whole,), (), change_over=ChangeOver("crossfade", 200))
        inputs = tuple(card if i.id == "card" else i for i in self.rig.inputs)
        sheet = picture_topic("scene", "scene:scene-1")
        self.watch(sheet)
        self.open(replace(self.rig, inputs=inputs, scenes=(first, second)))
        corners = []

        def looks(seen, wanted):
            """Whether the sheet's upper left and lower right are white or not, as wanted."""
            if sheet in seen:
                grey = cv2.imdecode(np.frombuffer(seen[sheet][1], np.uint8), 0)
                corners[:] = [bool(grey[40, 40] > 200), bool(grey[-40, -40] > 200)]
            return corners == wanted

        self.until(lambda s: looks(s, [True, False]))
        moved = replace(first, layers=(replace(layer, box=Box(320, 180, 320, 180)),))
        self.ask("try_scene", scene=SCENE.plain(moved))
        self.until(lambda s: looks(s, [False, True]))
        place = {"scene": "scene-1", "layer": "card"}
        self.assertEqual(self.ask("pick_colour", **place, x=20, y=20), "#ffffff")
        with self.assertRaisesRegex(EngineError, "no picture at this place"):
            self.ask("pick_colour", **place, x=600, y=20)
        # What is tried lapses by itself; a change-over that is played ends by itself.
        self.until(lambda s: looks(s, [True, False]))
        self.ask("play_change", scene="scene-1", to="scene-2")
        self.until(lambda s: looks(s, [True, True]))
        self.until(lambda s: looks(s, [True, False]))

    def test_identify_lays_a_label_over_displays_only(self):
        display, tablet = (picture_topic("small", n) for n in ("display-2", "tablet"))
        self.watch(display, tablet)
        self.open()
        before = self.until(lambda s: {display, tablet} <= s.keys())
        self.ask("identify")
        after = self.until(lambda s: display in s and
                           self.difference(before[display], s[display]) > 20)  # fmt: skip
        if tablet in after:
            self.assertLess(self.difference(before[tablet], after[tablet]), 40)
        self.until(lambda s: display in s and self.difference(before[display], s[display]) < 8, 20)

    @staticmethod
    def middle(message):
        picture = cv2.imdecode(np.frombuffer(message[1], np.uint8), 1)
        rows, columns = picture.shape[:2]
        return picture[rows // 3 : rows * 2 // 3, columns // 6 : columns * 5 // 6].astype(int)

    def difference(self, one, other):
        return float(np.abs(self.middle(one) - self.middle(other)).mean())

    def test_spares_are_opened_for_a_while_and_let_go_again(self):
        self.watch(STATUS)
        asked = [0.0]

        def live(seen):
            # As a page that shows them does.
            if time.monotonic() > asked[0] + 2:
                asked[0] = time.monotonic()
                self.open(spares=True)
            return self.state_of(seen, "spare-webcam-1", "state") == "live"

        seen = self.until(live)
        spares = seen[STATUS][0]["inputs"].keys() - {i.id for i in self.rig.inputs}
        self.assertIn("spare-display-1/quirefold", spares)
        self.assertNotIn("spare-tablet", spares)
        self.until(lambda s: self.state_of(s, "headset", "state") == "live" and
                   not any(n.startswith("spare-") for n in s[STATUS][0]["inputs"]))  # fmt: skip

    def test_all_of_a_display_is_shown_where_a_region_of_it_is_drawn(self):
        region = Looks(crop=Box(0, 0, 640, 360))
        inputs = [replace(i, looks=region) if i.id == "display-2" else i for i in self.rig.inputs]
        whole, part = (picture_topic(size, "display-2") for size in ("whole", "large"))
        self.watch(whole, part)
        self.open(replace(self.rig, inputs=tuple(inputs)))
        seen = self.until(lambda s: {whole, part} <= s.keys())
        self.assertEqual((seen[part][0]["width"], seen[part][0]["height"]), (640, 360))
        self.assertEqual((seen[whole][0]["width"], seen[whole][0]["height"]), (2560, 1440))

    def test_who_wants_it_is_shown_what_is_new_less_often_and_hears_all_the_same(self):
        self.engine.end()
        self.engine.environment[REFRESH] = "2"
        self.engine.start()
        hear = hear_topic("headset")
        self.watch(LEVELS, after_topic("headset"), hear)
        self.open()
        self.until(lambda s: {LEVELS, hear} <= s.keys())
        began, sent, heard = time.monotonic(), 0, []
        while time.monotonic() < began + 3:
            if self.socket.poll(100):
                topic, _, body = self.socket.recv_multipart()
                sent += topic == LEVELS
                heard += [len(body) / 2 / 48_000] if topic == hear else []
        self.assertTrue(1 <= sent <= 2 * (time.monotonic() - began) + 2, sent)
        # What is heard comes in short blocks, not twice a second.
        self.assertLess(np.median(heard), 0.3)

    def test_what_was_heard_is_kept_for_the_last_seconds(self):
        self.open()

        def heard():
            with suppress(EngineError):
                found = self.ask("hear", input="headset", seconds=2, name="test")
                return found if found["seconds"] >= 2 else None

        found = self.engine.until(heard)
        self.assertEqual(found["seconds"], 2.0)
        with av.open(str(self.engine.data / "heard" / "test-raw.flac")) as container:
            self.assertEqual(sum(f.samples for f in container.decode(audio=0)), 96_000)
