"""Takes know their numbers, which were counted before."""

import re

from django.db import migrations, models


def count(apps, _schema):
    take = apps.get_model("kettle", "Take")
    for tutorial in apps.get_model("kettle", "Tutorial").objects.all():
        rows = take._base_manager.filter(tutorial=tutorial).order_by("pk")
        most = 0
        for number, one in enumerate(rows, 1):
            take._base_manager.filter(pk=one.pk).update(number=number)
            if named := re.search(r", take (\d{1,6})$", one.name):
                most = max(most, int(named[1]))
        tutorial.most_gone = most
        tutorial.save(update_fields=["most_gone"])


class Migration(migrations.Migration):
    dependencies = (("kettle", "0017_incomplete_takes"),)

    operations = (
        migrations.AddField("take", "number", models.PositiveIntegerField(default=0)),
        migrations.AddField("tutorial", "most_gone", models.PositiveIntegerField(default=0)),
        migrations.RunPython(count, migrations.RunPython.noop),
    )
