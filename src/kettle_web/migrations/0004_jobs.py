import django.db.models.deletion
from django.db import migrations, models

STATES = [
    ("waiting", "waits"),
    ("running", "being made"),
    ("done", "done"),
    ("failed", "could not be done"),
    ("cancelled", "cancelled"),
]


def to_jobs(apps, _schema_editor):
    """A take's program had its own state; a job has it now."""
    takes, jobs = apps.get_model("kettle", "Take"), apps.get_model("kettle", "Job")
    states = {"waiting": "waiting", "composing": "waiting", "done": "done", "failed": "failed"}
    for take in takes.objects.exclude(program="none"):
        take.program_job = jobs.objects.create(
            kind="program",
            queue="long",
            subject=f"take:{take.pk}",
            title=f"{take.name[:180]}: program",
            state=states[take.program],
            sentence=take.program_message if take.program == "failed" else "",
            ended_at=take.program_began_at if take.program in ("done", "failed") else None,
        )
        take.save()


class Migration(migrations.Migration):
    dependencies = [("kettle", "0003_changes_of_any_document")]

    operations = [
        migrations.CreateModel(
            name="Job",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("kind", models.CharField(max_length=20)),
                ("queue", models.CharField(max_length=8)),
                ("subject", models.CharField(max_length=120)),
                ("title", models.CharField(max_length=200)),
                ("state", models.CharField(choices=STATES, default="waiting", max_length=10)),
                ("done", models.PositiveIntegerField(default=0)),
                ("total", models.PositiveIntegerField(default=0)),
                ("unit", models.CharField(blank=True, max_length=20)),
                ("sentence", models.CharField(blank=True, max_length=400)),
                ("cancel_wanted", models.BooleanField(default=False)),
                ("token", models.PositiveIntegerField(default=0)),
                ("tries", models.PositiveIntegerField(default=0)),
                ("heartbeat_at", models.DateTimeField(null=True)),
                ("began_at", models.DateTimeField(null=True)),
                ("ended_at", models.DateTimeField(null=True)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
                ("result", models.JSONField(default=dict)),
            ],
            options={"ordering": ("pk",)},
        ),
        migrations.CreateModel(
            name="Worker",
            fields=[
                ("queue", models.CharField(max_length=8, primary_key=True, serialize=False)),
                ("seen_at", models.DateTimeField()),
            ],
        ),
        migrations.AddIndex("job", models.Index(fields=["queue", "state"], name="jobs_of_a_queue")),
        migrations.AddField(
            "take",
            "program_job",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="+",
                to="kettle.job",
            ),
        ),
        migrations.AddField("take", "looked_at", models.DateTimeField(null=True)),
        migrations.RunPython(to_jobs, migrations.RunPython.noop),
        migrations.RemoveConstraint("take", "take_program_done_within_total"),
        migrations.RemoveField("take", "program"),
        migrations.RemoveField("take", "program_done"),
        migrations.RemoveField("take", "program_total"),
        migrations.RemoveField("take", "program_began_at"),
        migrations.RemoveField("take", "program_message"),
        migrations.AlterModelOptions("take", {"ordering": ("-recorded_at", "-pk")}),
    ]
