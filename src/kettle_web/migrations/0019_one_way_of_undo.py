"""What was done is kept in one way for all rows, and all that is deleted lies in the bin."""

import json
import zlib

from django.db import migrations, models
from django.db.models import Q

FIELDS = ("name", "tutorial_id", "kept_in_id", "tags", "deleted_at")


def _zip(before, after):
    return zlib.compress(json.dumps([before, after], separators=(",", ":")).encode(), 9)


def take_over(apps, _schema):
    model, row_model = (apps.get_model("kettle", n) for n in ("Change", "ChangedRow"))
    old, rearranged = (apps.get_model("kettle", n) for n in ("OldChange", "Rearranged"))
    before = {}
    for found in old.objects.order_by("pk"):
        key = f"{found.kind}:{found.owner}"
        after = json.loads(zlib.decompress(found.zipped))
        if key in before:
            change = model.objects.create(scope=key, words=found.words, undone=found.undone)
            zipped = _zip({"document": before[key]}, {"document": after})
            row_model.objects.create(
                change=change, row=key, revision=max(1, found.revision), zipped=zipped
            )
        before[key] = after
    for found in rearranged.objects.order_by("pk"):
        change = model.objects.create(scope="library", words=found.words, undone=found.undone)
        for pk, was in found.before.items():
            parts = [{name: row.get(name) for name in FIELDS} for row in (was, found.after[pk])]
            row_model.objects.create(change=change, row=f"take:{pk}", zipped=_zip(*parts))


def give_versions(apps, _schema):
    """A tutorial has a version from the beginning."""
    version = apps.get_model("kettle", "Version")
    for tutorial in apps.get_model("kettle", "Tutorial").objects.filter(versions=None):
        version.objects.create(tutorial=tutorial)


def _deleted():
    return models.DateTimeField(null=True)


class Migration(migrations.Migration):
    dependencies = (("kettle", "0018_numbers_of_takes"),)

    operations = (
        migrations.RenameModel("Change", "OldChange"),
        migrations.CreateModel(
            "Change",
            [
                ("id", models.BigAutoField(primary_key=True, serialize=False, auto_created=True, verbose_name="ID")),
                ("scope", models.CharField(max_length=40, db_index=True)),
                ("words", models.CharField(max_length=200)),
                ("undone", models.BooleanField(default=False)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
            ],
            options={"ordering": ("pk",)},
        ),
        migrations.CreateModel(
            "ChangedRow",
            [
                ("id", models.BigAutoField(primary_key=True, serialize=False, auto_created=True, verbose_name="ID")),
                ("row", models.CharField(max_length=40, db_index=True)),
                ("revision", models.PositiveIntegerField(default=0)),
                ("zipped", models.BinaryField()),
                (
                    "change",
                    models.ForeignKey("kettle.Change", on_delete=models.CASCADE, related_name="rows"),
                ),
            ],
            options={"ordering": ("pk",)},
        ),
        migrations.RunPython(take_over, migrations.RunPython.noop),
        migrations.RunPython(give_versions, migrations.RunPython.noop),
        migrations.DeleteModel("OldChange"),
        migrations.DeleteModel("Rearranged"),
        migrations.AddField("export", "deleted_at", _deleted()),
        migrations.AddField("folder", "deleted_at", _deleted()),
        migrations.AddField("version", "deleted_at", _deleted()),
        migrations.RemoveConstraint("folder", "folder_name_once"),
        migrations.RemoveConstraint("folder", "top_folder_name_once"),
        migrations.RemoveConstraint("version", "one_version_of_a_name"),
        migrations.AddConstraint(
            "folder",
            models.UniqueConstraint(
                fields=("parent", "name"), condition=Q(deleted_at=None), name="folder_name_once"
            ),
        ),
        migrations.AddConstraint(
            "folder",
            models.UniqueConstraint(
                fields=("name",),
                condition=Q(parent=None, deleted_at=None),
                name="top_folder_name_once",
            ),
        ),
        migrations.AddConstraint(
            "version",
            models.UniqueConstraint(
                fields=("tutorial", "name"),
                condition=Q(deleted_at=None),
                name="one_version_of_a_name",
            ),
        ),
    )
