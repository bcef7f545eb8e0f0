"""The account of a take: whole takes add up, however they went; planted losses are found."""

import json
import shutil
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np

from kettle_core.program.cues import GoOn, Pause
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_core.timing.pauses import KEPT_NS
from kettle_engine.recording.drops import BUSY
from kettle_engine.recording.recorder import Recorder
from kettle_engine.stamps import Arrival, Stamps
from kettle_media.account.checking import check_account
from kettle_media.account.writing import AccountWriter
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import COMPLETE
from kettle_media.take.packets import read_packets, rewrap_parts
from kettle_media.take.times import read_times, write_times
from tests.engine.test_track import BLOCK_NS, FRAME_NS, SCREEN, VOICE
from tests.fixtures import ROOT

S = 10**9
RIG = Rig("Both", (SCREEN, VOICE), (), Format(64, 48, Fraction(30)))
START_NS, LASTS_NS = 5 * S, 7 * S
WHOLE, PLANTED = 50, 20


class Devices:
    """A screen and a voice that bring what a seed says: drops, and a device that is away."""

    def __init__(self, seed):
        rng = np.random.default_rng(seed)
        self.arrivals = []
        for item, each_ns in ((SCREEN, FRAME_NS), (VOICE, BLOCK_NS)):
            gone = {}
            for _ in range(rng.integers(0, 4)):
                gone[int(rng.integers(20, LASTS_NS // each_ns - 40))] = int(rng.integers(1, 9))
            self.arrivals += self.of(item, each_ns, gone, int(rng.integers(0, 3)), rng)
        self.arrivals.sort(key=lambda x: x[1].master_ns)
        self.pause = None
        if rng.random() < 0.6:
            begun = int(rng.integers(S // 4, S // 2))
            self.pause = (begun, begun + KEPT_NS + int(rng.integers(S // 4, S)))

    @staticmethod
    def of(item, each_ns, gone, away, rng):
        number, lost, restarted = 0, 0, False
        late_ns = 0 if item.is_picture else each_ns
        for index in range(-10, LASTS_NS // each_ns + 20):
            at_ns = START_NS + index * each_ns
            if away and 4 * S < index * each_ns < 4 * S + away * S // 2:
                number, restarted = 0, True
                continue
            number += 1
            if any(at <= index < at + n for at, n in gone.items()):
                lost += 1
                continue
            late = late_ns + int(rng.integers(0, 2_000_000))
            stamps = Stamps(number, at_ns + 3 * S, each_ns, at_ns + late, lost, True, restarted)
            yield item, stamps
            lost, restarted = 0, False


def recorded(seed):
    """A take of what a seed says, with its account. Its state and notes are the recorder's."""
    path = ROOT / f"account-{seed}"
    shutil.rmtree(path, ignore_errors=True)
    folder, devices = TakeFolder.create(path), Devices(seed)
    recorder = Recorder(folder, RIG, path, at_once=True)
    recorder.open_tracks(START_NS)
    recorder.begin({})
    cues = []
    if devices.pause:
        cues = [Pause(devices.pause[0]), GoOn(devices.pause[1])]
    account = AccountWriter(path, "devices", ("screen", "voice"), START_NS, at_once=True)
    plane, block = np.full((72, 64), 100, np.uint8), np.full((1, 480), 0.1, np.float32)
    for item, stamps in devices.arrivals:
        while cues and cues[0].at_ns <= stamps.master_ns - START_NS:
            recorder.cue(cues.pop(0))
        account.came(item.id, stamps.no, stamps.master_ns, stamps.restarted)
        account.look(stamps.master_ns)
        data = plane if item.is_picture else block
        arrival = Arrival(**vars(stamps), fetch=lambda data=data: data)
        recorder.take(item.id, arrival, BUSY)
        if stamps.master_ns > START_NS + LASTS_NS:
            recorder.stop(START_NS + LASTS_NS)
    account.close(START_NS + LASTS_NS + S)
    return folder, recorder.finish()


class Planting:
    """Losses that a mistake of ours might make, each in a take that is whole."""

    def __init__(self, folder, seed):
        self.folder, self.rng = folder, np.random.default_rng(seed)
        self.name = ("screen", "voice")[seed % 2]
        self.track = folder.read_info().track(self.name)
        self.path = folder.times_path(self.track)
        self.rows = read_times(self.path)
        self.kinds = (
            self.rows_gone, self.drops_untold, self.file_cut, self.end_gone, self.beginning_gone,
            self.one_gone, self.away_untold,
        )  # fmt: skip

    def plant(self, kind):
        self.kinds[kind % len(self.kinds)]()

    def without(self, gone):
        write_times(self.path, np.delete(self.rows, gone))

    def written(self):
        """Rows that no pause or device leaves without a neighbour."""
        steps = np.diff(self.rows["no"])
        return np.flatnonzero((steps[1:] == 1) & (steps[:-1] == 1)) + 1

    def rows_gone(self):
        there = self.written()
        first = int(self.rng.integers(20, there.size - 30))
        self.without(there[first : first + int(self.rng.integers(2, 9))])

    def one_gone(self):
        there = self.written()
        self.without(there[int(self.rng.integers(20, there.size - 30))])

    def drops_untold(self):
        rows = self.rows.copy()
        here = self.written()[60]
        self.rows["dropped"][here] = 0
        self.rows = np.delete(rows, [here - 1])
        write_times(self.path, self.rows)

    def file_cut(self):
        path = self.folder.track_path(self.track)
        packets = read_packets(path)
        fresh = path.with_suffix(".cut.mkv")
        rewrap_parts([(path, packets[-3].at_ms)], fresh)
        fresh.replace(path)

    def end_gone(self):
        inside = np.flatnonzero(self.rows["pts_ns"] < LASTS_NS)
        last = inside[-1 - int(self.rng.integers(6, 12))]
        self.without(np.arange(last, self.rows.size))

    def beginning_gone(self):
        self.without(np.arange(0, int(self.rng.integers(15, 25))))

    def away_untold(self):
        """That a device was away; where none was it is something else."""
        path = self.folder.journal_path
        kept = [
            x for x in path.read_text().splitlines() if '"missing"' not in x or self.name not in x
        ]
        if len(kept) == len(path.read_text().splitlines()):
            self.rows_gone()
        path.write_text("".join(f"{line}\n" for line in kept))


class Accounts(unittest.TestCase):
    def test_in_whole_takes_nothing_is_found(self):
        for seed in range(WHOLE):
            folder, ended = recorded(seed)
            with self.subTest(seed):
                self.assertEqual(ended.state, COMPLETE, ended.notes)
                account = check_account(folder.path, LASTS_NS)
                self.assertEqual((account.findings, account.unknown), ((), ()))
            shutil.rmtree(folder.path)

    def test_each_planted_loss_is_found_where_it_is(self):
        for seed in range(PLANTED):
            folder, _ = recorded(100 + seed)
            planting = Planting(folder, seed)
            planting.plant(seed // 2)
            with self.subTest(seed, kind=planting.kinds[seed // 2 % 7].__name__):
                found = check_account(folder.path, LASTS_NS).findings
                self.assertEqual({finding.track for finding in found}, {planting.name})
            shutil.rmtree(folder.path)

    def test_a_recorder_that_loses_what_came_ends_incomplete_and_says_where(self):
        class Losing(Recorder):
            def take(self, name, arrival, why, events=()):
                if name == "voice" and 200 <= (arrival.master_ns - START_NS) // BLOCK_NS < 212:
                    return True
                return super().take(name, arrival, why, events)

        with mock.patch(f"{__name__}.Recorder", Losing):
            folder, ended = recorded(3)
        self.assertEqual(ended.state, "incomplete")
        self.assertEqual(folder.read_info().state, "incomplete")
        self.assertRegex(ended.notes[-1], "^Voice: 12 blocks of sound that came from 1.9. s to 2")

    def test_of_a_take_without_an_account_it_is_not_known(self):
        folder, _ = recorded(1)
        shutil.rmtree(folder.path / "account")
        account = check_account(folder.path, LASTS_NS)
        self.assertEqual((account.findings, account.unknown), ((), ((0, LASTS_NS),)))

    def test_devices_that_died_and_are_back_at_once_were_not_away(self):
        # Their last second of the account died with them; what was kept of it says that they were.
        seed = next(n for n in range(50) if not Devices(n).pause)
        for kept_until_ns, tracks in ((3 * S, set()), (2 * S + S // 5, {"screen", "voice"})):
            folder, _ = recorded(seed)
            (path,) = (folder.path / "account").glob("*.jsonl")
            told = [json.loads(line) for line in path.read_text().splitlines()]
            # The line of the third second, which was not written any more.
            lost = next(x for x in told if x["until_ns"] > START_NS + 3 * S)
            lines = [x for x in told if x is not lost]
            for line in (x for x in lines if x["until_ns"] > lost["until_ns"]):
                for came in line["came"]:
                    came["run"] = f"{came['run']} again"
            path.write_text("".join(f"{json.dumps(line)}\n" for line in lines))
            for track in folder.read_info().tracks:
                times = folder.times_path(track)
                rows = read_times(times)
                at_ns = rows["master_ns"] - START_NS
                back_ns = lost["until_ns"] - START_NS
                write_times(times, rows[(at_ns < kept_until_ns) | (at_ns > back_ns)])
            account = check_account(folder.path, LASTS_NS)
            found = {x.track for x in account.findings if "nothing came" in x.words}
            with self.subTest(kept_until_ns):
                self.assertEqual(found, tracks, account.findings)
            shutil.rmtree(folder.path)
