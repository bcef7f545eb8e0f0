"""Parts of every kind put together, against a slow model that keeps each capture by its number."""

import shutil
import unittest
from itertools import count

import numpy as np
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, precondition, rule

from kettle_core.program.cues import GoOn, Pause
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.format import WEBCAM_TRACKS
from kettle_core.timing.pauses import KEPT_NS
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.mending import mend_track
from kettle_media.take.packets import read_packets
from kettle_media.take.times import FILLED, KEPT, NOTED, TimesWriter, read_times, written_ms
from kettle_media.take.track_reading import read_sound
from kettle_media.take.tracks import PictureWriter, SoundWriter
from tests.fixtures import ROOT
from tests.media.take.test_mending import CAMERA, NOISE, VOICE

# Long enough after the take's start for a pause to have begun before.
AT_NS = 60 * 10**9
FEW = st.integers(1, 9)
FOLDERS = count()


class Recorded(RuleBasedStateMachine):
    """What recorders do to a track, one after the other, until it is mended."""

    track = CAMERA
    each_ns = 10**9 // 30

    @initialize()
    def begin(self):
        self.folder = TakeFolder.create(ROOT / f"parts-{next(FOLDERS)}")
        self.at, self.part, self.dropped, self.cut = 0, 1, 0, 0
        self.there, self.shown, self.came, self.gone = set(), set(), set(), set()
        self.pause = None
        self.open()

    def open(self):
        self.files = (
            self.writer(self.folder.track_path(self.track, self.part)),
            TimesWriter(self.folder.times_path(self.track, self.part)),
        )
        self.captures = []

    def writer(self, path):
        settings_ = track_settings(CAMERA.mode, WEBCAM_TRACKS)
        return PictureWriter(path, CAMERA.mode, settings_)

    def put(self, number):
        plane = np.full((72, 64), 30 + number % 200, np.uint8)
        self.files[0].write(plane, self.time_ns(number))

    def time_ns(self, number):
        return AT_NS + number * self.each_ns

    def row(self, number, kept, samples=0):
        at_ns = self.time_ns(number)
        self.files[1].write(number, at_ns, at_ns, at_ns, self.dropped, kept, samples, 0)
        self.dropped = 0

    @rule(kinds=st.lists(st.sampled_from((KEPT, KEPT, NOTED)), min_size=1, max_size=12))
    def record(self, kinds):
        for kind in kinds:
            self.captures.append((self.at, kind, self.dropped))
            self.came.add(self.at)
            self.at, self.dropped = self.at + 1, 0

    @rule(frames=FEW)
    def drop(self, frames):
        self.came.update(range(self.at, self.at + frames))
        self.gone.update(range(self.at, self.at + frames))
        self.at, self.dropped = self.at + frames, self.dropped + frames

    @precondition(lambda self: self.pause is None and not self.dropped and self.captures)
    @rule(stamps=st.integers(1, 4), more=st.integers(0, 4))
    def rest(self, stamps, more):
        begun = self.at
        for _ in range(stamps):
            self.captures.append((self.at, "stamp", 0))
            self.at += 5
        self.at += more
        self.pause = (begun, self.at)

    @precondition(lambda self: self.captures)
    @rule(cut=st.integers(0, 3), again=st.integers(0, 8), late=st.integers(0, 9), skip=FEW)
    def die(self, cut, again, late, skip):
        """The last ones are not in the file; the next recorder writes some again, or is late."""
        self.end_part(cut)
        last = self.captures[-1][0]
        if self.pause and last + 1 - again < self.pause[1]:
            again = 0
        self.part += skip
        self.came.update(range(self.at, self.at + late))
        self.gone.update(range(self.at, self.at + late))
        self.at, self.dropped = max(0, last + 1 - again) if again else self.at + late, 0
        self.open()

    def end_part(self, cut=0):
        """Write down what a recorder has written; some of it is not in the file."""
        with_pictures = [n for n, kind, _ in self.captures if kind == KEPT]
        lost = set(with_pictures[max(1, len(with_pictures) - cut) :])
        for number, kind, dropped in self.captures:
            self.dropped = dropped
            if kind == KEPT and number not in lost:
                self.put(number)
                self.there.add(number)
                self.shown.add(number)
            elif kind == NOTED and not (lost and number > min(lost)):
                self.there.add(number)
            self.row(number, KEPT if kind == KEPT else NOTED)
        self.files[0].close()
        self.files[1].close()

    def teardown(self):
        if not hasattr(self, "files"):
            return
        try:
            self.end_part()
            if self.pause:
                begun, ended = map(self.time_ns, self.pause)
                # A capture that lies half in the pause is written.
                write_cues(self.folder, [Pause(begun - KEPT_NS), GoOn(ended)])
            if any(kind == KEPT for _, kind, _ in self.captures):
                self.check(mend_track(self.folder, self.track))
        finally:
            shutil.rmtree(self.folder.path)

    def check(self, mended):
        rows = read_times(self.folder.times_path(self.track))
        packets = read_packets(self.folder.track_path(self.track))
        stamps = written_ms(rows)[rows["kept"] == KEPT]
        assert stamps.tolist() == [packet.at_ms for packet in packets]
        assert np.all(np.diff(rows["pts_ns"]) > 0)
        self.account(rows, mended)

    def account(self, rows, mended):
        """All that lies between the first and the last row is there, told as lost, or paused."""
        told = set(rows["no"][(rows["kept"] != FILLED)].tolist())
        unwritten = set(range(*self.pause)) if self.pause else set()
        first = rows["no"][0] - rows["dropped"][0]
        between = {n for n in self.came if first <= n <= rows["no"][-1]}
        lost = between - told - unwritten
        gone = int(np.count_nonzero((rows["kept"] == NOTED) & (rows["dropped"] > 0)))
        # What one recorder was too late for another may have written, and what was only noted
        # before a part that another one replaces whole: both are told as dropped.
        assert not (lost & self.shown) - self.gone or mended.kept_back, lost & self.shown
        assert len(lost) <= mended.lost_frames <= len(lost) + gone, (lost, mended)


