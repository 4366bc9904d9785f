"""In which order is the desk brought to life? A list made from the rig, to be ticked each day.

The order is common practice: plug with the power off, then interfaces and boxes, then what the computer needs, then the
host; and what to try, in order, when something is missing. Keys stay the same as long as what they speak of does.
"""

from collections import defaultdict
from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import runs
from hypotaxis.core.rig.values import Box, Rig

MISSING = (
    ("missing-power", "Is it on, and was it on before the host was started? Start the host again."),
    ("missing-held", "Does another program hold its ports? Close it."),
    ("missing-scan", "Let the host look for its devices anew."),
    ("missing-driver", "Install the driver again."),
    ("missing-reboot", "Restart the computer, with the interface switched on."),
)


HOST_ON = "host-on"


def on_key(box: Box) -> str:
    """What "this box is on" is ticked under."""
    return f"on-{box.uid}"


@dataclass(frozen=True)
class StartStep:
    """One thing to do. key: what it is ticked under."""

    key: str
    text: str


@dataclass(frozen=True)
class Stage:
    """Steps that belong together; ticked: whether they are ticked each day, or only looked up in need."""

    title: str
    steps: tuple[StartStep, ...]
    ticked: bool = True


def startup_list(plan: Plan) -> tuple[Stage, ...]:
    """The stages in order; an empty rig has none."""
    rig = plan.rig
    boxes = [box for box in sorted(rig.boxes, key=lambda box: box.order) if box.shape != "host"]
    if not boxes:
        return ()
    interfaces = [box for box in boxes if is_interface(box.shape)]
    others = [box for box in boxes if not is_interface(box.shape)]
    cabled = [(box, told) for box in others if (told := _cables_of(rig, box))]
    stages = [
        Stage(
            "With the power off",
            tuple(StartStep(f"cables-{box.uid}", f"{box.name} is plugged: {told}.") for box, told in cabled),
        ),
        Stage(
            "Switch on",
            tuple(StartStep(on_key(box), f"{box.name} is on.") for box in [*interfaces, *others]),
        ),
        Stage(
            "On the computer",
            tuple(
                StartStep(f"driver-{box.uid}", f"The driver of {box.name} is in place, and no other program holds it.")
                for box in interfaces
            ),
        ),
        Stage(
            "Then the host",
            (
                StartStep(HOST_ON, "The host is started, after everything else."),
                StartStep(
                    f"host-{rig.sample_rate}-{rig.buffer}",
                    f"It runs at {rig.sample_rate} Hz with a buffer of {rig.buffer} samples.",
                ),
            ),
        ),
        Stage("If the host does not see something", tuple(StartStep(*row) for row in MISSING), ticked=False),
    ]
    return tuple(stage for stage in stages if stage.steps)


def _cables_of(rig: Rig, box: Box) -> str:
    """Where a box's cables lead, those to one other box together."""
    ends: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for socket in box.sockets:
        other = rig.far_end(socket.uid)
        if other:
            ends[other[0].name].append((socket.name, other[1].name))
    told = []
    for name, pairs in ends.items():
        mine, theirs = runs(one for one, _ in pairs), runs(other for _, other in pairs)
        told.append(f"{', '.join(mine)} to {name} {', '.join(theirs)}")
    return "; ".join(told)
