from django.db import migrations


def note_programs(apps, schema_editor):
    """Takes whose program was composed before they had revisions."""
    takes = apps.get_model("kettle", "Take").objects
    takes.filter(program_job__state="done").update(composed_revision=1)


class Migration(migrations.Migration):

    dependencies = [("kettle", "0008_take_afterwards")]

    operations = [migrations.RunPython(note_programs, migrations.RunPython.noop)]
