"""What is ticked by hand: steps of a day, and settings that were made on the boxes, which stay."""

from collections.abc import Set
from datetime import date, timedelta

from django.db import transaction

from hypotaxis.records.models import Rig, Tick
from hypotaxis.records.plan import ON_THE_BOX

KEPT_DAYS = 31


@transaction.atomic
def keep_ticks(rig: Rig, among: Set[str], done: Set[str], day: date) -> None:
    """Of these keys those that are done are ticked, the others are not. A setting that was ticked before keeps its day;
    what belongs to a day is ticked for this one, and dropped after a month."""
    mine = rig.ticks.filter(key__in=among)
    settings = mine.filter(key__startswith=ON_THE_BOX)
    daily = mine.exclude(key__startswith=ON_THE_BOX).filter(day=day)
    for ticked in (settings, daily):
        ticked.exclude(key__in=done).delete()
    there = {*settings.values_list("key", flat=True), *daily.values_list("key", flat=True)}
    Tick.objects.bulk_create(
        [Tick(rig=rig, key=key, day=day) for key in sorted((among & done) - there)], ignore_conflicts=True
    )
    old = rig.ticks.exclude(key__startswith=ON_THE_BOX).filter(day__lt=day - timedelta(days=KEPT_DAYS))
    old.delete()


def ticked_on(rig: Rig, day: date) -> dict[str, date]:
    """Keys of what is ticked for a day, and of the settings made on the boxes, with their days."""
    rows = rig.ticks.values_list("key", "day")
    return {key: on for key, on in rows if on == day or key.startswith(ON_THE_BOX)}
