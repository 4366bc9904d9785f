"""A plan from a rig file becomes rows, all or nothing."""

from dataclasses import replace

from django.db import transaction

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import with_new_uids
from hypotaxis.records.journal import KINDS
from hypotaxis.records.models import Rig
from hypotaxis.records.patch_lists import keep_lists
from hypotaxis.records.plan import row_fields


@transaction.atomic
def import_rig(plan: Plan, *, template: bool = False) -> Rig:
    """Store a plan as a new rig; where any of its uids is there already, it becomes a copy with uids of its own.
    Patch lists that came with it are kept beside those that are there."""
    if _is_there(plan):
        plan = replace(with_new_uids(plan, plan.rig.name), patch_lists=plan.patch_lists)
    keep_lists(plan.patch_lists)
    rows: dict[str, list] = {kind: [] for kind in KINDS}
    for (kind, uid), fields in row_fields(plan).items():
        rows[kind].append(KINDS[kind](uid=uid, **fields))
    rows["rig"][0].template = template
    for kind, new in rows.items():
        KINDS[kind].objects.bulk_create(new)
    return Rig.objects.get(uid=plan.rig.uid)


def _is_there(plan: Plan) -> bool:
    """Whether the rig, or something of it, is stored already."""
    uids: dict[str, list[str]] = {}
    for kind, uid in row_fields(plan):
        uids.setdefault(kind, []).append(uid)
    return any(KINDS[kind].objects.filter(uid__in=of_kind).exists() for kind, of_kind in uids.items())
