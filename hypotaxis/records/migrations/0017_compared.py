from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0016_controls")]
    operations = [
        migrations.AddField(model_name="sounding", name="compared", field=models.JSONField(default=dict)),
    ]
