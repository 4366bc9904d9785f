"""Asking who is there: the worker sends an identity request on every port that goes to boxes, and listens."""

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.identity import REQUEST, Identity, read_reply
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.answering import Answer, Proposal, proposals
from hypotaxis.core.rig.change import set_box
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import send_sockets
from hypotaxis.core.rig.values import Box
from hypotaxis.core.studio import Message, RunSetup, Written
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for

APART_NS = 120_000_000
"""Between one port and the next, so that it is known which of them was answered (common practice: replies come within
a few ms; 100 ms is ample)."""
TAIL_S = 0.4


def start_asking(rig: Rig) -> Job:
    """Let the worker ask on every port."""
    job = begin("asking", about=str(rig.uid))
    hand_over(job)
    return job


@work("asking")
def ask(job_uid: str) -> None:
    """The task: ask on one port after the other, keep what came back."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        plan = load_plan(Rig.objects.get(uid=reporter.job.about))
        sends = [socket for _, socket in send_sockets(plan.rig) if socket.system_name]
        came: list[Message] = []
        with studio_for(plan) as studio:
            there = {port.system_name for port in studio.ports() if port.direction == "out" and not port.taken}
            sends = [socket for socket in sends if socket.system_name in there]
            if not sends:
                raise CannotSchedule("There is no port to a box to ask on. Look at the list of ports.")
            asked = [Message(place * APART_NS, socket.system_name, REQUEST) for place, socket in enumerate(sends)]
            frames = round((asked[-1].time_ns / 1e9 + TAIL_S) * studio.sample_rate)
            for block in studio.run(Written(asked), RunSetup(frames=frames)):
                came += block.received
                reporter.tell((block.start + len(block.samples)) / frames)
        names = {end.socket.system_name: end.socket.uid for end in ports_of(plan.rig, "in")}
        rows = []
        for message in came:
            identity = read_reply(message.data)
            place = min(len(sends) - 1, message.time_ns // APART_NS)
            if identity and message.port in names:
                rows.append([sends[place].uid, names[message.port], message.data.hex()])
        reporter.job.result = {"answers": rows, "asked": len(sends)}
        reporter.job.save(update_fields=["result"])


def answered(plan: Plan, job: Job) -> list[Proposal]:
    """What came back, and which box each answer is taken for."""
    rows = job.result.get("answers", [])
    found = [(sent, came, read_reply(bytes.fromhex(data))) for sent, came, data in rows]
    return proposals(plan, [Answer(sent, came, identity) for sent, came, identity in found if identity])


def keep_identity(rig: Rig, plan: Plan, box: Box, kind: str) -> None:
    """Keep by which identity a box is known."""
    change_plan(rig, f"{box.name} answers as {kind}", plan, set_box(plan, box.uid, identity=kind))


def words(identity: Identity) -> str:
    """An identity as it is shown."""
    return f"maker {identity.maker.hex(' ').upper()}, family {identity.family}, model {identity.model}"
