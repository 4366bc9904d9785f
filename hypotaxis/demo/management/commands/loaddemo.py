"""`manage.py loaddemo`: the Saltmarsh Room and "Tide Tables", through the normal import path."""

from pathlib import Path

from django.core.management.base import BaseCommand
from django.db import transaction

from hypotaxis.core.formats.rigfile import read_rig_file
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import FrontPanel, Rig
from hypotaxis.steps.session.services.importing import import_score

FOLDER = Path(__file__).parents[2]
# The boxes' own settings, as someone set them on the panels. Two are not what the plan says, as on a real desk: Withy
# receives on channel 7, and Reedbed takes its notes from USB.
PANELS = {
    "Sedge": {"channels": [1, 2]},
    "Bittern": {"channels": [3]},
    "Alder": {"channels": [10]},
    "Withy": {"channels": [7]},
    "Reedbed": {"channels": list(range(1, 17)), "hears": "USB"},
}


class Command(BaseCommand):
    help = "Loads the demo rig and session; data that is there stays as it is."

    @transaction.atomic
    def handle(self, *args, **options) -> None:
        if Rig.objects.exists():
            self.stdout.write("Your data is kept as it was.")
            return
        plan = read_rig_file((FOLDER / "saltmarsh-room.json").read_text(encoding="utf-8"))
        rig = import_rig(plan)
        for box in plan.rig.boxes:
            if box.name in PANELS:
                FrontPanel.objects.update_or_create(box_uid=box.uid, defaults={"settings": PANELS[box.name]})
        import_score(rig, (FOLDER / "tide-tables.mid").read_bytes(), name="Tide Tables")
        self.stdout.write("The demo is loaded: the Saltmarsh Room and its session Tide Tables.")
