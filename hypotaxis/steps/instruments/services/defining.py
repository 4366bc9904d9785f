"""Instruments are defined through the rig's journal, so that undo reaches them."""

from dataclasses import replace

from hypotaxis.core.drawing.ruler import next_free_channel
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.trips import heard_from, return_sockets, send_sockets
from hypotaxis.records.journal import Edit, change_rig
from hypotaxis.records.models import Rig
from hypotaxis.records.plan import instrument_fields


def propose(plan: Plan, box_uid: str) -> Instrument:
    """What the sheet already says of a box: the send socket that reaches it, a free channel, the inputs it ends at."""
    rig = plan.rig
    box = rig.box(box_uid)
    sends = [socket.uid for _, socket in send_sockets(rig)]
    send = next((uid for uid in sends if any(r.box == box_uid for r in heard_from(rig, uid))), "")
    homes = []
    for _, socket in return_sockets(rig):
        source = rig.far_end(socket.uid)
        if source and source[0].uid == box_uid and not source[1].separate:
            homes.append(socket.uid)
    return Instrument(
        uid=new_uid(),
        name=box.name if box else "",
        box=box.uid if box else "",
        send=send or (sends[0] if len(sends) == 1 else ""),
        channel=next_free_channel(plan, send) if send else 1,
        returns=tuple(homes[:2]),
        colour=box.colour if box else "",
    )


def keep(rig: Rig, plan: Plan, instrument: Instrument) -> None:
    """Store a new or changed instrument; its tab has the colour of its box."""
    box = plan.rig.box(instrument.box)
    value = replace(instrument, colour=box.colour if box else instrument.colour)
    known = [other.uid for other in plan.instruments]
    new = value.uid not in known
    order = len(known) if new else known.index(value.uid)
    title = f"{'define' if new else 'change'} {value.name}"
    change_rig(rig, title, [Edit("instrument", value.uid, instrument_fields(value, str(rig.uid), order))])


def remove(rig: Rig, instrument: Instrument) -> None:
    """Remove an instrument; its takes stay."""
    change_rig(rig, f"remove instrument {instrument.name}", [Edit("instrument", instrument.uid, None)])
