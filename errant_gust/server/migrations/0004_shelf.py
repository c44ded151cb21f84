from django.db import migrations, models


class Migration(migrations.Migration):
    """Names, pins and deletion of runs."""

    dependencies = [("gust", "0003_told")]

    operations = [
        migrations.AddField("run", "name", models.CharField(default="", max_length=80)),
        migrations.AddField("run", "pinned", models.BooleanField(default=False)),
        migrations.AddField("run", "gone", models.DateTimeField(null=True)),
    ]
