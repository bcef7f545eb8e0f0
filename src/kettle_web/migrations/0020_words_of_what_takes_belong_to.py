"""Takes are found by their tutorial's and their rig's name as those are now."""

from django.db import migrations

TABLE = (
    "CREATE VIRTUAL TABLE kettle_takewords USING fts5("
    "words, belongs, tokenize=\"unicode61 remove_diacritics 2\", prefix='2 3')"
)


def part(apps, schema):
    take = apps.get_model("kettle", "Take")
    related = take._base_manager.select_related("tutorial", "rig")
    with schema.connection.cursor() as cursor:
        cursor.execute("SELECT rowid, words FROM kettle_takewords")
        words = dict(cursor.fetchall())
        cursor.execute("DROP TABLE kettle_takewords")
        cursor.execute(TABLE)
        for row in related:
            of = [row.tutorial.name, *([row.rig.name] if row.rig else [])]
            mine = words.get(row.pk, row.name)
            for name in of:
                mine = mine.replace(name, "", 1) if name not in row.name else mine
            cursor.execute(
                "INSERT INTO kettle_takewords (rowid, words, belongs) VALUES (%s, %s, %s)",
                [row.pk, mine, " ".join(of)],
            )


class Migration(migrations.Migration):
    dependencies = (("kettle", "0019_one_way_of_undo"),)

    operations = (migrations.RunPython(part, migrations.RunPython.noop),)
