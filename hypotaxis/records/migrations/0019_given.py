"""An instrument keeps what was typed, or came with the rig; what was measured is derived from the measurements."""

from django.db import migrations, models

NAMES = {"lateness_ms": "given_ms", "lateness_from": "given_from"}
KINDS = ("instrument", "loop")


def only_what_was_given(apps, schema_editor):
    takes = apps.get_model("records", "Take").objects.filter(way_uid="", lateness__has_key="lateness_ms")
    soundings = apps.get_model("records", "Sounding").objects.filter(part_uid="", way_uid="").exclude(result={})
    measured = {*takes.values_list("instrument_uid", flat=True), *soundings.values_list("instrument_uid", flat=True)}
    measured |= set(soundings.values_list("loop_uid", flat=True))
    for kind in ("Instrument", "Loop"):
        for row in apps.get_model("records", kind).objects.exclude(given_from="typed"):
            if str(row.uid) in measured:
                row.given_ms, row.given_from = None, ""
                row.save(update_fields=["given_ms", "given_from"])


def journal_without_measurements(apps, schema_editor):
    """Steps that were a measurement are no steps of a person; in the others the fields have their new names."""
    for change in apps.get_model("records", "Change").objects.all():
        kept = []
        for edit in change.edits:
            if edit["kind"] in KINDS:
                whole = edit["before"] is None or edit["after"] is None
                typed = (edit["after"] or {}).get("lateness_from") == "typed"
                for side in ("before", "after"):
                    if edit[side] is None:
                        continue
                    told = {NAMES[name]: edit[side].pop(name) for name in NAMES if name in edit[side]}
                    if whole or typed:
                        edit[side] |= told
            if edit["before"] != edit["after"]:
                kept.append(edit)
        if not kept:
            change.delete()
        elif kept != change.edits or any(edit["kind"] in KINDS for edit in kept):
            change.edits = kept
            change.save(update_fields=["edits"])


class Migration(migrations.Migration):
    dependencies = [("records", "0018_work")]
    operations = [
        *(
            migrations.RenameField(model, old, new)
            for model in KINDS
            for old, new in NAMES.items()
        ),
        migrations.RunPython(only_what_was_given, migrations.RunPython.noop),
        migrations.RunPython(journal_without_measurements, migrations.RunPython.noop),
    ]