class RecordedSound(Recorded):
    """The same of a sound: its samples are its time."""

    track = VOICE
    each_ns = 10**7

    def writer(self, path):
        return SoundWriter(path, VOICE.mode)

    def put(self, number):
        self.files[0].write(NOISE[None, number * 480 : number * 480 + 480], self.time_ns(number))

    def end_part(self, cut=0):
        kept = self.captures[: max(1, len(self.captures) - cut)]
        before = None
        for number, kind, dropped in self.captures:
            self.dropped = dropped
            in_file = (number, kind, dropped) in kept
            if before is not None and number > before + 1:
                # Silence for what never came, or for a pause.
                at_ns = self.time_ns(before + 1)
                samples = (number - before - 1) * 480
                self.files[1].write(before, at_ns, at_ns, at_ns, 0, FILLED, samples, 0)
                if in_file:
                    self.files[0].write_silence(samples, at_ns)
            if in_file and kind == "stamp":
                self.files[0].write_silence(480, self.time_ns(number))
            elif in_file:
                self.put(number)
                self.there.add(number)
                self.shown.add(number)
            self.row(number, KEPT, 480)
            before = number
        self.files[0].close()
        self.files[1].close()

    def check(self, mended):
        rows = read_times(self.folder.times_path(VOICE))
        heard = np.concatenate(list(read_sound(self.folder.track_path(VOICE))), axis=1)[0]
        assert heard.size == rows["samples"].sum()
        ends_ns = rows["pts_ns"] + rows["samples"].astype(np.int64) * 10**9 // 48_000
        np.testing.assert_allclose(rows["pts_ns"][1:], ends_ns[:-1], atol=2)
        begins = np.cumsum(rows["samples"]) - rows["samples"]
        unwritten = set(range(*self.pause)) if self.pause else set()
        for row, first in zip(rows, begins, strict=True):
            number = int(row["no"])
            if row["kept"] == KEPT and number in self.there - unwritten:
                wanted = NOISE[number * 480 : number * 480 + 480]
                np.testing.assert_allclose(heard[first : first + 480], wanted, atol=1e-6)
        self.account(rows, mended)


class Parts(unittest.TestCase):
    def test_pictures(self):
        self.run_machine(Recorded)

    def test_sounds(self):
        self.run_machine(RecordedSound)

    def run_machine(self, machine):
        case = machine.TestCase
        case.settings = settings(max_examples=30, stateful_step_count=12, deadline=None)
        case("runTest").debug()
