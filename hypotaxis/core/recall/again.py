"""What has to be done so that instruments sound again: cables, panels, routers, in the order in which it is done."""

from collections.abc import Iterable
from dataclasses import dataclass

from hypotaxis.core.midi.messages import program_change
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.recall.way import way_of
from hypotaxis.core.rig.panels import BoxSettings, panel_settings
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.printed import CableRow, cable_rows
from hypotaxis.core.rig.trips import listeners
from hypotaxis.core.rig.values import Box


@dataclass(frozen=True)
class Plug:
    """A cable to look at. key: under which it is ticked, which holds its ends: plugged elsewhere it is another one."""

    key: str
    row: CableRow

    @property
    def told(self) -> str:
        """How it is made, and marked."""
        return ", ".join(filter(None, (self.row.kind, self.row.length, self.row.cable.label, self.row.cable.colour)))


@dataclass(frozen=True)
class RoutingCall:
    """A router's stored routing. port: system name of the port that reaches the socket at which it is called up, "" =
    none does, which `why` says; number: as routers show it, from 1."""

    box: Box
    number: int
    message: bytes
    port: str = ""
    why: str = ""


@dataclass(frozen=True)
class ToDo:
    """All of it."""

    plugs: tuple[Plug, ...]
    settings: tuple[BoxSettings, ...]
    routings: tuple[RoutingCall, ...]

    @property
    def keys(self) -> frozenset[str]:
        """Under which its cables are ticked."""
        return frozenset(one.key for one in self.plugs)


def to_do(plan: Plan, owners: Iterable[Instrument | Loop]) -> ToDo:
    """For these instruments and effect loops to sound."""
    ways = [way_of(plan, one) for one in owners]
    cables = {cable.uid for way in ways for cable in way.cables}
    boxes = {box.uid for way in ways for box in way.boxes}
    return ToDo(
        plugs=tuple(
            Plug(f"replug-{row.cable.uid}-{row.cable.source[-12:]}-{row.cable.target[-12:]}", row)
            for row in cable_rows(plan)
            if row.cable.uid in cables
        ),
        settings=tuple(one for one in panel_settings(plan) if one.box.uid in boxes),
        routings=tuple(routing_calls(plan)),
    )


def routing_calls(plan: Plan) -> list[RoutingCall]:
    """Of every router whose stored routing is called up, the call."""
    return [_call(plan, box) for box in plan.rig.boxes if box.setup.routing is not None]


def _call(plan: Plan, box: Box) -> RoutingCall:
    setup = box.setup
    call = RoutingCall(box, setup.routing + 1, program_change(setup.routing_channel, setup.routing))
    socket = box.socket(setup.routing_by)
    if socket is None:
        return _without(call, f"{box.name} has no socket {setup.routing_by or 'noted'} for that: see its settings.")
    for end in ports_of(plan.rig, "out"):
        if not end.socket.system_name:
            continue
        heard = {reached.socket for reached in listeners(plan.rig, end.socket.uid, setup.routing_channel)}
        if socket.uid == end.socket.uid or socket.uid in heard:
            return RoutingCall(box, call.number, call.message, end.socket.system_name)
    return _without(call, f"No port of the host reaches {box.name} {socket.label}: cable one to it.")


def _without(call: RoutingCall, why: str) -> RoutingCall:
    return RoutingCall(call.box, call.number, call.message, why=why)
