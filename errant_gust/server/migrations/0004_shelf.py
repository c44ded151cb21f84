from django.db import migrations, models


class Migration(migrations.Migration):
    """Names, pins and deletion of runs, and the sweeps that they are of."""

    dependencies = [("gust", "0003_told")]

    operations = [
        migrations.AddField("run", "name", models.CharField(default="", max_length=80)),
        migrations.AddField("run", "pinned", models.BooleanField(default=False)),
        migrations.AddField("run", "sweep", models.CharField(db_index=True, default="", max_length=40)),
        migrations.AddField("run", "values", models.JSONField(default=dict)),
        migrations.AddField("run", "gone", models.DateTimeField(null=True)),
    ]
