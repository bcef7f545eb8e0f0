from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [("kettle", "0010_library")]

    operations = [
        migrations.RunSQL(
            "CREATE VIRTUAL TABLE kettle_takewords USING fts5("
            "words, tokenize=\"unicode61 remove_diacritics 2\", prefix='2 3')",
            "DROP TABLE kettle_takewords",
        ),
        # Takes that are there are found by their names at once, by more when they change.
        migrations.RunSQL(
            "INSERT INTO kettle_takewords (rowid, words) "
            "SELECT t.id, t.name || ' ' || u.name FROM kettle_take t "
            "JOIN kettle_tutorial u ON u.id = t.tutorial_id",
            migrations.RunSQL.noop,
        ),
    ]
