from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0044_takes_set")]

    operations = [
        migrations.AddField(
            model_name="session",
            name="handover",
            field=models.JSONField(blank=True, default=dict),
        ),
    ]
