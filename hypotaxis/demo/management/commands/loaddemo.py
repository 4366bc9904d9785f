"""`manage.py loaddemo`: the Saltmarsh Room and "Tide Tables", through the normal import path."""

from dataclasses import asdict
from pathlib import Path

from django.core.management.base import BaseCommand
from django.db import transaction

from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.core.formats.rigfile import read_rig_file
from hypotaxis.core.sync.values import LoopSetting
from hypotaxis.demo.compose import in_step
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import FrontPanel, Rig
from hypotaxis.records.patch_lists import store
from hypotaxis.steps.instruments.services.patches import add_general_midi
from hypotaxis.steps.session.services.importing import import_score

FOLDER = Path(__file__).parents[2]
# The boxes' own settings, as someone set them on the panels. Two are not what the plan says, as on a real desk: Withy
# receives on channel 7, and Reedbed takes its notes from USB. Withy plays a sequence of its own by the clock it hears.
PANELS = {
    "Sedge": {"channels": [1, 2]},
    "Bittern": {"channels": [3]},
    "Alder": {"channels": [10]},
    "Withy": {"channels": [7], "pattern_bars": 3},
    "Reedbed": {"channels": list(range(1, 17)), "hears": "USB"},
}


# File, the instruments whose sounds it names, the map that names their notes.
LISTS = [
    ("sedge.csv", "Sedge", ("Sedge upper", "Sedge lower"), ""),
    ("alder.midnam", "Alder", ("Alder kit", "Alder kick"), "Marsh kit"),
]


class Command(BaseCommand):
    help = "Loads the demo rig and session; data that is there stays as it is."

    @transaction.atomic
    def handle(self, *args, **options) -> None:
        if Rig.objects.exists():
            self.stdout.write("Your data is kept as it was.")
            return
        plan = in_step(read_rig_file((FOLDER / "saltmarsh-room.json").read_text(encoding="utf-8")))
        rig = import_rig(plan)
        for box in plan.rig.boxes:
            if box.name in PANELS:
                FrontPanel.objects.update_or_create(box_uid=box.uid, defaults={"settings": PANELS[box.name]})
        _name_the_sounds(rig)
        import_score(rig, (FOLDER / "tide-tables.mid").read_bytes(), name="Tide Tables")
        rig.sessions.update(loop=asdict(LoopSetting(first_bar=3, bars=6)))
        self.stdout.write("The demo is loaded: the Saltmarsh Room and its session Tide Tables.")


def _name_the_sounds(rig: Rig) -> None:
    """The patch lists, through the readers that any file goes through; the module has the General MIDI set."""
    for file, title, names, note_map in LISTS:
        _, found = read_patch_file((FOLDER / file).read_bytes())
        kept = store(found.patches, title, found.form)
        rig.instruments.filter(name__in=names).update(patch_list=str(kept.uid), note_map=note_map, middle_c=3)
    rig.instruments.filter(name="Reedbed").update(patch_list=str(add_general_midi().uid))
