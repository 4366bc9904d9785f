"""A plan from a rig file becomes rows, all or nothing."""

from django.db import transaction

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import with_new_uids
from hypotaxis.records.current import store_box
from hypotaxis.records.models import Box, Cable, Instrument, Rig, Socket
from hypotaxis.records.plan import cable_fields, instrument_fields


@transaction.atomic
def import_rig(plan: Plan) -> Rig:
    """Store a plan as a new rig; where any of its uids is there already, it becomes a copy with uids of its own."""
    if _is_there(plan):
        plan = with_new_uids(plan, plan.rig.name)
    value = plan.rig
    rig = Rig.objects.create(uid=value.uid, name=value.name, sample_rate=value.sample_rate, buffer=value.buffer)
    for box in value.boxes:
        store_box(rig, box)
    for cable in value.cables:
        Cable.objects.create(uid=cable.uid, **cable_fields(cable, str(rig.uid)))
    for order, instrument in enumerate(plan.instruments):
        Instrument.objects.create(uid=instrument.uid, **instrument_fields(instrument, str(rig.uid), order))
    return rig


def _is_there(plan: Plan) -> bool:
    """Whether the rig, or something of it, is stored already."""
    boxes = [box.uid for box in plan.rig.boxes]
    return (
        Rig.objects.filter(uid=plan.rig.uid).exists()
        or Box.objects.filter(uid__in=boxes).exists()
        or Socket.objects.filter(uid__in=[socket.uid for _, socket in plan.rig.each_socket()]).exists()
        or Cable.objects.filter(uid__in=[cable.uid for cable in plan.rig.cables]).exists()
        or Instrument.objects.filter(uid__in=[one.uid for one in plan.instruments]).exists()
    )
