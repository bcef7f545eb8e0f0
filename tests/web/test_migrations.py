"""A library from before is taken over with all that could be undone in it."""

import os
import subprocess
import sys
import tempfile
import unittest

SCRIPT = """
import json, os, zlib
import django
django.setup()
from django.core.management import call_command
from django.db import connection
call_command("migrate", "kettle", "0017", verbosity=0)

def insert(table, **row):
    names = ", ".join(row)
    marks = ", ".join(["%s"] * len(row))
    with connection.cursor() as cursor:
        cursor.execute(f"INSERT INTO kettle_{table} ({names}) VALUES ({marks})", list(row.values()))

NOW = "2026-10-01 10:00:00"
from kettle_studio.demo import demo_rig
from kettle_media.rig_document import rig_to_dict
from dataclasses import replace
rigs = [rig_to_dict(replace(demo_rig(), name=f"Rig {n}")) for n in range(3)]
insert("tutorial", id=1, name="Sewing", description="", document="[]", revision=1, made_at=NOW,
       changed_at=NOW)
insert("rig", id=1, slug="demo", name="Rig 2", document=json.dumps(rigs[2]), revision=3,
       changed_at=NOW)
for number, rig in enumerate(rigs, 1):
    insert("change", kind="rig", owner=1, revision=number, words="renamed" * (number > 1),
           zipped=zlib.compress(json.dumps(rig).encode()), undone=False, made_at=NOW)
insert("folder", id=1, name="Spring")
for number in (1, 2):
    insert("take", id=number, folder=f"t{number}", root="", name=f"Sewing, take {number + 3}",
           state="complete", tutorial_id=1, recorded_at=NOW, size_bytes=1, notes="[]", tracks="[]",
           document="{}", revision=1, changed_at=NOW, tags="|draft|", kept_in_id=1)
    insert("takewords", rowid=number, words=f"Sewing, take {number + 3} Sewing Rig 2 draft wax")
was = {"name": "One", "tutorial_id": 1, "kept_in_id": None, "tags": "", "deleted_at": None}
now = {**was, "name": "Sewing, take 4", "kept_in_id": 1, "tags": "|draft|"}
insert("rearranged", words="renamed", before=json.dumps({"1": was}), after=json.dumps({"1": now}),
       undone=False, made_at=NOW)
insert("job", kind="folder-speed", queue="soon", subject="folder:", title="Speed", state="done",
       done=1, total=1, unit="", sentence="", cancel_wanted=False, place=0, token=1, tries=1,
       paced_done=0, made_at=NOW, ended_at=NOW, result=json.dumps({"bytes_per_s": 5e8}))
call_command("migrate", verbosity=0)

from kettle_web.frame.editing import undo
from kettle_web.library import services
from kettle_web.library.numbers import next_number
from kettle_web.library.search import found_by
from kettle_web.models import FolderSpeed, Rig, Take, Tutorial
rig = Rig.objects.get()
print(undo(rig), rig.values.name, undo(rig), rig.values.name, undo(rig) == "")
print(services.undo(), Take.objects.get(pk=1).name, Take.objects.get(pk=1).tags == "")
print(next_number(Tutorial.objects.get()), Tutorial.objects.get().versions.count())
print(found_by(Take.objects.all(), "wax sewing").count(), FolderSpeed.objects.get().bytes_per_s)
"""
TOLD = """renamed Rig 1 renamed Rig 0 True
renamed One True
6 1
1 500000000.0
"""


class Migrations(unittest.TestCase):
    def test_what_was_there_is_taken_over(self):
        with tempfile.TemporaryDirectory() as data:
            settings = {"KETTLE_DATA": data, "DJANGO_SETTINGS_MODULE": "kettle_web.settings"}
            done = subprocess.run(
                [sys.executable, "-c", SCRIPT],
                env={**os.environ, **settings},
                check=False,
                capture_output=True,
                text=True,
            )
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        self.assertEqual(done.stdout, TOLD)
