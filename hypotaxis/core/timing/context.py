"""What does a lateness depend on, and what of it has changed since it was measured?

A context is kept with each sounding and take: one text for each thing, so that two of them can be laid side by side.
"""

import json
from collections.abc import Mapping
from dataclasses import asdict

from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.loops import loop_trip
from hypotaxis.core.rig.trips import heard_from, way_home
from hypotaxis.core.rig.values import Cable, Rig, Route
from hypotaxis.core.studio import STAND_IN

WORDS = {
    "studio": "studio",
    "rate": "sample rate",
    "buffer": "buffer",
    "interface": "interface",
    "path": "cable path",
    "patch": "patch",
    "setting": "setting of the box",
    "driver": "kind of driver",
    "stamps": "source of the time stamps",
}
"""What is looked at, and how it is called."""


def context_of(plan: Plan, instrument: Instrument, *, part: str = "", back: str = "") -> dict[str, str]:
    """What the lateness of a part's trip home by a return depends on (part, back: uids, "" = the first part, the main
    return)."""
    rig = plan.rig
    seat = instrument.seat(part)
    home = next((one for one in instrument.every_return if one.uid == back), instrument.every_return[0])
    reached = next((one for one in heard_from(rig, seat.send) if one.box == instrument.box), None)
    path = [f"{seat.send} {seat.channel}"]
    path += [text for hop in (reached.hops if reached else ()) for text in _cable(hop.cable, hop.route)]
    path += [text for uid in home.inputs for cable in way_home(rig, uid, instrument.box) for text in _cable(cable)]
    patch = next((one.patch for one in instrument.parts if one.uid == part), instrument.patch)
    ends = [seat.send, *home.inputs]
    return _common(plan, ends, path) | {"patch": patch, "setting": _setting(rig, instrument.box)}


def context_of_loop(plan: Plan, loop: Loop) -> dict[str, str]:
    """The same of an effect loop."""
    trip = loop_trip(plan.rig, loop)
    path = [text for way in (*trip.outward, *trip.home) for cable in way for text in _cable(cable)]
    return _common(plan, [*loop.sends, *loop.returns], path) | {
        "patch": "",
        "setting": _setting(plan.rig, loop.box),
    }


def _common(plan: Plan, ends: list[str], path: list[str]) -> dict[str, str]:
    rig = plan.rig
    found = [rig.find(uid) for uid in ends]
    return {
        "studio": plan.studio_kind,
        "rate": str(rig.sample_rate),
        "buffer": str(rig.buffer),
        "interface": " ".join(dict.fromkeys(one[0].uid for one in found if one)),
        "path": ", ".join(path),
        "driver": rig.driver,
        "stamps": rig.stamps,
    }


def _cable(cable: Cable, route: Route | None = None) -> list[str]:
    inside = [f"route {route.source}>{route.target}"] if route else []
    return [*inside, f"{cable.source}>{cable.target}"]


def _setting(rig: Rig, uid: str) -> str:
    box = rig.box(uid)
    return json.dumps(asdict(box.setup), sort_keys=True) if box else ""


def changed(then: Mapping[str, str], now: Mapping[str, str]) -> tuple[str, ...]:
    """What has changed, in words, in the order of WORDS; nothing where it is not known what was then.

    >>> changed({"buffer": "256", "rate": "48000"}, {"buffer": "128", "rate": "48000"})
    ('buffer 256, now 128',)
    """
    plain = ("studio", "rate", "buffer", "driver", "stamps")
    # Measurements that do not say their studio were made before there was a choice.
    then = {"studio": STAND_IN} | dict(then) if then else then
    return tuple(
        f"{word} {then[name] or 'not noted'}, now {now[name] or 'not noted'}" if name in plain else word
        for name, word in WORDS.items()
        if name in then and name in now and then[name] != now[name]
    )
