"""Rules about what is done by hand: the order of starting, and settings on the boxes."""

from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, Finding, Lead, counted, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.startup import HOST_ON, on_key


def host_before_boxes(plan: Plan) -> Iterator[Finding]:
    """The host is ticked as started while boxes that it has to find are not ticked as on."""
    if HOST_ON not in plan.ticked:
        return
    late = [
        box
        for box in plan.rig.boxes
        if box.shape != "host"
        and on_key(box) not in plan.ticked
        and any(plan.rig.cable_at(socket.uid) for socket in box.sockets if socket.kind in ("usb", "network"))
    ]
    if late:
        names = [box.name for box in late]
        yield Finding(
            severity=RISKY,
            about=late[0].uid,
            also=tuple(box.uid for box in late[1:]),
            title=f"The host was started before {listed(names[:3])}{' and others' if len(names) > 3 else ''}",
            message="What is switched on after the host is often not found: its ports are missing, or another takes "
            "their "
            "place.",
            remedy="Switch on what is missing on the start-up list, then start the host again.",
        )


def settings_not_made(plan: Plan) -> Iterator[Finding]:
    """Boxes whose panel settings are begun and not finished: some are ticked, others are not."""
    if not plan.ticked:
        return
    for one in panel_settings(plan):
        open_ones = [step for step in one.settings if step.key not in plan.ticked]
        if open_ones and len(open_ones) < len(one.settings):
            first = open_ones[0].text
            yield Finding(
                severity=WORTH_KNOWING,
                about=one.box.uid,
                title=f"{counted(len(open_ones), 'setting')} of {one.box.name} "
                f"{'is' if len(open_ones) == 1 else 'are'} open",
                message="The plan asks for something that is not ticked as made on the box: "
                f"{first[0].lower()}{first[1:]}",
                remedy="Make it on the box and tick it on the panel settings.",
                facts=tuple(step.key for step in open_ones),
                lead=Lead("panels", "Panel settings", one.box.uid),
            )
