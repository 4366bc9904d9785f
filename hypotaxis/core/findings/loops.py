"""Rules about effect loops: do they go out, do they come home, and does anyone else come home there?"""

from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WRONG, Finding, Fix
from hypotaxis.core.plan import Loop, Plan
from hypotaxis.core.rig.change import keep_loop
from hypotaxis.core.rig.loops import loop_trip, sends_of
from hypotaxis.core.rig.trips import homes_of, returns_text


def loop_out_open(plan: Plan) -> Iterator[Finding]:
    """An effect loop whose outputs do not reach its box."""
    for loop in plan.loops:
        box = plan.rig.box(loop.box)
        if loop_trip(plan.rig, loop).goes_out:
            continue
        there = tuple(sends_of(plan.rig, loop.box)[:2])
        yield Finding(
            severity=WRONG,
            about=loop.uid,
            title=f"Nothing reaches {box.name if box else 'the other end'} of the loop {loop.name}",
            message=f"It is sent by {returns_text(plan.rig, loop.sends)}, and no cable leads on from there to "
            f"{'its box' if loop.box else 'its return'}."
            if loop.sends
            else "No output is chosen for it, so there is nothing to process.",
            remedy="Choose the output that its cable begins at, or cable it.",
            socket=loop.sends[0] if loop.sends and plan.rig.find(loop.sends[0]) else "",
            facts=loop.sends,
            fix=Fix(
                f"Send by {returns_text(plan.rig, there)}", lambda p, one=loop, there=there: _with(p, one, sends=there)
            )
            if there
            else None,
        )


def loop_home_open(plan: Plan) -> Iterator[Finding]:
    """An effect loop whose box does not come home on its returns."""
    for loop in plan.loops:
        # A straight loop is one cable: that it is missing is said once.
        if loop_trip(plan.rig, loop).comes_home or (not loop.box and loop.returns):
            continue
        there = tuple(homes_of(plan.rig, loop.box)[:2])
        yield Finding(
            severity=WRONG,
            about=loop.uid,
            title=f"The loop {loop.name} does not come home",
            message=f"Its return is {returns_text(plan.rig, loop.returns)}, and no cable brings its box there."
            if loop.returns
            else "No return is chosen for it, so what it does is not heard.",
            remedy="Choose the input that its cable ends at, or cable it.",
            socket=loop.returns[0] if loop.returns and plan.rig.find(loop.returns[0]) else "",
            facts=loop.returns,
            fix=Fix(
                f"Take {returns_text(plan.rig, there)} as its return",
                lambda p, one=loop, there=there: _with(p, one, returns=there),
            )
            if there
            else None,
        )


def loop_home_shared(plan: Plan) -> Iterator[Finding]:
    """An input by which a loop and an instrument both come home."""
    for loop in plan.loops:
        for instrument in plan.instruments:
            shared = tuple(uid for uid in loop.returns if uid in instrument.inputs)
            if shared:
                yield Finding(
                    severity=RISKY,
                    about=loop.uid,
                    also=(instrument.uid,),
                    title=f"{loop.name} and {instrument.name} come home on one input",
                    message=f"{returns_text(plan.rig, shared)} is the return of both: neither can be told apart.",
                    remedy="Give one of them another return.",
                    socket=shared[0],
                )


def _with(plan: Plan, loop: Loop, **fields) -> Plan:
    return keep_loop(plan, replace(loop, **fields))
