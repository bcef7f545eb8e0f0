import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("kettle", "0006_take_root")]

    operations = [
        migrations.RenameField("tutorial", "running_order", "document"),
        migrations.AddField("tutorial", "revision", models.PositiveIntegerField(default=1)),
        migrations.AddField("tutorial", "changed_at", models.DateTimeField(auto_now=True)),
        migrations.AddField(
            "rig",
            "tutorial",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="+",
                to="kettle.tutorial",
            ),
        ),
        migrations.CreateModel(
            name="Key",
            fields=[
                ("action", models.CharField(max_length=40, primary_key=True, serialize=False)),
                ("key", models.CharField(max_length=12)),
            ],
        ),
    ]
