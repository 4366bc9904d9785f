"""A measurement is one record, of a take and of a sounding alike; hits and picture stand beside it."""

from django.db import migrations, models

SAME = {
    "missed": "missed", "merged": "merged", "outside": "outside", "extra": "extra", "set_aside": "set_aside",
    "clipped": "clipped", "impulses": "impulses", "confidence": "confidence", "sample_rate": "sample_rate",
    "jitter_ms": "jitter_ms", "drift_ppm": "drift_ppm", "attack_ms": "attack_ms", "lateness_ms": "offset_ms",
    "start_ms": "offset_start_ms", "end_ms": "offset_end_ms", "side": "input",
}  # fmt: skip
"""Names of the record, and what they were called in a report."""
INTERVALS = {"start_half": "offset_start_ms", "end_half": "offset_end_ms", "drift_half": "drift_ppm", "attack_half": "attack_ms"}
OF_A_TAKE = (
    *("lateness_ms", "start_ms", "start_half", "end_ms", "end_half", "jitter_ms", "jitter_low", "jitter_high"),
    *("drift_ppm", "drift_half", "attack_ms", "attack_half", "sample_rate", "side", "used", "set_aside", "missed"),
    *("merged", "outside", "extra", "clipped", "impulses", "confidence", "alternatives_ms", "warnings", "two"),
)


def of_report(found):
    """The record in a report of a sounding."""
    late = found.get("offset_ms_ci") or (None, None)
    jitter = found.get("jitter_ms_ci") or (None, None)
    kept = {name: found.get(old) for name, old in SAME.items()}
    for name, old in INTERVALS.items():
        about = found.get(f"{old}_ci")
        kept[name] = (about[1] - about[0]) / 2 if about else None
    two = found.get("two_values")
    return kept | {
        "lateness_low": late[0], "lateness_high": late[1], "jitter_low": jitter[0], "jitter_high": jitter[1],
        "used": found["matched"] - found["set_aside"], "impulses": bool(found.get("impulses")),
        "alternatives_ms": found.get("alternatives_ms") or [], "warnings": found.get("warnings") or [],
        "two": {"early_ms": two[0]["ms"], "late_ms": two[1]["ms"], "later_share": two[1]["share"]} if two else None,
    }  # fmt: skip


def of_take(found):
    """The record in what was kept of a take; older ones know only half the width of the lateness."""
    kept = {name: found.get(name) for name in OF_A_TAKE}
    half = found.get("lateness_half")
    low, high = found.get("lateness_low"), found.get("lateness_high")
    if half is not None and (low is None or high is None):
        low, high = found["lateness_ms"] - half, found["lateness_ms"] + half
    usual = {"alternatives_ms": [], "warnings": [], "impulses": False, "clipped": False, "confidence": 0.0}
    kept |= {name: value for name, value in usual.items() if kept[name] is None}
    return kept | {"lateness_low": low, "lateness_high": high}


def forward(apps, schema_editor):
    for take in apps.get_model("records", "Take").objects.exclude(lateness=None):
        found = take.lateness
        take.borrowed, take.unmeasured = found.get("borrowed", "")[:200], found.get("error", "")
        if "lateness_ms" in found:
            take.measurement, take.hits = of_take(found), found.get("hits", [])
        take.save(update_fields=["borrowed", "unmeasured", "measurement", "hits"])
    for row in apps.get_model("records", "Sounding").objects.exclude(result={}):
        found = row.result
        if found.get("offset_ms") is None:
            continue
        row.measurement, row.hits, row.overlay = of_report(found), found.get("hits", []), found.get("overlay")
        row.seconds, row.kind = found.get("seconds") or 0.0, found.get("kind") or ""
        row.read_track, row.read_channel = found.get("track"), found.get("channel")
        row.notes = found.get("notes") or 0
        row.save()


class Migration(migrations.Migration):
    dependencies = [("records", "0019_given")]
    operations = [
        migrations.AddField("take", "measurement", models.JSONField(null=True)),
        migrations.AddField("take", "hits", models.JSONField(default=list)),
        migrations.AddField("take", "unmeasured", models.TextField(blank=True, default=""), preserve_default=False),
        migrations.AddField("take", "borrowed", models.CharField(max_length=200, blank=True, default=""), preserve_default=False),
        migrations.AddField("sounding", "measurement", models.JSONField(null=True)),
        migrations.AddField("sounding", "hits", models.JSONField(default=list)),
        migrations.AddField("sounding", "overlay", models.JSONField(null=True)),
        migrations.AddField("sounding", "seconds", models.FloatField(default=0.0)),
        migrations.AddField("sounding", "kind", models.CharField(max_length=8, blank=True, default=""), preserve_default=False),
        migrations.AddField("sounding", "notes", models.PositiveIntegerField(default=0)),
        migrations.AddField("sounding", "read_track", models.PositiveSmallIntegerField(null=True)),
        migrations.AddField("sounding", "read_channel", models.PositiveSmallIntegerField(null=True)),
        migrations.RunPython(forward, migrations.RunPython.noop),
        migrations.RemoveField("take", "lateness"),
        migrations.RemoveField("sounding", "result"),
    ]
