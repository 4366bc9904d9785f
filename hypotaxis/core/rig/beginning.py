"""From an empty desk to the first sound: what is the one next thing to do?"""

from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.links import host_of
from hypotaxis.core.rig.plug import fits
from hypotaxis.core.rig.shapes import is_interface, parts_of
from hypotaxis.core.rig.trips import heard_from, homes_of, host_audio, send_sockets, trip_of
from hypotaxis.core.rig.values import Box, Rig, Socket

LAST = 6


@dataclass(frozen=True)
class Move:
    """The next move."""

    number: int
    """Of LAST."""
    kind: str
    """What is done: "interface", "box", "cable", "define" or "try"."""
    words: str
    why: str
    box: str = ""
    """Uid of the box or the instrument it is about."""
    source: str = ""
    target: str = ""
    """Sockets to join."""


def next_move(plan: Plan) -> Move | None:
    """What comes next until the first instrument is whole, then its first note; later the same for a box that was added
    and is not an instrument yet. None where nothing is left to do, several boxes are open, or nothing simple can be
    proposed (no free socket fits)."""
    rig = plan.rig
    if not any(is_interface(box.shape) for box in rig.boxes):
        return Move(1, "interface", "Add your interface", "It joins the computer to everything else.")
    sounding = [box for box in rig.boxes if parts_of(box.shape, box.setup) and box.shape != "host"]
    if not sounding:
        return Move(2, "box", "Add a box that sounds", "A synth, a drum machine, a module: one is enough to begin.")
    defined = {one.box for one in plan.instruments}
    undefined = [box for box in sounding if box.uid not in defined]
    if plan.instruments and len(undefined) != 1:
        instrument = plan.instruments[0]
        first = len(plan.instruments) == 1 and trip_of(rig, instrument).whole
        why = "Then you hear what comes home."
        return Move(LAST, "try", "Play a note on it", why, box=instrument.uid) if first else None
    box = undefined[0]
    return _cable_out(rig, box) or _cable_home(rig, box) or _define(rig, box)


def _cable_out(rig: Rig, box: Box) -> Move | None:
    if any(reached.box == box.uid for _, send in send_sockets(rig) for reached in heard_from(rig, send.uid)):
        return None
    hosts = [goal.box for s in box.sockets if (goal := host_of(rig, box, s))]
    # What is plugged into a USB host is fed by that.
    ins = [s for one in (*hosts[:1], box) for s in one.sockets if s.direction == "in" and s.pluggable]
    # Where every send is taken, the thru of a box that is reached already passes its notes on.
    thrus = [s for one in rig.boxes if one.uid != box.uid for s in one.sockets if s.thru_of and s.direction == "out"]
    ends = _first_fitting(rig, [*(send for _, send in send_sockets(rig)), *thrus], ins)
    if ends is None:
        return None
    words = f"Cable {rig.socket_text(ends[0].uid)} to {rig.socket_text(ends[1].uid)}"
    return Move(3, "cable", words, "So that its notes reach it.", source=ends[0].uid, target=ends[1].uid)


def _cable_home(rig: Rig, box: Box) -> Move | None:
    if homes_of(rig, box.uid):
        return None
    outs = [s for s in box.sockets if s.kind == "audio" and s.direction == "out" and not s.separate]
    ends = _first_fitting(rig, outs, [socket for _, socket in host_audio(rig, "in")])
    if ends is None:
        return None
    words = f"Cable {rig.socket_text(ends[0].uid)} to {rig.socket_text(ends[1].uid)}"
    return Move(4, "cable", words, "So that its sound comes home.", source=ends[0].uid, target=ends[1].uid)


def _first_fitting(rig: Rig, outs: list[Socket], ins: list[Socket]) -> tuple[Socket, Socket] | None:
    return next(((out, into) for out in outs for into in ins if fits(rig, out.uid, into.uid)), None)


def _define(rig: Rig, box: Box) -> Move | None:
    reached = any(r.box == box.uid for _, send in send_sockets(rig) for r in heard_from(rig, send.uid))
    if not (reached and homes_of(rig, box.uid)):
        return None
    return Move(5, "define", f"Make {box.name} an instrument", "One name for its way out and back.", box=box.uid)
