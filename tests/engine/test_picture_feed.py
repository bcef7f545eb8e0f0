"""How often pages are sent pictures: what shows gives way to what records."""

import unittest
from collections import Counter
from itertools import count, pairwise
from types import SimpleNamespace
from unittest import mock

from kettle_engine.protocol import PROGRAM, RECORDING, WATCHING, picture_topic
from kettle_engine.viewing.live import Newest
from kettle_engine.viewing.outbox import Outbox
from kettle_engine.viewing.picture_feed import PictureFeed
from kettle_engine.viewing.publisher import Publisher
from kettle_studio.demo import demo_rig
from tests.engine.test_publisher import quadrants

WEBCAM = next(i for i in demo_rig().inputs if i.kind == "webcam")
PICTURE = quadrants(320, 180)


class Kept(Outbox):
    """Keeps what is sent."""

    def __init__(self):
        self._sent, self.found = {}, Counter()
        self.watched = {picture_topic(size, WEBCAM.id): 1 for size in ("small", "large")}

    def send(self, topic, header, body=b""):
        self.found[topic.split(b"/")[1].decode()] += 1


class Rates(unittest.TestCase):
    def sent(self, state):
        """Pictures of each size in 10 s in which there is a new one every 20 ms."""
        numbers = count()
        live = SimpleNamespace(
            inputs={WEBCAM.id: WEBCAM},
            newest=lambda name: Newest(PICTURE, next(numbers)),
            played=None,
            tried={},
            rig=demo_rig(),
        )
        shows = SimpleNamespace(
            live=live, status=lambda: {"state": state}, tell_wanted=lambda names: None
        )
        outbox = Kept()
        feed = PictureFeed(shows, outbox, None, None, lambda: None)
        with mock.patch("kettle_engine.viewing.outbox.time") as clock:
            for step in range(500):
                clock.monotonic.return_value = 1000 + step * 0.02
                feed.pictures(live)
        return outbox.found

    def test_small_pictures_come_five_times_a_second_while_a_take_is_recorded(self):
        watching, recording = self.sent(WATCHING), self.sent(RECORDING)
        self.assertEqual(recording["large"], watching["large"])
        self.assertEqual(watching["small"], watching["large"])
        self.assertAlmostEqual(recording["small"], 50, delta=3)
        self.assertGreater(watching["small"], 100)

    def programs(self, dragged_every_s):
        """At which of 2 s of a take its program is drawn while a layer is dragged."""
        drawn, now_s, dragged_s = [], 1000.0, 1000.0
        live = SimpleNamespace(tried={}, played=None, meters={})
        status = {"state": RECORDING}
        shows = SimpleNamespace(live=live, status=lambda: status, tell_wanted=lambda names: None)
        draw = mock.patch.object(PictureFeed, "program", lambda feed, live: drawn.append(now_s))
        self.enterContext(draw)
        self.enterContext(mock.patch.object(PictureFeed, "pictures"))
        publisher = Publisher(shows, f"inproc://{self.id()}-{dragged_every_s}", None, None)
        self.addCleanup(publisher.close)
        publisher._outbox.watched = {PROGRAM: 1}
        with mock.patch("kettle_engine.viewing.publisher.time") as clock:
            for step in range(200):
                now_s = clock.monotonic.return_value = 1000 + step * 0.01
                if now_s >= dragged_s:
                    dragged_s += dragged_every_s
                    publisher.show_program_now()
                publisher.step()
        return drawn

    def test_a_program_in_which_a_layer_is_dragged_is_drawn_at_once_and_once_for_each_step(self):
        self.assertAlmostEqual(len(self.programs(dragged_every_s=10.0)), 16, delta=1)
        drawn = self.programs(dragged_every_s=0.1)
        self.assertAlmostEqual(len(drawn), 20, delta=1)
        self.assertTrue(all(0.09 < b - a < 0.11 for a, b in pairwise(drawn)), drawn)
