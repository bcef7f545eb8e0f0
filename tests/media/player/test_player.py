"""What is played of a plan is what the plan says, from anywhere on, at any speed."""

import json
import os
import signal
import socket
import threading
import time
import unittest
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import simplejpeg

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.picture.picture import picture_from_i420
from kettle_core.program.afterwards import Afterwards, Nudge
from kettle_core.program.cues import GoOn, Hide, Pause, ToScene
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_core.rig.sound_changes import with_tone
from kettle_core.sound.tone import Tone
from kettle_core.timing.time_map import Source
from kettle_engine.viewing.take_live import TakeLive
from kettle_media.assembly.open_takes import open_take
from kettle_media.player.messages import LENGTH, Message
from kettle_media.player.nest import Nest
from kettle_media.player.player import Order, Player
from kettle_media.player.process import PlayerProcess
from kettle_media.player.show import measure, named_cuts, named_take, show_named, show_of_take
from kettle_media.player.tempo import Tempo
from kettle_media.program.mix import ProgramMix
from kettle_media.program.renderer import Renderer
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.afterwards import follow_cues, write_afterwards
from kettle_media.take.align import align_take, go_on
from kettle_media.take.cues import write_cues
from kettle_media.take.rig_now import write_rig_now
from kettle_media.take.sync_report import read_sync
from tests.fixtures import copied_take

S = 10**9
HZ = 48_000
MOVED = Afterwards(nudges=(Nudge("display-1", 200.0),))
CUES = (ToScene(0, "scene-1"), Pause(S), GoOn(2 * S), Hide(3 * S, "webcam-1"))


def played(player, order, until):
    """The messages of an order until something holds of them."""
    player.order(order)
    found = []
    while not until(found):
        message = player.make()
        if message is None:
            break
        found.append(message)
    return found


def sound_of(messages):
    parts = [m.body for m in messages if m.kind == Message.SOUND]
    return np.frombuffer(b"".join(parts), "<i2").reshape(-1, 2).T / 32768


def enough_sound(seconds):
    return lambda found: sound_of(found).shape[1] >= seconds * HZ


