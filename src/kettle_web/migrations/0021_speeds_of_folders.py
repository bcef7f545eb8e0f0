"""What was measured of folders is kept by itself, not in the job that measured it."""

from django.db import migrations, models


def keep(apps, _schema):
    job, speed = (apps.get_model("kettle", name) for name in ("Job", "FolderSpeed"))
    for found in job.objects.filter(kind="folder-speed", state="done").order_by("pk"):
        if found.result.get("bytes_per_s"):
            root = found.subject.partition(":")[2]
            values = {"bytes_per_s": found.result["bytes_per_s"], "measured_at": found.ended_at}
            speed.objects.update_or_create(root=root, defaults=values)


class Migration(migrations.Migration):
    dependencies = (("kettle", "0020_words_of_what_takes_belong_to"),)

    operations = (
        migrations.CreateModel(
            "FolderSpeed",
            [
                ("root", models.CharField(max_length=400, primary_key=True, serialize=False)),
                ("bytes_per_s", models.FloatField()),
                ("measured_at", models.DateTimeField()),
            ],
        ),
        migrations.RunPython(keep, migrations.RunPython.noop),
        migrations.RemoveField("job", "result"),
        migrations.AddField(
            "take",
            "uuid",
            models.CharField(max_length=64, blank=True, default="", db_index=True),
        ),
        migrations.AlterField("job", "subject", models.CharField(max_length=420)),
    )
