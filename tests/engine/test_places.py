"""Where rings lie, and who shares one."""

import os
import stat
import subprocess
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from kettle_core.rig.rig import Looks
from kettle_core.scene.layout import Box
from kettle_engine.addresses import make_private
from kettle_engine.rings import places
from kettle_engine.rings.places import RingPlaces, ring_name
from kettle_studio.demo import demo_rig
from tests.fixtures import ROOT
from tests.small_disk import small_disk


class Sharing(unittest.TestCase):
    def test_inputs_that_use_a_device_alike_share_a_ring(self):
        webcam = demo_rig().input("webcam-1")
        again = replace(webcam, id="again", name="Again")
        self.assertEqual(ring_name(webcam), ring_name(again))
        for other in (
            replace(webcam, looks=Looks(crop=Box(0, 0, 640, 360))),
            replace(webcam, looks=replace(webcam.looks, mirrored=not webcam.looks.mirrored)),
            replace(webcam, recorded=False),
            replace(webcam, device="webcam-2"),
        ):
            self.assertNotEqual(ring_name(webcam), ring_name(other))
        # What is only seen through, or set for later, needs no other ring.
        faint = replace(webcam, looks=replace(webcam.looks, opacity=50))
        self.assertEqual(ring_name(webcam), ring_name(faint))


class Places(unittest.TestCase):
    def setUp(self):
        self.data = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.items = [i for i in demo_rig().inputs if i.has_track]

    def test_where_shared_memory_is_small_rings_lie_below_the_data_folder(self):
        with (
            small_disk(ROOT / "shared-memory", 64) as small,
            mock.patch.object(places, "SHARED_MEMORY", small),
        ):
            rings = RingPlaces(self.data)
            found = {i.id: rings.path(i) for i in self.items}
            self.assertEqual(found["webcam-1"].parent, self.data / "rings")
            self.assertTrue(found["headset"].is_relative_to(small))

    def test_a_folder_of_another_user_at_our_name_is_not_used(self):
        if os.geteuid():
            self.skipTest("Only root can be somebody else.")
        with (
            tempfile.TemporaryDirectory() as name,
            mock.patch.object(places, "SHARED_MEMORY", Path(name)),
        ):
            Path(name).chmod(0o1777)
            ours = RingPlaces(self.data).path(self.items[0]).parent
            ours.rmdir()
            others = (ours, ours.with_name(f"{ours.name}-1"))
            for folder, how in zip(others, ("mkdir -m 777", "ln -s /tmp"), strict=True):
                as_nobody = ["setpriv", "--reuid=65534", "--clear-groups", *how.split()]
                subprocess.run([*as_nobody, str(folder)], check=True)
            found = RingPlaces(self.data).path(self.items[0]).parent
            self.assertEqual(found.name, f"{ours.name}-2")
            self.assertEqual(stat.S_IMODE(found.stat().st_mode), 0o700)
            # One of our own that was left open is closed; where no name is left there is none.
            found.chmod(0o777)
            self.assertTrue(make_private(found))
            self.assertEqual(stat.S_IMODE(found.stat().st_mode), 0o700)
            self.assertFalse(make_private(ours))

    def test_rings_of_inputs_that_are_not_open_any_more_are_taken_away(self):
        rings = RingPlaces(self.data)
        self.addCleanup(rings.clear)
        paths = [rings.path(i) for i in self.items]
        for path in paths:
            path.write_bytes(b"")
        rings.keep(self.items[:1])
        self.assertEqual([p.exists() for p in paths], [True] + [False] * (len(paths) - 1))
        rings.clear()
        self.assertFalse(paths[0].parent.exists())