class Played(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = copied_take("played", part=1)
        write_cues(cls.folder, CUES)
        cls.show = show_of_take(cls.folder)
        cls.addClassCleanup(cls.show.close)
        cls.clock = 0.0

    def setUp(self):
        self.player = Player(self.show, lambda: self.clock)

    def test_pictures_are_those_of_the_plan_after_any_jump(self):
        info = self.folder.read_info()
        sources = TakeSources(self.folder, info, align_take(self.folder, info))
        self.addCleanup(sources.close)
        said = follow_cues(self.folder, sources.rig)
        plan, _ = plan_take(sources.rig, said, info.id, sources.length_ns)
        whole = Renderer(plan, {Source("take", info.id): sources}, sources.masks())
        self.assertEqual(self.show.plan.frame_size, (960, 540))
        for turn, number in enumerate((0, 70, 31, 30, 29, plan.frames - 1)):
            order = Order(turn, number / 30)
            (message,) = played(self.player, order, lambda found: found)
            self.assertIsNone(self.player.make())
            small = simplejpeg.decode_jpeg(message.body, colorspace="GRAY")[..., 0].astype(float)
            luma = picture_from_i420(whole.frame(number)).y
            wanted = cv2.resize(
                np.ascontiguousarray(luma), small.shape[::-1], 0, 0, 0, cv2.INTER_AREA
            )
            wanted = (wanted.astype(float) - 16) * 255 / 219
            self.assertLess(np.abs(small - wanted).mean(), 3.0, number)
            other = picture_from_i420(whole.frame((number + 45) % plan.frames)).y
            self.assertGreater(np.abs(luma.astype(float) - other).mean(), 0.1)

    def test_sound_is_that_of_the_mix_from_anywhere_on(self):
        mix = ProgramMix(self.show.plan, self.show.sounds.read)
        whole = np.concatenate([mix.read(self.show.plan.samples), mix.flush()], axis=1)
        for turn, at_s in enumerate((0.0, 1.37, 0.4)):
            found = played(self.player, Order(turn, at_s, True), enough_sound(0.5))
            heard, first = sound_of(found), round(at_s * HZ)
            wanted = whole[:, first : first + heard.shape[1]]
            np.testing.assert_allclose(heard, wanted, atol=2e-3)
            self.assertEqual(next(m for m in found if m.kind == Message.SOUND).at_s, first / HZ)

    def test_it_ends_with_the_plan(self):
        length_s = self.show.plan.samples / HZ
        ended = lambda found: any(m.kind == Message.END for m in found)  # noqa: E731
        found = played(self.player, Order(1, length_s - 0.2, True), ended)
        self.assertAlmostEqual(found[-1].at_s, length_s, places=3)
        self.assertEqual(sound_of(found).shape[1], round(0.2 * HZ))
        for rate in (0.5, 1.0, 2.0):
            found = played(self.player, Order(round(10 * rate), length_s + 5, True, rate), ended)
            self.assertTrue(all(m.body for m in found if m.kind == Message.SOUND))

    def test_a_loop_runs_on_without_a_gap_and_shows_what_is_heard(self):
        mix = ProgramMix(self.show.plan, self.show.sounds.read)
        whole = np.concatenate([mix.read(self.show.plan.samples), mix.flush()], axis=1)
        loop = (0.5, 1.1)
        self.player.order(Order(1, 0.8, True, 1.0, loop))
        found = []
        while sound_of(found).shape[1] < 1.4 * HZ:
            message = self.player.make()
            if message is None:
                heard_s = sound_of(found).shape[1] / HZ - 0.1
                self.player.order(Order(1, 0.8 + heard_s, True, 1.0, loop))
            else:
                found.append(message)
        while message := self.player.make():
            found.append(message)
        heard = sound_of(found)[:, : round(1.4 * HZ)]
        first, until = round(0.5 * HZ), round(1.1 * HZ)
        again = whole[:, first:until]
        wanted = np.concatenate([whole[:, round(0.8 * HZ) : until], again, again], axis=1)
        error = np.abs(heard - wanted[:, : heard.shape[1]]).max(axis=0)
        # Within 5 ms of a join it fades.
        joins = [round(0.3 * HZ), round(0.9 * HZ)]
        near = np.min([np.abs(np.arange(error.size) - join) for join in joins], axis=0) <= HZ // 200
        self.assertLess(error[~near].max(), 2e-3)
        pictures = [m for m in found if m.kind == Message.PICTURE]
        self.assertGreater(pictures[-1].at_s, 1.2)
        self.assertTrue(all(m.at_s < n.at_s for m, n in pairwise(pictures)))
        # One that runs on over the end is that of its place in the loop.
        late = next(m for m in pictures if m.at_s > 1.15)
        (there,) = played(self.player, Order(2, late.at_s - 0.6), lambda found: found)
        self.assertEqual(late.body, there.body)

    def test_it_goes_over_to_what_was_measured_meanwhile_without_a_gap(self):
        stamped = show_named(named_take(self.folder.path), stamped=True)
        player = Player(stamped, lambda: self.clock)
        found = played(player, Order(1, 0.4, True), enough_sound(0.5))
        player.go_over(self.show)
        stamped.close()
        found += played(player, Order(1, 0.41, True), enough_sound(0.6))
        sounds = [m for m in found if m.kind == Message.SOUND]
        ends = [m.at_s + sound_of([m]).shape[1] / HZ for m in sounds]
        np.testing.assert_allclose([m.at_s for m in sounds[1:]], ends[:-1])
        mix = ProgramMix(self.show.plan, self.show.sounds.read)
        whole = np.concatenate([mix.read(self.show.plan.samples), mix.flush()], axis=1)
        heard, at = sound_of(found), round(0.9 * HZ) - round(0.4 * HZ)
        wanted = whole[:, round(0.4 * HZ) : round(0.4 * HZ) + heard.shape[1]]
        # At the join it is the sound of before, 5 ms later that of now.
        step = np.abs(np.diff(heard[:, at - 10 : at + HZ // 100])).max()
        self.assertLess(step, 2 * np.abs(np.diff(wanted)).max())
        after = at + HZ // 200
        np.testing.assert_allclose(heard[:, after:], wanted[:, after:], atol=2e-3)

    def test_what_would_come_too_late_is_left_out(self):
        player = self.player
        played(player, Order(1, 0.0, True), enough_sound(0.3))
        self.clock += 1.0
        player.order(Order(1, 1.0, True))
        seen = []
        while message := player.make():
            seen += [message.at_s] if message.kind == Message.PICTURE else []
        self.assertGreaterEqual(min(seen), 1.0 - 1 / 24)
        self.assertTrue(all(m > n for n, m in pairwise(seen)))

    def test_where_each_picture_takes_long_they_are_fewer_and_in_time(self):
        for turn, rate in enumerate((1.0, 2.0)):
            self.clock, late, lates, seen = 0.0, 0.0, [], []
            while self.clock * rate < 4.0:
                self.player.order(Order(turn, self.clock * rate, True, rate, late_s=late))
                message, late = self.player.make(), 0.0
                self.clock += 0.1 if message is None else 0.01
                if message and message.kind == Message.PICTURE:
                    self.clock += 0.2
                    late = max(0.0, self.clock - message.at_s / rate)
                    lates.append(late)
                    seen.append(message.at_s)
            # However late it was before, what is seen first is where it begins.
            self.assertEqual(seen[0], 0.0)
            self.assertGreaterEqual(len(lates), 10 / rate)
            self.assertLess(max(lates[3:]), 0.04, lates)

    def test_twice_as_fast_shows_every_other_picture(self):
        found = played(self.player, Order(1, 0.2, True, 2.0), enough_sound(0.4))
        while message := self.player.make():
            found.append(message)
        seen = [m.at_s for m in found if m.kind == Message.PICTURE]
        np.testing.assert_allclose(np.diff(seen), 2 / 24)
        ahead_s = sound_of(found).shape[1] / HZ * 2
        last = [m for m in found if m.kind == Message.SOUND][-1]
        self.assertAlmostEqual(last.at_s + len(last.body) / 4 / HZ * 2, 0.2 + ahead_s, places=5)


class Faster(unittest.TestCase):
    def test_pitch_stays_and_time_runs_at_the_rate(self):
        times = np.arange(4 * HZ) / HZ
        tone = np.tile(np.sin(2 * np.pi * 440 * times), (2, 1)).astype(np.float32)
        tone[:, : 2 * HZ] *= 0.05
        for rate in (0.5, 1.0, 1.5, 2.0):
            tempo = Tempo(rate)
            parts = [tempo.process(block) for block in np.split(tone, 40, axis=1)]
            made = np.concatenate([*parts, tempo.flush()], axis=1)[0]
            self.assertAlmostEqual(made.size / HZ, 4 / rate, delta=0.06)
            middle = made[round(2.5 / rate * HZ) : round(3.5 / rate * HZ)]
            spectrum = np.abs(np.fft.rfft(middle * np.hanning(middle.size)))
            self.assertAlmostEqual(np.argmax(spectrum) * HZ / middle.size, 440, delta=2.1)
            louder = np.flatnonzero(np.abs(made) > 0.5)[0] / HZ
            self.assertAlmostEqual(louder * rate, 2.0, delta=0.04)


class AtOnce(unittest.TestCase):
    def test_a_sound_cleaned_from_anywhere_is_nearly_the_one_that_is_kept(self):
        folder = copied_take("cleaned-at-once")
        info = folder.read_info()
        tone = Tone(suppression=80, low_cut=True)
        small = with_format(info.rig_values, Format(320, 180))
        folder.write_info(replace(info, rig=rig_to_dict(with_tone(small, "headset", tone))))
        info = folder.read_info()
        sync = align_take(folder, info)
        at_once = TakeSources(folder, info, sync, at_once=True)
        kept = TakeSources(folder, info, sync)
        self.addCleanup(at_once.close)
        self.addCleanup(kept.close)
        first = 2 * HZ + 123
        now = np.concatenate(
            [at_once.sound("headset", tone, first + n * 4800, 4800) for n in range(10)], axis=1
        )
        self.assertFalse(folder.cleaned_path.exists())
        wanted = kept.sound("headset", tone, first, HZ)
        self.assertLess(np.std(now - wanted), 0.1 * np.std(wanted))
        back = at_once.sound("headset", tone, first, HZ)
        np.testing.assert_allclose(back[:, 4800:], now[:, 4800:], atol=0.02)

    def test_who_looks_at_a_take_does_not_wait_for_who_is_just_measuring_it(self):
        folder = copied_take("measured-by-another")
        info = folder.read_info()
        cuts = CutList((Piece("p1", info.id, 0, S),))
        named = named_cuts({info.id: folder}, cuts, Format(320, 180), folder.path)
        lookers = {
            "a take's player": lambda: show_of_take(folder),
            "an assembly's": lambda: show_named(named),
            "what shows it on the pages of its rig": lambda: TakeLive(folder),
        }
        for who, looks in lookers.items():
            (folder.path / "sync.json").unlink(missing_ok=True)
            with self.subTest(who), folder.alone(go_on):
                looks().close()
            # Who asks next finds what was measured.
            self.assertIsNotNone(read_sync(folder, list(info.tracks)))


class Line:
    """A line to a player."""

    def __init__(self, nest, folder):
        self.folder, self.socket = folder, nest.player()
        self.socket.settimeout(30)
        self.file = self.socket.makefile("rwb")
        self.open()

    def open(self):
        """Have the take opened, as it is by now."""
        self.play(named_take(self.folder))

    def play(self, named):
        self.file.write(json.dumps({"play": named}).encode() + b"\n")
        self.file.flush()

    def order(self, **order):
        self.file.write(json.dumps({"rate": 1.0, "playing": False, **order}).encode() + b"\n")
        self.file.flush()

    def message(self):
        head = self.file.read(LENGTH.size)
        return Message.unpacked(self.file.read(*LENGTH.unpack(head))) if head else None

    def next(self, kind):
        while (message := self.message()) and message.kind != kind:
            pass
        return message

    def close(self):
        self.file.close()
        self.socket.close()


class InThisProcess:
    """A player that a test can look into."""

    def player(self):
        ours, theirs = socket.socketpair()

        def play():
            with theirs, theirs.makefile("rwb", 0) as both:
                PlayerProcess(both).run()

        threading.Thread(target=play, daemon=True).start()
        return ours


class InProcesses(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.nest = Nest()
        cls.addClassCleanup(cls.nest.end)

    def line(self, folder):
        line = Line(self.nest, folder)
        self.addCleanup(line.close)
        return line

    def test_what_is_changed_is_seen_when_it_is_opened_anew(self):
        folder = copied_take("changed-while-played")
        line = self.line(folder.path)
        line.order(turn=1, at=2.0)
        before = line.next(Message.PICTURE)
        write_afterwards(folder, Afterwards((ToScene(0, "scene-1"), Hide(S, "webcam-1"))))
        line.open()
        line.order(turn=2, at=2.0)
        after = line.next(Message.PICTURE)
        self.assertEqual((before.turn, after.turn), (1, 2))
        self.assertNotEqual(before.body, after.body)

    def test_what_has_not_changed_of_a_take_stays_open_and_what_has_is_seen(self):
        folder = copied_take("open-while-cut")
        info = folder.read_info()
        align_take(folder, info)
        line = Line(InThisProcess(), folder.path)
        self.addCleanup(line.close)
        line.next(Message.READY)
        opens = mock.patch("kettle_media.assembly.open_takes.open_take", wraps=open_take)
        pieces = tuple(Piece(f"p{n}", info.id, n * 10**7, n * 10**7 + 10**7) for n in range(300))
        rig = replace(info.rig_values, default_scene_id="scene-2")
        changes = (
            ("a piece less", lambda: None, 0),
            ("a cue", lambda: write_afterwards(folder, Afterwards((Hide(0, "webcam-1"),))), 0),
            ("a track moved", lambda: write_afterwards(folder, MOVED), 1),
            ("another rig", lambda: write_rig_now(folder, info, rig), 1),
            ("measured again", lambda: align_take(folder, info, again=True), 1),
        )
        seen = set()
        with opens as opened:
            for turn, (what, change, times) in enumerate(changes, 1):
                with self.subTest(what):
                    change()
                    opened.reset_mock()
                    cuts = CutList(pieces[turn:])
                    line.play(named_cuts({info.id: folder}, cuts, Format(320, 180), folder.path))
                    line.order(turn=turn, at=1.0)
                    picture = line.next(Message.PICTURE)
                    self.assertEqual((picture.turn, opened.call_count), (turn, times))
                    seen.add(picture.body)
        self.assertGreaterEqual(len(seen), 3)

    def test_a_take_plays_by_its_stamps_until_it_was_measured(self):
        folder = copied_take("not-measured-yet")
        (folder.path / "sync.json").unlink(missing_ok=True)
        may = threading.Event()
        measured = mock.patch(
            "kettle_media.player.process.measure", lambda named: may.wait() and measure(named)
        )
        # Who has begun to measure it before may never come to an end.
        with measured, folder.alone(go_on):
            line = Line(InThisProcess(), folder.path)
            self.addCleanup(line.close)
            line.order(turn=1, at=0.5, playing=True)
            self.assertIsNotNone(line.next(Message.SOUND))
            line.order(turn=2, at=0.5)
            # What played before may have left some pictures on the line.
            while line.next(Message.PICTURE).turn != 2:
                pass
            may.set()
            # Where it stands is seen again.
            self.assertEqual(line.next(Message.PICTURE).turn, 2)
        self.assertIsNotNone(read_sync(folder, list(folder.read_info().tracks)))

    def test_a_take_that_is_gone_or_damaged_is_told_in_words_and_the_rest_goes_on(self):
        folder, other = copied_take("gone-while-played"), copied_take("still-played")
        line, goes_on = self.line(folder.path), self.line(other.path)
        line.order(turn=1, at=1.0)
        self.assertIsNotNone(line.next(Message.PICTURE))
        away = folder.path.rename(folder.path.with_name("taken-away"))
        line.open()
        line.order(turn=2, at=3.0)
        self.assertIn("gone-while-played", line.next(Message.TROUBLE).body.decode())
        away.rename(folder.path)
        line.order(turn=3, at=3.0)
        self.assertEqual(line.next(Message.PICTURE).turn, 3)
        goes_on.order(turn=1, at=1.0, playing=True)
        self.assertIsNotNone(goes_on.next(Message.SOUND))

    def test_who_hangs_up_leaves_no_player_and_a_killed_nest_is_replaced(self):
        folder = copied_take("hung-up")
        line = self.line(folder.path)
        line.next(Message.READY)
        pid = self.nest.pid
        children = Path(f"/proc/{pid}/task/{pid}/children")
        self.assertTrue(children.read_text())
        line.close()
        while children.read_text():
            time.sleep(0.02)
        os.kill(pid, signal.SIGKILL)
        os.waitid(os.P_PID, pid, os.WEXITED | os.WNOWAIT)
        again = self.line(folder.path)
        again.order(turn=1, at=0.0)
        self.assertIsNotNone(again.next(Message.PICTURE))
