"""What is told of a take's losses, while it goes on and when it has ended."""

import unittest
from dataclasses import replace
from types import SimpleNamespace

from kettle_engine.recording.drops import BUSY
from kettle_engine.recording.losses import MOST_KEPT, TOLD_FOR_NS, Losses
from tests.engine.test_track import SCREEN, VOICE

S = 10**9


def tracks(**dropped):
    """Tracks that have written 90 each and dropped some."""
    return {
        item.id: SimpleNamespace(input=item, written=90, dropped=dropped.get(item.id, 0))
        for item in (SCREEN, VOICE)
    }


def counts(**dropped):
    return {name: (90, dropped.get(name, 0)) for name in (SCREEN.id, VOICE.id)}


class Telling(unittest.TestCase):
    def setUp(self):
        self.journal = []
        self.losses = Losses((SCREEN, VOICE), self.note, {"screen": "32 × 24 px · 30 fps"})

    def note(self, what, at_ns, **values):
        self.journal.append((what, at_ns, values))

    def test_drops_are_told_while_they_go_on_noted_once_and_kept_on_the_whole(self):
        for second in (12, 13):
            self.losses.dropped("screen", 4, BUSY, second * S, 60 + second)
        (sentence,) = self.losses.now(tracks(screen=8))
        self.assertIn("8 of 9 frames dropped since 0:12, the machine is too busy", sentence)
        self.assertIn("sound is whole", sentence)
        self.assertIn("or record it as 32 × 24 px", sentence)
        self.assertNotIn("whole", self.losses.now(tracks(screen=8, voice=1))[0])
        self.losses.look(14 * S)
        self.losses.look(16 * S)
        self.assertEqual(self.losses.now(tracks(screen=8)), [])
        self.assertEqual([row[0] for row in self.journal],
                         ["frames are dropped", "frames were dropped"])  # fmt: skip
        self.assertEqual(self.losses.of(counts(screen=8)), ["Screen: 8 of 98 frames were dropped."])
        self.losses.dropped("screen", 1, BUSY, 20 * S, 100)
        self.losses.end("screen")
        self.assertEqual(self.journal[-1][0], "frames were dropped")

    def test_a_device_that_was_away_is_told_for_a_while_and_kept(self):
        self.losses.gap("voice", 30_000_000, 5 * S)
        self.assertEqual((self.journal, self.losses.now(tracks())), ([], []))
        self.losses.gap("voice", 530_000_000, 72 * S)
        told = "Voice: 0.5 s are missing before 1:12, its device was away."
        self.assertEqual(self.losses.now(tracks()), [told])
        self.losses.look(72 * S + TOLD_FOR_NS)
        self.assertEqual(self.losses.now(tracks()), [])
        self.assertEqual(self.losses.of(counts()), [told])
        for number in range(MOST_KEPT + 2):
            self.losses.gap("voice", S, (80 + 3 * number) * S)
        kept = self.losses.of(counts())
        self.assertEqual(len(kept), MOST_KEPT + 1)
        self.assertEqual(kept[-1], "3 more such gaps are in the journal.")

    def test_what_was_away_at_one_moment_is_told_in_one_sentence(self):
        self.losses.gap("voice", 400_000_000, 10 * S + S // 2)
        self.losses.gap("screen", 200_000_000, 10 * S)
        told = "Screen and Voice: up to 0.4 s are missing before 0:10, their devices were away."
        self.assertEqual(self.losses.of(counts()), [told])
        self.assertEqual(self.losses.now(tracks()), [told])

    def test_a_name_of_the_users_own_is_used(self):
        losses = Losses((replace(VOICE, name="Odile"),), self.note, {})
        losses.gap("voice", S, S)
        self.assertIn("Odile: 1.0 s", losses.of({})[0])
