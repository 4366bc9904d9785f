"""What has to be set on each box itself, by hand, so that it does what the plan says, and how?

What the host assumes and what is set on the box drift apart; half of all "no sound" is this. A setting's key holds its
value, so that a tick holds only as long as the plan asks for the same.
"""

from dataclasses import dataclass, replace

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.shapes import column_of, parts_of
from hypotaxis.core.rig.startup import StartStep
from hypotaxis.core.rig.trips import heard_from, trip_of
from hypotaxis.core.rig.values import Box

SWITCHES = 4
HOW = {
    "menu": "In the box's own menus.",
    "switches": "With the switches on its back; a change may count only after it has been switched off and on.",
    "editor": "With its editor program, which must transmit before anything counts; no word comes back from the box.",
}


@dataclass(frozen=True)
class Bank:
    """A bank of switches set to a channel: True = on, the one for 1 first."""

    told: str
    on: tuple[bool, ...]


@dataclass(frozen=True)
class BoxSettings:
    """A box with what to set on it; settings are ticked under their keys. how: in words; banks: switches to draw."""

    box: Box
    settings: tuple[StartStep, ...]
    how: str
    banks: tuple[Bank, ...] = ()


def panel_settings(plan: Plan) -> tuple[BoxSettings, ...]:
    """Every box on which something has to be set, in the order of the sheet: hands first, then what sounds."""
    told = []
    for box in sorted(plan.rig.boxes, key=lambda box: (column_of(box.shape) != "hands", box.order)):
        mine = sorted(plan.instruments_of(box.uid), key=lambda one: one.channel)
        settings = [*_sends(plan, box), *_sounds(plan, box, mine), *_clock(plan, box)]
        if not settings:
            continue
        banks = tuple(switch_bank(channel) for channel in dict.fromkeys(s.channel for one in mine for s in one.seats))
        set_by = box.setup.set_by
        told.append(BoxSettings(box, tuple(settings), HOW[set_by], banks if set_by == "switches" else ()))
    return tuple(told)


def switch_bank(channel: int) -> Bank:
    """The usual bank of four switches: the channel minus one in binary (common practice).

    >>> switch_bank(1).on, switch_bank(10).on
    ((False, False, False, False), (True, False, False, True))
    """
    return Bank(f"channel {channel}", tuple(bool((channel - 1) >> place & 1) for place in range(SWITCHES)))


def _sends(plan: Plan, box: Box) -> list[StartStep]:
    """What a box that is played has to send, on which channel and from which port."""
    if column_of(box.shape) != "hands":
        return []
    channels = ", ".join(map(str, box.setup.transmits))
    settings = []
    for end in ports_of(plan.rig, "in"):
        if end.box.uid == box.uid and end.socket.duty.startswith("played from"):
            on = f" on channel {channels}" if channels else ""
            settings.append(
                _setting(box, f"sends-{end.socket.label}-{channels}", f"it sends notes by {end.socket.label}{on}")
            )
    return settings


def _sounds(plan: Plan, box: Box, mine: list[Instrument]) -> list[StartStep]:
    if not mine:
        return []
    several = parts_of(box.shape, box.setup) > 1
    settings = []
    channels: dict[int, list[str]] = {}
    for instrument in mine:
        for seat in instrument.seats:
            name = f"{instrument.name}, {seat.name}" if seat.name else instrument.name
            channels.setdefault(seat.channel, []).append(name)
    for number, (channel, names) in enumerate(sorted(channels.items()), start=1):
        first = next(one for one in mine if any(seat.channel == channel for seat in one.seats))
        arrives = trip_of(plan.rig, replace(first, channel=channel)).arrives_on or channel
        part = f"part {number} " if several else ""
        words = f"{part}receives on channel {arrives}, for {' and '.join(names)}"
        settings.append(_setting(box, f"channel-{number}-{arrives}", words))
    omni = "omni is on" if box.setup.omni else "omni is off, so that it answers on its own channel only"
    settings.append(_setting(box, f"omni-{'on' if box.setup.omni else 'off'}", omni))
    if box.setup.local in ("on", "off"):
        settings.append(_setting(box, f"local-{box.setup.local}", f"local control is {box.setup.local}"))
    elif box.setup.local == "always on":
        settings.append(_setting(box, "local-always", "the host's echo is off, since its local control cannot be"))
    by = _reached_by(plan, mine[0])
    if by:
        settings.append(_setting(box, f"notes-from-{by}", f"it takes notes from {by}"))
    settings.append(_setting(box, "level-up", "its level is all the way up"))
    settings += [
        _setting(box, f"separate-{socket.separate}", f"the {socket.separate} leaves by {socket.label} alone")
        for socket in box.sockets
        if socket.separate and (plan.rig.cable_at(socket.uid) or socket.separate in box.setup.uses)
    ]
    return settings


def _reached_by(plan: Plan, instrument: Instrument) -> str:
    mine = next((r for r in heard_from(plan.rig, instrument.send) if r.box == instrument.box), None)
    if mine is None:
        return ""
    socket = plan.rig.find(mine.socket)[1]
    return socket.carried_by or {"midi": "its MIDI socket", "cv": "its voltage inputs"}[socket.kind]


def _clock(plan: Plan, box: Box) -> list[StartStep]:
    if box.setup.clock not in ("internal", "external") or not any(plan.rig.cable_at(s.uid) for s in box.sockets):
        return []
    words = {"internal": "its clock is internal: its own", "external": "its clock is external: it follows"}
    return [_setting(box, f"clock-{box.setup.clock}", words[box.setup.clock])]


def _setting(box: Box, what: str, text: str) -> StartStep:
    return StartStep(f"panel-{box.uid}-{what}"[:120], f"{text[0].upper()}{text[1:]}.")
