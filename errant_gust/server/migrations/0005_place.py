from django.db import migrations, models


class Migration(migrations.Migration):
    """What runs need, and where they are computed."""

    dependencies = [("gust", "0004_shelf")]

    operations = [
        migrations.AddField("run", "memory", models.BigIntegerField(default=0)),
        migrations.AddField("run", "place", models.CharField(default="", max_length=10)),
    ]
