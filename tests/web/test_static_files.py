"""Static files are collected when they have changed, and only then."""

import os
import tempfile
import unittest
from pathlib import Path

from django.contrib.staticfiles import finders
from django.test import override_settings

from kettle_web.frame.static_files import MADE_OF, collect_static


class Collecting(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.source, self.root = Path(folder.name) / "source", Path(folder.name) / "static"
        self.source.mkdir()
        self.style = self.source / "kettle.css"
        self.style.write_text("a { color: red }")
        settings = override_settings(
            STATIC_ROOT=self.root,
            STORAGES={
                "staticfiles": {"BACKEND": "kettle_web.frame.static_files.HashedFiles"},
            },
            STATICFILES_DIRS=[self.source],
            STATICFILES_FINDERS=["django.contrib.staticfiles.finders.FileSystemFinder"],
        )
        settings.enable()
        self.addCleanup(finders.get_finder.cache_clear)
        self.addCleanup(settings.disable)
        finders.get_finder.cache_clear()

    def collected(self):
        collect_static()
        found = {p.name: p.read_text() for p in self.root.glob("kettle.*.css")}
        self.assertEqual(len(found), 1)
        return found.popitem()

    def test_what_is_there_is_used_as_long_as_it_was_made_of_the_same(self):
        name, _ = self.collected()
        # A sign that nothing is collected anew.
        (self.root / name).write_text("kept")
        self.assertEqual(self.collected(), (name, "kept"))
        os.utime(self.style, ns=(0, 0))
        self.assertEqual(self.collected(), (name, "a { color: red }"))

    def test_another_file_is_collected_and_the_old_one_goes(self):
        before, _ = self.collected()
        self.style.write_text("a { color: blue }")
        after, text = self.collected()
        self.assertNotEqual(before, after)
        self.assertIn("blue", text)
        (self.source / "more.css").write_text("b { color: red }")
        self.collected()
        self.assertTrue(list(self.root.glob("more.*.css")))

    def test_one_that_was_ended_in_the_middle_is_done_again(self):
        name, text = self.collected()
        (self.root / MADE_OF).unlink()
        (self.root / name).unlink()
        self.assertEqual(self.collected(), (name, text))
