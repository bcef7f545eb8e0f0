"""Processes that die in a take, at the places where it once cost what was recorded."""

import os
import shutil
import tempfile
import unittest
from pathlib import Path

from django.test import tag

from kettle_bench.soaking.table import (
    KILLED,
    MOST_LOST_S,
    PROCESSES,
    STATES,
    Cell,
    Run,
    cells,
    chosen_cells,
    judge,
    run_cells,
    why_not,
)
from kettle_media.take.folder import TakeFolder
from kettle_media.take.json_lines import read_json_lines
from kettle_media.take.packets import read_packets
from kettle_media.take.times import read_times

COUNT, BESIDE = 20, 4
SEED = int(os.environ.get("KETTLE_TEST_SEED", "0")) or int.from_bytes(os.urandom(2))


@tag("realtime")
class Table(unittest.TestCase):
    def setUp(self):
        self.data = Path(tempfile.mkdtemp(prefix="kettle-table-"))
        self.addCleanup(shutil.rmtree, self.data, True)

    def run_of(self):
        run = Run(self.data / "run")
        self.addCleanup(run.close)
        return run

    def well(self, run, cell):
        judged = judge(run, cell, run.finish(), 0.0)
        self.assertEqual((judged.state, judged.faults), ("complete", []))
        return judged

    def test_a_recorder_that_dies_in_a_pause_costs_nothing_that_was_recorded_before_it(self):
        run, cell = self.run_of(), Cell("recorder", "in a pause", KILLED)
        run.come_to(cell.state)
        run.do(cell)
        self.well(run, cell)
        for track in run.folder.read_info().tracks:
            first = read_packets(run.folder.track_path(track))[0]
            self.assertLess(first.at_ms, 500, track.name)

    def test_one_that_dies_again_while_its_successor_opens_tracks_costs_nothing_either(self):
        run, cell = self.run_of(), Cell("recorder", "recording", KILLED)
        run.come_to(cell.state)
        # The next one dies when it has opened one track of three.
        run.order_at("recorder opens", "kill")
        run.do(cell)
        run.until((run.points / "recorder opens.reached").exists)
        run.has_recorded(3.0)
        self.well(run, cell)
        # How long a busy machine takes to begin another one is not promised; that it is told is.
        again = [x for x in read_json_lines(run.folder.journal_path)
                 if x["what"] == "recorder started again"]  # fmt: skip
        for track in run.folder.read_info().tracks:
            rows = read_times(run.folder.times_path(track))
            self.assertLess(rows["pts_ns"][0], 500_000_000, track.name)
            self.assertGreater(rows["pts_ns"][-1], again[-1]["at_ns"], track.name)
        self.assertEqual({len(TakeFolder(run.folder.path).parts(t))
                          for t in run.folder.read_info().tracks}, {1})  # fmt: skip

    def test_whatever_dies_or_stands_still_the_take_adds_up(self):
        print(f"Cells by the seed {SEED}; KETTLE_TEST_SEED={SEED} has the same again.")
        for judged in run_cells(chosen_cells(SEED, COUNT), BESIDE):
            with self.subTest(str(judged.cell)):
                self.assertEqual(judged.faults, [], judged)


class Cells(unittest.TestCase):
    def test_each_that_can_occur_is_in_the_table_and_of_the_others_it_is_said_why(self):
        found = {(cell.process, cell.state) for cell in cells()}
        for process in PROCESSES:
            for state in STATES:
                self.assertEqual((process, state) in found, not why_not(process, state))
        self.assertEqual(chosen_cells(7, COUNT), chosen_cells(7, COUNT))
        self.assertLessEqual({(c.process, c.what) for c in cells()} - MOST_LOST_S.keys(), {
            (p, w) for p in ("viewer", "repair", "engine") for w in {c.what for c in cells()}
        })  # fmt: skip
