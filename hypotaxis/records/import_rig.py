"""A plan from a rig file becomes rows, all or nothing."""

from django.db import transaction

from hypotaxis.core.plan import Plan
from hypotaxis.records.current import store_box
from hypotaxis.records.models import Cable, Instrument, Rig
from hypotaxis.records.plan import cable_fields, instrument_fields


@transaction.atomic
def import_rig(plan: Plan) -> Rig:
    """Store a plan as a new rig; its uids must not be there yet."""
    value = plan.rig
    rig = Rig.objects.create(uid=value.uid, name=value.name, sample_rate=value.sample_rate, buffer=value.buffer)
    for box in value.boxes:
        store_box(rig, box)
    for cable in value.cables:
        Cable.objects.create(uid=cable.uid, **cable_fields(cable, str(rig.uid)))
    for order, instrument in enumerate(plan.instruments):
        Instrument.objects.create(uid=instrument.uid, **instrument_fields(instrument, str(rig.uid), order))
    return rig
