"""Which box answered on which port? What was asked for and what came back, against the sheet."""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.midi.identity import Identity
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import heard_from


@dataclass(frozen=True)
class Answer:
    """A reply: the port it was asked on and the one it came by (socket uids), and what it says."""

    sent_on: str
    came_by: str
    identity: Identity


@dataclass(frozen=True)
class Proposal:
    """What an answer means. box: uid of the box it is taken for, "" = none; told: why, or what is odd."""

    answer: Answer
    box: str
    told: str


def proposals(plan: Plan, answers: Sequence[Answer]) -> list[Proposal]:
    """For each answer the box that is known by this identity, otherwise the only one that hears the port and is not
    known by another."""
    found = []
    for answer in answers:
        heard = list(dict.fromkeys(reached.box for reached in heard_from(plan.rig, answer.sent_on)))
        known = [box for box in plan.rig.boxes if box.identity == answer.identity.kind]
        here = [box for box in known if box.uid in heard]
        open_boxes = [uid for uid in heard if not plan.rig.box(uid).identity]
        if here:
            found.append(Proposal(answer, here[0].uid, "It is known by this identity."))
        elif known:
            names = " or ".join(box.name for box in known)
            told = f"It is known as {names}, and the sheet cables that elsewhere."
            found.append(Proposal(answer, known[0].uid, told))
        elif len(open_boxes) == 1:
            found.append(Proposal(answer, open_boxes[0], "It is the only box behind this port that is not known yet."))
        else:
            names = ", ".join(plan.rig.box(uid).name for uid in open_boxes)
            told = f"Behind this port hang {names}: which of them is it?" if names else "The sheet has nothing there."
            found.append(Proposal(answer, "", told))
    return found
