"""A return is called so everywhere, also in what a pass froze of its parts."""

from django.db import migrations


def renamed(apps, schema_editor):
    for run in apps.get_model("records", "Pass").objects.only("uid", "setup"):
        for part in run.setup.get("parts", ()):
            for old, new in (("ways", "returns"), ("homes", "voices")):
                if old in part:
                    part[new] = part.pop(old)
        run.save(update_fields=["setup"])


class Migration(migrations.Migration):
    dependencies = [("records", "0021_comparisons")]
    operations = [
        migrations.RenameField("sounding", "way_uid", "return_uid"),
        migrations.RenameField("take", "way_uid", "return_uid"),
        migrations.RenameField("take", "way_name", "return_name"),
        migrations.RunPython(renamed, migrations.RunPython.noop),
    ]
