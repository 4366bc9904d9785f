"""What was asked for stands apart from what was found; a pass's frozen setup in its new form."""

import django.db.models.deletion
from django.db import migrations, models


def setups_forward(apps, schema_editor):
    homes = {
        str(row.uid): {str(voice["note"]): voice["home"] for voice in row.voices}
        for row in apps.get_model("records", "Instrument").objects.all()
    }
    for run in apps.get_model("records", "Pass").objects.all():
        setup = run.setup
        for part in setup.get("parts", ()):
            main = {name: part.pop(name, None) for name in ("columns", "returns_text", "inverted")}
            ways = [*part.pop("further", ()), {"uid": "", "name": ""} | main]
            part["ways"] = [way | {"inverted": bool(way.get("inverted"))} for way in ways]
            part["homes"] = homes.get(part["instrument"], {})
            for name, usual in (("calls", []), ("gap_ms", 0.0), ("shift_ms", 0.0), ("context", {})):
                part.setdefault(name, usual)
            part.setdefault("instrument_name", "")
            part.setdefault("home_trim_db", 0.0)
        run.save(update_fields=["setup"])


def requests_forward(apps, schema_editor):
    for job in apps.get_model("records", "Job").objects.filter(kind="try-out"):
        job.request = {"wish": job.result.pop("wish", {})}
        job.save(update_fields=["request", "result"])
    for job in apps.get_model("records", "Job").objects.filter(kind="import"):
        job.request = {name: job.result.pop(name, "") for name in ("name", "title")}
        job.save(update_fields=["request", "result"])


class Migration(migrations.Migration):
    dependencies = [("records", "0017_compared")]
    operations = [
        migrations.AddField("job", "request", models.JSONField(default=dict)),
        migrations.AddField("job", "token", models.CharField(max_length=64, null=True, unique=True)),
        migrations.AddField("job", "attempts", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField(
            "pass",
            "measuring",
            models.OneToOneField(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="measured_run",
                to="records.job",
            ),
        ),
        migrations.RunPython(setups_forward, migrations.RunPython.noop),
        migrations.RunPython(requests_forward, migrations.RunPython.noop),
    ]
