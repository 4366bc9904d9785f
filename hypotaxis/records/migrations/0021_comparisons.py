"""What a sounding differs from another one by is kept as a core.timing.measurement.Comparison."""

from django.db import migrations


def as_records(apps, schema_editor):
    for row in apps.get_model("records", "Sounding").objects.exclude(compared={}).only("uid", "compared"):
        found = row.compared
        if "other" in found:
            continue
        low, high = found.get("difference_ms_ci") or (None, None)
        row.compared = {
            "other": found.get("with", ""),
            "name": found.get("name", ""),
            "difference_ms": found.get("difference_ms") or 0.0,
            "difference_low": low,
            "difference_high": high,
            "confidence": found.get("difference_confidence", 0.0),
            "compared": found.get("compared", 0),
            "error": found.get("error", ""),
        }
        row.save(update_fields=["compared"])


class Migration(migrations.Migration):
    dependencies = [("records", "0020_measurements")]
    operations = [migrations.RunPython(as_records, migrations.RunPython.noop)]
