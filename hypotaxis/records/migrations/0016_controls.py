from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0015_banks")]
    operations = [
        migrations.AddField(model_name="patch", name="controls", field=models.JSONField(default=list)),
        migrations.AlterField(
            model_name="patch", name="program", field=models.PositiveSmallIntegerField(blank=True, null=True)
        ),
    ]
