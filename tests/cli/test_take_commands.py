"""takes and quiet, as somebody types them."""

import json
import unittest

from tests.cli.shell import Shell
from tests.fixtures import ROOT, copied_take


class TakeCommands(unittest.TestCase):
    def setUp(self):
        data = ROOT / "no-library"
        data.mkdir(exist_ok=True)
        shell = Shell(data, ROOT)
        self.addCleanup(shell.close)
        self.kettle = shell.run

    def test_quiet_lists_stretches_and_refuses_what_is_no_level(self):
        folder = copied_take("quiet-typed").path
        told = self.kettle("quiet", folder, "--for", "0.2", "--json")
        rows = json.loads(told.stdout)
        self.assertTrue(all(0 <= row["from_s"] < row["until_s"] <= 4.0 for row in rows), rows)
        told = self.kettle("quiet", folder, "--below", "-1", "--for", "3.9")
        self.assertIn("0:00:00.000 to 0:00:04.000", told.stdout)
        for words, sentence in (
            (("--below", "3"), "--below takes -90 to 0 dBFS"),
            (("--below", "nan"), "--below takes -90 to 0 dBFS"),
            (("--for", "0"), "--for takes 0.1 to 600 s"),
        ):
            refused = self.kettle("quiet", folder, *words)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(sentence, refused.stderr)
        nowhere = self.kettle("quiet", ROOT / "nowhere")
        self.assertEqual(nowhere.returncode, 2)
        self.assertIn("is not a take", nowhere.stderr)

    def test_takes_of_no_library_are_none(self):
        self.assertEqual(self.kettle("takes", "--json").stdout.strip(), "[]")
        self.assertEqual(self.kettle("takes", "--search", '"').stdout.strip(), "0 takes")
