"""What has to be set on each box itself, by hand, so that it does what the plan says?

What the host assumes and what is set on the box drift apart; half of all "no sound" is this. A setting's key holds its
value, so that a tick holds only as long as the plan asks for the same.
"""

from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import SHAPES
from hypotaxis.core.rig.startup import StartStep
from hypotaxis.core.rig.values import Box


@dataclass(frozen=True)
class BoxSettings:
    """A box with what to set on it; settings are ticked under their keys."""

    box: Box
    settings: tuple[StartStep, ...]


def panel_settings(plan: Plan) -> tuple[BoxSettings, ...]:
    """The boxes that instruments are made of, in the order of the sheet, each with its settings."""
    told = []
    for box in sorted(plan.rig.boxes, key=lambda box: box.order):
        mine = [instrument for instrument in plan.instruments if instrument.box == box.uid]
        if not mine:
            continue
        parts = SHAPES[box.shape].parts if box.shape in SHAPES else 1
        settings = []
        for number, instrument in enumerate(sorted(mine, key=lambda one: one.channel), start=1):
            part = f"part {number} " if parts > 1 else ""
            settings.append(
                _setting(
                    box,
                    f"channel-{number}-{instrument.channel}",
                    f"{part}receives on channel {instrument.channel}, for {instrument.name}",
                )
            )
        settings.append(_setting(box, "omni-off", "omni is off, so that it answers on its own channel only"))
        settings.append(_setting(box, "midi-in", "it takes notes from its MIDI socket"))
        settings.append(_setting(box, "level-up", "its level is all the way up"))
        settings += [
            _setting(box, f"separate-{socket.separate}", f"the {socket.separate} leaves by {socket.label} alone")
            for socket in box.sockets
            if socket.separate and plan.rig.cable_at(socket.uid)
        ]
        told.append(BoxSettings(box, tuple(settings)))
    return tuple(told)


def _setting(box: Box, what: str, text: str) -> StartStep:
    return StartStep(f"panel-{box.uid}-{what}", f"{text[0].upper()}{text[1:]}.")
