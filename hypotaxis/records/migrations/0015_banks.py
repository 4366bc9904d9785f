"""Sessions imported before kept a program without its bank: the bank select stood among the track's controls."""

import numpy as np
from django.db import migrations

CONTROL = np.dtype([("tick", "<i8"), ("status", "u1"), ("data1", "u1"), ("data2", "u1")])
NOTE = np.dtype([("tick", "<i8"), ("duration", "<i8"), ("note", "u1"), ("velocity", "u1")])


def banks_to_their_program(apps, schema_editor):
    for track in apps.get_model("records", "Track").objects.filter(program__isnull=False, patch_uid=""):
        if track.msb is not None or track.lsb is not None:
            continue
        controls = np.frombuffer(bytes(track.controls), dtype=CONTROL)
        notes = np.frombuffer(bytes(track.notes), dtype=NOTE)
        first = int(notes["tick"].min()) if len(notes) else 0
        early = controls["tick"] <= first
        banks = early & (controls["status"] == 0xB0) & np.isin(controls["data1"], (0, 32))
        if not banks.any():
            continue
        for number, name in ((0, "msb"), (32, "lsb")):
            values = controls["data2"][banks & (controls["data1"] == number)]
            setattr(track, name, int(values[-1]) if len(values) else None)
        # A program that came before the one that was kept is outdated by it, too.
        outdated = banks | (early & (controls["status"] == 0xC0))
        track.controls = controls[~outdated].tobytes()
        track.save(update_fields=["msb", "lsb", "controls"])


class Migration(migrations.Migration):
    dependencies = [("records", "0014_fitted")]
    operations = [migrations.RunPython(banks_to_their_program, migrations.RunPython.noop)]
