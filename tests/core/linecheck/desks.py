"""Desks with mistakes that the plan knows nothing of, drawn at random: what is planted, what the check must say."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.linecheck.hearing import LineHeard
from hypotaxis.core.linecheck.lines import Line, lines_of, probes_of, slots_of
from hypotaxis.core.linecheck.playing import play
from hypotaxis.core.linecheck.verdicts import (
    CHANNEL,
    ELSEWHERE,
    ONE_SIDE,
    OTHER_BOX,
    SILENT,
    SWAPPED,
    Verdict,
    verdicts,
)
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import box_from_shape, new_uid
from hypotaxis.core.rig.change import with_cable
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.rig.values import Box, Cable, Rig
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.units import FrontPanel, panel_as_delivered

NAMES = (
    *("Avocet", "Brent", "Curlew", "Dunlin", "Egret", "Fulmar", "Godwit", "Harrier", "Ibis", "Knot"),
    *("Linnet", "Merlin", "Nightjar", "Osprey", "Pipit", "Quail", "Ruff", "Snipe", "Teal", "Wigeon"),
)
SHAPES = ("poly-synth", "mono-synth")
INPUTS, A_CHAIN = 10, 3
"""Of an interface; and boxes on an out of a router at the most."""


@dataclass(frozen=True)
class Planted:
    """A desk and what is wrong on it: the box, the kinds of verdict that say so, words of the cause that is true."""

    plan: Plan
    desk: Desk
    box: str
    kinds: frozenset[str]
    words: str
    apart: bool = True
    """By what is heard it can be told from every other mistake: that a box is off, its MIDI cable is out, or (with none
    behind it) its audio cable, sounds all the same."""


def a_plan(rng: np.random.Generator, count: int) -> Plan:
    """So many boxes, in chains of up to three on the outs of a router, each home on inputs of its own."""
    # An interface with a free input or two: a pair for some, one for all; and as many routers as it takes.
    routers = 1 + count // 9
    boxes = [box_from_shape("host", "host"), _interface(max(INPUTS, count + 4))]
    boxes += [box_from_shape("router-6", f"Fork {number}") for number in range(routers)]
    pairs = set(rng.permutation(count)[: max(0, _inputs(boxes[1]) - count - 1)].tolist())
    for number in range(count):
        shape = SHAPES[0] if number in pairs and rng.random() < 0.6 else SHAPES[1]
        boxes.append(box_from_shape(shape, NAMES[number], order=number))
    plan = Plan(rig=Rig(uid=new_uid(), name="Desk", boxes=tuple(boxes)))
    host, quay, *rest = plan.rig.boxes
    forks, sounding = rest[:routers], rest[routers:]
    usb = [one.uid for one in host.sockets if one.kind == "usb"]
    for place, box in enumerate((quay, *forks)):
        link = next(one for one in box.sockets if one.kind == "usb")
        plan = with_cable(plan, link.uid, usb[place])
    outs = [one for box in forks for one in box.sockets if (one.kind, one.direction) == ("midi", "out")]
    inputs = [one for one in quay.sockets if (one.kind, one.direction) == ("audio", "in")]
    instruments, tail, chained, channel = [], None, 0, 0
    for box in sounding:
        if outs and (tail is None or chained == A_CHAIN or rng.random() < 0.4):
            send, chained, channel = outs.pop(0), 0, 0
            tail = send
        chained, channel = chained + 1, channel + 1
        plan = with_cable(plan, tail.uid, box.socket("MIDI in").uid)
        tail = box.socket("thru")
        homes = [one for one in box.sockets if (one.kind, one.direction) == ("audio", "out")]
        mine = []
        for out in homes:
            into = inputs.pop(0)
            plan = with_cable(plan, out.uid, into.uid)
            mine.append(into.uid)
        instruments.append(
            Instrument(uid=new_uid(), name=box.name, box=box.uid, send=send.uid, channel=channel, returns=tuple(mine))
        )
    return replace(plan, instruments=tuple(instruments))


def _interface(inputs: int) -> Box:
    """An interface with so many inputs."""
    box = box_from_shape("interface-18", "Quay")
    first = next(one for one in box.sockets if (one.kind, one.direction) == ("audio", "in"))
    more = range(INPUTS + 1, inputs + 1)
    names = [(f"line in {number}", first.system_name.replace(first.label, f"line in {number}")) for number in more]
    added = [replace(first, uid=new_uid(), label=label, system_name=name) for label, name in names]
    return replace(box, sockets=(*box.sockets, *added))


def _inputs(box: Box) -> int:
    return sum((one.kind, one.direction) == ("audio", "in") for one in box.sockets)


def panels_of(plan: Plan) -> dict[str, FrontPanel]:
    """Every box set as the plan wants it."""
    found = {}
    for one in plan.instruments:
        box = plan.rig.box(one.box)
        parts = panel_as_delivered(box).channels
        found[box.uid] = FrontPanel(tuple([one.channel, *[16] * (len(parts) - 1)]))
    return found


def _cables(plan: Plan, change: Callable[[list[Cable]], list[Cable]]) -> Rig:
    return replace(plan.rig, cables=tuple(change(list(plan.rig.cables))))


def planted(rng: np.random.Generator, count: int) -> Planted:
    """A desk with one mistake."""
    plan = a_plan(rng, count)
    panels, rig = panels_of(plan), plan.rig
    one = plan.instruments[int(rng.integers(len(plan.instruments)))]
    box, name = plan.rig.box(one.box), plan.rig.box(one.box).name
    home = [plan.rig.cable_at(uid) for uid in one.returns]
    chain = [other for other in plan.instruments if other.send == one.send and other.uid != one.uid]
    single = [other for other in plan.instruments if len(other.returns) == len(one.returns) and other.uid != one.uid]
    free = [s.uid for _, s in return_sockets(plan.rig) if plan.rig.cable_at(s.uid) is None]
    kinds = ["audio out", "off", "channel"]
    kinds += ["one side"] if len(home) == 2 else []
    kinds += ["elsewhere"] if len(free) >= len(home) else []
    kinds += ["omni"] if chain else []
    kinds += ["swapped"] if single else []
    kinds += ["midi out"]
    what = str(rng.choice(kinds))
    gone = {cable.uid for cable in home}
    if what == "audio out":
        rig, said, words = (
            _cables(plan, lambda all_: [c for c in all_ if c.uid not in gone]),
            {SILENT},
            f"from {name} to",
        )
    elif what == "off":
        panels[box.uid] = replace(panels[box.uid], off=True)
        said, words = {SILENT}, f"{name} is off"
    elif what == "channel":
        other = int(rng.choice([c for c in range(9, 16)]))
        panels[box.uid] = replace(panels[box.uid], channels=(other, *panels[box.uid].channels[1:]))
        said, words = {CHANNEL}, f"{name} is set to channel {other}"
    elif what == "one side":
        lost = home[int(rng.integers(2))].uid
        rig, said, words = _cables(plan, lambda all_: [c for c in all_ if c.uid != lost]), {ONE_SIDE}, "The cable to"
    elif what == "elsewhere":
        new = dict(zip([c.uid for c in home], free, strict=False))
        rig = _cables(plan, lambda all_: [replace(c, target=new.get(c.uid, c.target)) for c in all_])
        said, words = {ELSEWHERE}, f"The cable of {name} is plugged into"
    elif what == "omni":
        panels[box.uid] = replace(panels[box.uid], omni=True)
        said, words = {OTHER_BOX}, f"{name} is in omni"
    elif what == "swapped":
        other = single[int(rng.integers(len(single)))]
        theirs = [plan.rig.cable_at(uid) for uid in other.returns]
        new = {a.uid: b.target for a, b in zip(home, theirs, strict=True)}
        new |= {b.uid: a.target for a, b in zip(home, theirs, strict=True)}
        rig = _cables(plan, lambda all_: [replace(c, target=new.get(c.uid, c.target)) for c in all_])
        said, words = {SWAPPED}, "are swapped"
    else:
        into = plan.rig.cable_at(box.socket("MIDI in").uid)
        rig, said = _cables(plan, lambda all_: [c for c in all_ if c.uid != into.uid]), {SILENT}
        words = f"No note reaches {name}"
    desk = Desk(rig, panels, seed=int(rng.integers(1, 1000)))
    behind = [other for other in chain if other.channel > one.channel]
    apart = what not in ("off", "midi out") and (what != "audio out" or bool(behind))
    return Planted(plan, desk, box.uid, frozenset(said), words, apart)


def sound_desk(rng: np.random.Generator, count: int) -> Planted:
    """One on which all is as planned."""
    plan = a_plan(rng, count)
    return Planted(plan, Desk(plan.rig, panels_of(plan), seed=int(rng.integers(1, 1000))), "", frozenset(), "")


def checked(one: Planted) -> tuple[Verdict, ...]:
    """What the line check says of a desk."""
    inputs = [(socket.uid, socket.system_name) for _, socket in return_sockets(one.plan.rig)]
    heard: dict[Line, LineHeard] = {}
    for slot, found in play(one.desk, slots_of(lines_of(one.plan)), inputs, fast=True):
        if found:
            heard[slot.line] = found
    silent = [line for line, found in heard.items() if not found.moved and not line.is_effect]
    answers = {}
    for slot, found in play(one.desk, probes_of(silent), inputs, fast=True):
        if found and set(found.moved) & set(slot.line.inputs):
            answers.setdefault(slot.line.key, slot.channel)
    return verdicts(one.plan, heard, answers_on=answers)
