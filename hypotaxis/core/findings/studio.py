"""Rules about the studio of real devices: does the plan fit what it reports?"""

from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, Lead, counted, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import set_rig
from hypotaxis.core.rig.listening import seats_of
from hypotaxis.core.rig.trips import runs

RIGHTS = "sudo adduser $USER audio"
"""What gives the rights of real time on Debian, with the limits that JACK's package offers to set."""


def rate_differs(plan: Plan) -> Iterator[Finding]:
    """The rig's sample rate is not the studio's: what is planned in samples would be placed wrongly."""
    rate = plan.studio.rate if plan.studio else plan.rig.sample_rate
    if rate != plan.rig.sample_rate:
        yield Finding(
            severity=WRONG,
            about=plan.rig.uid,
            title=f"The studio runs at {rate} Hz, the rig at {plan.rig.sample_rate} Hz",
            message="Nothing is recorded until they agree: positions would be counted at one rate and recorded at the "
            "other. Takes that are there keep the rate they were made at.",
            remedy="Take the studio's rate over, or set the studio to the rig's.",
            facts=(str(rate), str(plan.rig.sample_rate)),
            fix=Fix(f"Set the rig to {rate} Hz", lambda p: set_rig(p, sample_rate=rate)),
        )


def buffer_differs(plan: Plan) -> Iterator[Finding]:
    """The rig's buffer is not the studio's: lateness is known for another one."""
    buffer = plan.studio.buffer if plan.studio else plan.rig.buffer
    if buffer != plan.rig.buffer:
        yield Finding(
            severity=RISKY,
            about=plan.rig.uid,
            title=f"The studio's buffer is {buffer} samples, the rig's {plan.rig.buffer}",
            message="Lateness depends on it: what was measured with the one is not true of the other.",
            remedy="Take the studio's buffer over, then sound what is stale.",
            facts=(str(buffer), str(plan.rig.buffer)),
            fix=Fix(f"Set the rig to {buffer} samples", lambda p: set_rig(p, buffer=buffer)),
        )


def no_real_time_rights(plan: Plan) -> Iterator[Finding]:
    """The audio server runs without the rights of real time, so that frames may be lost."""
    if plan.studio and plan.studio.realtime is False:
        yield Finding(
            severity=RISKY,
            about=plan.rig.uid,
            title="The studio has no real-time rights",
            message=f"When the computer is busy, frames are lost at {plan.studio.buffer} samples; silence stands in "
            "their place.",
            remedy=f"Type “{RIGHTS}”, log out and in, and start the server with real time; or take a larger buffer.",
        )


def frames_lost(plan: Plan) -> Iterator[Finding]:
    """The last run lost frames, or sent behind its time."""
    told = plan.told
    if told and (told.lost or told.late):
        lost = f"{told.lost} frames did not come" if told.lost else ""
        late = f"{told.late} messages left too late" if told.late else ""
        yield Finding(
            severity=RISKY,
            about=plan.rig.uid,
            title=f"In the last run {listed([one for one in (lost, late) if one])}",
            message=f"It lasted {told.seconds:.0f} s, and the server was late {told.xruns} times. What was lost is "
            "silence in its place; what left late sounds late.",
            remedy="Take a larger buffer, close what else keeps the computer busy, or see to real-time rights.",
            facts=(str(told.lost), str(told.late), f"{told.seconds:.0f}"),
        )


def xruns_told(plan: Plan) -> Iterator[Finding]:
    """The server was late in the last run, and nothing was lost by it."""
    told = plan.told
    if told and told.xruns and not (told.lost or told.late):
        yield Finding(
            severity=WORTH_KNOWING,
            about=plan.rig.uid,
            title=f"The studio was late {counted(told.xruns, 'time')} in the last run",
            message=f"It lasted {told.seconds:.0f} s. No frame was lost and no message left late, so what was recorded "
            "stands; more of it, and frames will be lost.",
            remedy="Take a larger buffer, or close what else keeps the computer busy.",
            facts=(str(told.xruns), f"{told.seconds:.0f}"),
        )


def two_crystals(plan: Plan) -> Iterator[Finding]:
    """What is played out and what is recorded go through two interfaces, each with its own crystal."""
    devices = plan.studio.devices if plan.studio else ()
    if len(devices) > 1:
        yield Finding(
            severity=RISKY,
            about=plan.rig.uid,
            title=f"{listed(list(devices))} have a crystal each",
            message="Two crystals are never quite alike: what is played out by the one and comes home by the other "
            "drifts, by some thousandths of a second a minute, and frames are lost or doubled to make up for it.",
            remedy="Choose one interface for both on the sheet Studio, or let one lead the other by word clock.",
            facts=devices,
        )


def end_unmatched(plan: Plan) -> Iterator[Finding]:
    """A port or an input that an instrument needs and that no reported one is matched to."""
    if plan.studio is None:
        return
    ports = {port.system_name for port in plan.studio.ports}
    audio = {end.name for end in (*plan.studio.inputs, *plan.studio.outputs)}
    wanted = [(seat.send, ports) for _, seat, _ in seats_of(plan)]
    wanted += [(uid, audio) for one in plan.instruments for uid in one.inputs]
    wanted += [(uid, audio) for loop in plan.loops for uid in (*loop.sends, *loop.returns)]
    silent: dict[str, list[str]] = {}
    for uid, there in dict(wanted).items():
        found = plan.rig.find(uid)
        # A port that was matched and has gone is told as missing.
        gone = there is ports and found and found[1].system_name
        if found and found[1].system_name not in there and not gone:
            silent.setdefault(found[0].uid, []).append(found[1].name)
    for box, names in silent.items():
        several = len(names) > 1
        yield Finding(
            severity=WRONG,
            about=box,
            title=f"{listed(runs(names))} of {plan.rig.box(box).name} {'have' if several else 'has'} no counterpart",
            message="The studio reports nothing that "
            f"{'they are' if several else 'it is'} matched to, so nothing goes out or comes home there.",
            remedy="Say which reported port or input is which; what is missing may be switched off, or not bridged.",
            facts=tuple(names),
            lead=Lead("ends", "Match them", box),
        )
