import django.db.models.deletion
from django.db import migrations, models


def to_tutorials(apps, _schema_editor):
    """Every take belongs to a tutorial; what was recorded before belongs to one without a name."""
    takes, tutorials = apps.get_model("kettle", "Take"), apps.get_model("kettle", "Tutorial")
    if takes.objects.exists():
        takes.objects.update(tutorial=tutorials.objects.create())


class Migration(migrations.Migration):
    dependencies = [("kettle", "0004_jobs")]

    operations = [
        migrations.CreateModel(
            name="Tutorial",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("name", models.CharField(default="Untitled", max_length=120)),
                ("running_order", models.JSONField(default=list)),
                ("format", models.JSONField(null=True)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
            ],
            options={"ordering": ("-pk",)},
        ),
        migrations.AddField(
            "take",
            "tutorial",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="takes",
                to="kettle.tutorial",
            ),
        ),
        migrations.RunPython(to_tutorials, migrations.RunPython.noop),
        migrations.AlterField(
            "take",
            "tutorial",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="takes",
                to="kettle.tutorial",
            ),
        ),
    ]
