import json
import zlib

from django.db import migrations, models


def to_history(apps, _schema_editor):
    """Changes kept two whole documents each; now each is a zipped one, the first is how it was."""
    old, new = apps.get_model("kettle", "RigChange"), apps.get_model("kettle", "Change")
    rigs = apps.get_model("kettle", "Rig")

    def keep(change, revision, document, words, undone):
        made = new.objects.create(
            kind="rig",
            owner=change.rig_id,
            revision=revision,
            words=words,
            undone=undone,
            zipped=zlib.compress(json.dumps(document, separators=(",", ":")).encode(), 9),
        )
        new.objects.filter(pk=made.pk).update(made_at=change.made_at)

    for rig in rigs.objects.all():
        for number, change in enumerate(old.objects.filter(rig=rig).order_by("pk")):
            if not number:
                keep(change, 1, change.before, "", False)
            keep(change, number + 2, change.after, change.words, change.undone)
            if not change.undone:
                rigs.objects.filter(pk=rig.pk).update(revision=number + 2)


class Migration(migrations.Migration):
    dependencies = [("kettle", "0002_changes_and_stills")]

    operations = [
        migrations.AddField("rig", "revision", models.PositiveIntegerField(default=1)),
        migrations.AddField("rig", "deleted_at", models.DateTimeField(null=True)),
        migrations.AddField("take", "deleted_at", models.DateTimeField(null=True)),
        migrations.CreateModel(
            name="Change",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("kind", models.CharField(max_length=12)),
                ("owner", models.PositiveBigIntegerField()),
                ("revision", models.PositiveIntegerField()),
                ("words", models.CharField(max_length=200)),
                ("zipped", models.BinaryField()),
                ("undone", models.BooleanField(default=False)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
            ],
            options={"ordering": ("pk",)},
        ),
        migrations.AddIndex(
            "change", models.Index(fields=["kind", "owner"], name="changes_of_a_document")
        ),
        migrations.RunPython(to_history, migrations.RunPython.noop),
        migrations.DeleteModel("RigChange"),
    ]
