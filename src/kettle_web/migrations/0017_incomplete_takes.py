from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('kettle', '0016_pace_of_jobs'),
    ]

    operations = [
        migrations.AlterField(
            model_name='take',
            name='state',
            field=models.CharField(choices=[('recording', 'being recorded'), ('complete', 'complete'), ('incomplete', 'not all of it is there'), ('repaired', 'cut off and repaired'), ('failed', 'failed')], default='recording', max_length=12),
        ),
    ]
