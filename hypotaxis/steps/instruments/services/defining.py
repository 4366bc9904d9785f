"""Instruments are defined through the rig's journal, so that undo reaches them."""

from dataclasses import replace

from hypotaxis.core.drawing.ruler import next_free_channel
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.change import keep_instrument, without_instrument
from hypotaxis.core.rig.trips import heard_from, homes_of, send_sockets
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Rig


def propose(plan: Plan, box_uid: str) -> Instrument:
    """What the sheet already says of a box: the send socket that reaches it, a free channel, the inputs it ends at."""
    rig = plan.rig
    box = rig.box(box_uid)
    sends = [socket.uid for _, socket in send_sockets(rig)]
    send = next((uid for uid in sends if any(r.box == box_uid for r in heard_from(rig, uid))), "")
    return Instrument(
        uid=new_uid(),
        name=box.name if box else "",
        box=box.uid if box else "",
        send=send or (sends[0] if len(sends) == 1 else ""),
        channel=next_free_channel(plan, send) if send else 1,
        returns=tuple(homes_of(rig, box_uid)[:2]),
        colour=box.colour if box else "",
    )


def keep(rig: Rig, plan: Plan, instrument: Instrument) -> None:
    """Store a new or changed instrument; its tab has the colour of its box."""
    box = plan.rig.box(instrument.box)
    value = replace(instrument, colour=box.colour if box else instrument.colour)
    word = "change" if plan.instrument(value.uid) else "define"
    change_plan(rig, f"{word} {value.name}", plan, keep_instrument(plan, value))


def remove(rig: Rig, plan: Plan, instrument: Instrument) -> None:
    """Remove an instrument; its takes stay."""
    change_plan(rig, f"remove instrument {instrument.name}", plan, without_instrument(plan, instrument.uid))
