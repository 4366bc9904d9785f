"""Effect loops: proposed from what the sheet says, kept through the journal."""

from dataclasses import dataclass, replace

from hypotaxis.core.plan import Loop, Plan
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.change import keep_loop, without_loop
from hypotaxis.core.rig.loops import loop_sentence, sends_of, takes_audio
from hypotaxis.core.rig.sentence import Piece
from hypotaxis.core.rig.trips import homes_of, returns_text
from hypotaxis.core.timing.applied import KnownLateness
from hypotaxis.records.current import InUse
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Rig


@dataclass(frozen=True)
class LoopLine:
    """A loop as its ruled line shows it."""

    loop: Loop
    send: str
    box: str
    home: str
    sentence: tuple[Piece, ...]
    findings: list
    known: KnownLateness


def loop_lines(here: InUse) -> list[LoopLine]:
    """The effect loops in their order."""
    rig = here.plan.rig
    lines = []
    for loop in here.plan.loops:
        box = rig.box(loop.box)
        lines.append(
            LoopLine(
                loop,
                returns_text(rig, loop.sends) if loop.sends else "",
                box.name if box else "a box that is gone" if loop.box else "straight home",
                returns_text(rig, loop.returns) + (", inverted" if loop.inverted else ""),
                loop_sentence(rig, loop),
                here.findings_about(loop.uid),
                here.latenesses.known[loop.uid],
            )
        )
    return lines


def propose_loop(plan: Plan, box_uid: str = "") -> Loop:
    """A loop through a box, or the first that the host's audio reaches and that is in no loop yet, as it is cabled."""
    used = {loop.box for loop in plan.loops} | {one.box for one in plan.instruments}
    asked = plan.rig.box(box_uid)
    for box in [asked] if asked else plan.rig.boxes:
        sends = sends_of(plan.rig, box.uid)[:2] if takes_audio(box) and box.uid not in used else []
        if sends:
            returns = tuple(homes_of(plan.rig, box.uid)[:2])
            return Loop(uid=new_uid(), name=box.name, box=box.uid, sends=tuple(sends), returns=returns)
    return Loop(uid=new_uid(), name="", box="")


def keep(rig: Rig, plan: Plan, loop: Loop) -> None:
    """Store a new or changed loop; its tab has the colour of its box."""
    box = plan.rig.box(loop.box)
    value = replace(loop, colour=box.colour if box else loop.colour)
    word = "change" if plan.loop(loop.uid) else "define"
    change_plan(rig, f"{word} the loop {loop.name}", plan, keep_loop(plan, value))


def remove(rig: Rig, plan: Plan, loop: Loop) -> None:
    """Remove a loop."""
    change_plan(rig, f"remove the loop {loop.name}", plan, without_loop(plan, loop.uid))
