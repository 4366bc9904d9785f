"""What stands otherwise now than when something was recorded, and how is it put back?

Two plans are laid beside each other: the one of then and today's. Only what the sound of one instrument or effect loop
goes through is looked at, so that what was changed elsewhere on the desk is not told. Rows are known by their uids: a
thing that was renamed is the same thing.
"""

from collections.abc import Callable, Iterator, Sequence, Set
from dataclasses import asdict, dataclass, field, fields, replace

from hypotaxis.core.findings.finding import Fix
from hypotaxis.core.plan import Instrument, Loop, Part, Plan, Return, Voice
from hypotaxis.core.recall.way import Way, way_of
from hypotaxis.core.rig.change import (
    keep_instrument,
    keep_loop,
    set_box,
    set_instrument,
    set_loop,
    set_rig,
    set_sockets,
    set_up,
    with_cable,
    without_cable,
)
from hypotaxis.core.rig.plug import CABLE_KINDS, kind_of_cable
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.rig.values import Box, Cable, Rig, Route, Setup, Socket
from hypotaxis.core.studio import STAND_IN
from hypotaxis.core.sync.values import Following, Sending

BOX, SOCKET, CABLE, ROUTE, SETTING, DEFINITION, CLOCK, INTERFACE, STUDIO, SOUND = KINDS = (
    "boxes",
    "sockets",
    "cables",
    "routes",
    "settings of boxes",
    "definitions",
    "clock",
    "the interface",
    "the studio",
    "sounds",
)
"""What may differ, in the order in which it is put back: a cable needs its box."""


@dataclass(frozen=True)
class Difference:
    """One thing that stands otherwise. key: names it among others of the same two plans; about: the thing itself; then,
    now: how it stood and stands, in words; desk: what is to be done by hand besides, "" = nothing; fix: how the plan is
    put back, None where that cannot be."""

    key: str
    kind: str
    about: str
    then: str
    now: str
    desk: str = ""
    fix: Fix | None = field(default=None, compare=False)

    @property
    def told(self) -> str:
        """In a sentence."""
        return f"{self.about}: {self.then}; now {self.now}."


def differences(then: Plan, now: Plan, uid: str) -> tuple[Difference, ...]:
    """Of the instrument or effect loop with this uid; none where then knew none such."""
    owner = then.instrument(uid) or then.loop(uid)
    if owner is None:
        return ()
    way = way_of(then, owner)
    found = [
        *_boxes(then, now, way),
        *_sockets(then, now, way),
        *_cables(then, now, way),
        *_routes(then, now, way),
        *_settings(now, way),
        *(_loop(then, now, owner) if isinstance(owner, Loop) else _instrument(then, now, owner)),
        *_clocks(now, way),
        *_interface(then, now),
    ]
    if then.studio_kind != now.studio_kind:
        found.append(studio_differs(then.studio_kind, now.studio_kind))
    return tuple(found)


def studio_differs(then: str, now: str) -> Difference:
    """Another studio is in use."""
    desk = f"On Rig, Studio, choose {'the stand-in' if then == STAND_IN else then} again."
    return Difference("studio", STUDIO, "The studio in use", then, now, desk)


def put_back(plan: Plan, several: Sequence[Difference]) -> Plan:
    """The plan with these differences put back, those of boxes first. Raises DoesNotFit."""
    for one in sorted(several, key=lambda one: KINDS.index(one.kind)):
        plan = one.fix.apply(plan) if one.fix else plan
    return plan


# --- what stands on the desk --------------------------------------------------------------------


def _boxes(then: Plan, now: Plan, way: Way) -> Iterator[Difference]:
    for box in way.boxes:
        if now.rig.box(box.uid):
            continue
        mine = [one for one in then.rig.cables if box in _ends(then.rig, one)]
        on_way = {one.uid for one in way.cables}
        cables = f" with {_several(len(mine), 'cable')}" if mine else ""

        def back(plan: Plan, box: Box = box, mine: Sequence[Cable] = mine, on_way: Set[str] = on_way) -> Plan:
            if plan.rig.box(box.uid) is None:
                plan = set_rig(plan, boxes=(*plan.rig.boxes, box))
            for cable in mine:
                # What is not needed for this sound takes nobody's place.
                if cable.uid in on_way or not any(plan.rig.cable_at(end) for end in (cable.source, cable.target)):
                    plan = _plugged(plan, cable)
            return plan

        desk = f"Set {box.name} up, and cable it: {'; '.join(_told(then.rig, one) for one in mine)}." if mine else ""
        yield Difference(
            f"box {box.uid}", BOX, box.name, f"there{cables}", "not in the rig", desk,
            Fix(f"Put {box.name} back{cables}", back, f"Put {box.name} back"),
        )  # fmt: skip


def _sockets(then: Plan, now: Plan, way: Way) -> Iterator[Difference]:
    for box, socket in way.sockets:
        if now.rig.box(box.uid) is None or now.rig.find(socket.uid):
            continue
        mine = [one for one in way.cables if socket.uid in (one.source, one.target)]

        def back(plan: Plan, box: Box = box, socket: Socket = socket, mine: Sequence[Cable] = mine) -> Plan:
            there = plan.rig.box(box.uid)
            if there and not there.at(socket.uid):
                rows = [_naming_again(one, box, socket) for one in there.sockets]
                rows.insert(min(box.sockets.index(socket), len(rows)), socket)
                plan = set_box(plan, box.uid, sockets=tuple(rows))
            for cable in mine:
                plan = _plugged(plan, cable)
            return plan

        yield Difference(
            f"socket {socket.uid}", SOCKET, f"{box.name} {socket.label}", "there", "the box has no such socket",
            "".join(f"Plug {_told(then.rig, one)}. " for one in mine).strip(),
            Fix(f"Put {socket.label} of {box.name} back", back, "Put it back"),
        )  # fmt: skip


def _naming_again(one: Socket, box: Box, gone: Socket) -> Socket:
    """A socket, which names the one that was gone again where it did: as the other side of a pair, or as its thru."""
    then = box.at(one.uid)
    names = {name for name in ("stereo", "thru_of") if then and getattr(then, name) == gone.label}
    return replace(one, **{name: gone.label for name in names if not getattr(one, name)})


def _cables(then: Plan, now: Plan, way: Way) -> Iterator[Difference]:
    for cable in way.cables:
        there = now.rig.cable_at(cable.target)
        if there and there.source == cable.source:
            continue
        if not (now.rig.find(cable.source) and now.rig.find(cable.target)):
            # Its box or socket is gone, which is told, and brings it back.
            continue
        source, target = then.rig.socket_text(cable.source), then.rig.socket_text(cable.target)

        def back(plan: Plan, cable: Cable = cable) -> Plan:
            return _plugged(plan, cable)

        yield Difference(
            f"cable {cable.source} {cable.target}", CABLE, f"The cable {source} to {target}",
            "plugged", _instead(now.rig, cable), f"Plug {_told(then.rig, cable)}.",
            Fix(f"Cable {source} to {target} again", back, "Put it back"),
        )  # fmt: skip


def _instead(rig: Rig, cable: Cable) -> str:
    """What is plugged at its ends now, in words."""
    found = []
    if there := rig.cable_at(cable.source):
        found.append(f"{rig.socket_text(cable.source)} goes to {rig.socket_text(there.target)}")
    if there := rig.cable_at(cable.target):
        found.append(f"{rig.socket_text(cable.target)} is fed by {rig.socket_text(there.source)}")
    return ", and ".join(found) or "nothing at either end"


def _plugged(plan: Plan, cable: Cable) -> Plan:
    """The plan with a cable as it was; what is plugged at its ends now is unplugged. One whose other end is not there
    yet is left. Raises DoesNotFit."""
    if not (plan.rig.find(cable.source) and plan.rig.find(cable.target)):
        return plan
    for end in (cable.source, cable.target):
        if there := plan.rig.cable_at(end):
            plan = without_cable(plan, there.uid)
    noted = {"kind": cable.kind, "adapter": cable.adapter, "length_m": cable.length_m}
    noted |= {"colour": cable.colour, "label": cable.label}
    return with_cable(without_cable(plan, cable.uid), cable.source, cable.target, uid=cable.uid, **noted)


def _ends(rig: Rig, cable: Cable) -> list[Box]:
    return [found[0] for end in (cable.source, cable.target) if (found := rig.find(end))]


def _told(rig: Rig, cable: Cable) -> str:
    """A cable with its ends, for whoever plugs it."""
    how = [cable.label, CABLE_KINDS[kind_of_cable(rig, cable)], f"{cable.length_m:g} m" if cable.length_m else ""]
    return f"{rig.socket_text(cable.source)} to {rig.socket_text(cable.target)} ({', '.join(filter(None, how))})"


def _routes(then: Plan, now: Plan, way: Way) -> Iterator[Difference]:
    for box, route in way.routes:
        there = now.rig.box(box.uid)
        if there is None or not (there.at(route.source) and there.at(route.target)):
            continue
        mine = next((one for one in there.routes if (one.source, one.target) == (route.source, route.target)), None)
        if mine and replace(mine, uid=route.uid) == route:
            continue
        ends = " to ".join(box.at(uid).label for uid in (route.source, route.target))

        def back(plan: Plan, box: Box = box, route: Route = route) -> Plan:
            others = tuple(
                one for one in plan.rig.box(box.uid).routes if (one.source, one.target) != (route.source, route.target)
            )
            return set_box(plan, box.uid, routes=(*others, route))

        yield Difference(
            f"route {route.source} {route.target}", ROUTE, f"Inside {box.name}, {ends}", _passes(route),
            _passes(mine) if mine else "there is no such route", f"Set the route on {box.name}, too.",
            Fix(f"Route {ends} in {box.name} as it was", back, "Put it back"),
        )  # fmt: skip


def _passes(route: Route) -> str:
    told = ["all channels" if not route.channels else f"channels {_text(route.channels)}"]
    told += [f"{old} becomes {new}" for old, new in route.remap]
    told += [] if route.clock else ["no clock"]
    told += [f"{route.gain_db:+g} dB"] if route.gain_db else []
    return ", ".join(told)


# --- what is set and defined --------------------------------------------------------------------


SETTINGS = {
    "receives": "receives on channels",
    "omni": "omni",
    "transmits": "sends on channels",
    "local": "local control",
    "clock": "its clock",
    "takes_clock": "takes clock",
    "sends_clock": "sends clock",
    "takes_time_code": "takes time code",
    "sends_time_code": "sends time code",
    "uses": "separate outs in use",
    "routing": "stored routing",
}
"""Fields of a box's setup that change what is heard, and how they are called."""
FOLLOWS = {
    "plays": "what goes by its clock",
    "length_ticks": "pattern length in ticks",
    "pace": "counts",
    "by": "takes its clock by",
    "obeys": "obeys",
    "restarts": "restarts on start",
    "time_code": "time code",
}
DEFINED = {
    "box": "its box",
    "send": "sent by",
    "channel": "channel",
    "returns": "comes home by",
    "home_trim_db": "home trim in dB",
    "inverted": "polarity turned",
    "bank_form": "bank messages",
    "gap_ms": "gap behind a sound change in ms",
    "parts": "parts",
    "further": "further returns",
    "voices": "voices",
}
LOOPED = {"sends": "sent by"} | {name: DEFINED[name] for name in ("box", "returns", "home_trim_db", "inverted")}
RIG = {
    "sample_rate": "sample rate in Hz",
    "buffer": "buffer in samples",
    "driver": "kind of driver",
    "stamps": "source of the time stamps",
    "leader": "whose clock leads",
    "together": "played together",
}


def _settings(now: Plan, way: Way) -> Iterator[Difference]:
    for box in way.boxes:
        there = now.rig.box(box.uid)
        if there is None:
            continue
        yield from _setting(box, "setup", SETTINGS, box.setup, there.setup)
        yield from _setting(box, "following", FOLLOWS, box.following, there.following)


def _setting(box: Box, name: str, words: dict[str, str], old: Setup | Following, new: Setup | Following):
    for key, then, now in _fields_that_differ(words, old, new):

        def back(plan: Plan, key: str = key, value: object = getattr(old, key)) -> Plan:
            if name == "setup":
                return set_up(plan, box.uid, **{key: value})
            return set_box(plan, box.uid, following=replace(plan.rig.box(box.uid).following, **{key: value}))

        yield Difference(
            f"{name} {box.uid} {key}", SETTING, f"{box.name}, {words[key]}", then, now,
            f"Set {words[key]} on {box.name} itself: {then}.",
            Fix(f"{box.name}: {words[key]} {then} again", back, "Put it back"),
        )  # fmt: skip


def _fields_that_differ(words: dict[str, str], old, new) -> Iterator[tuple[str, str, str]]:
    """(field, how it was, how it is) of each that differs."""
    for one in fields(old):
        before, after = getattr(old, one.name), getattr(new, one.name)
        if one.name in words and before != after:
            yield one.name, _text(before), _text(after)


def _text(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if value is None or value in ("", ()):
        return "not noted"
    if isinstance(value, tuple):
        return ", ".join(map(_text, value))
    return f"{value:g}".replace("-", "−") if isinstance(value, int | float) else str(value)


def _instrument(then: Plan, now: Plan, owner: Instrument) -> Iterator[Difference]:
    there = now.instrument(owner.uid)
    if there is None:
        return _undefined("instrument", owner, keep_instrument)
    return _defined(then, now, owner, there, DEFINED, set_instrument)


def _loop(then: Plan, now: Plan, owner: Loop) -> Iterator[Difference]:
    there = now.loop(owner.uid)
    if there is None:
        return _undefined("loop", owner, keep_loop)
    return _defined(then, now, owner, there, LOOPED, set_loop)


def _undefined(what: str, owner: Instrument | Loop, keep: Callable[..., Plan]) -> Iterator[Difference]:
    fix = Fix(f"Define {owner.name} again", lambda plan: keep(plan, owner), "Define it again")
    yield Difference(f"{what} {owner.uid}", DEFINITION, owner.name, "defined", "not defined", "", fix)


def _defined(then: Plan, now: Plan, owner, there, words: dict[str, str], change: Callable[..., Plan]):
    for one in fields(owner):
        before, after = getattr(owner, one.name), getattr(there, one.name)
        if one.name not in words or before == after:
            continue
        told = _DEFINED_TOLD.get(one.name, lambda plan, value: _text(value))

        def back(plan: Plan, name: str = one.name, value: object = before) -> Plan:
            return change(plan, owner.uid, **{name: value})

        yield Difference(
            f"definition {owner.uid} {one.name}", DEFINITION, f"{owner.name}, {words[one.name]}",
            told(then, before), told(now, after), "",
            Fix(f"{owner.name}: {words[one.name]} {told(then, before)} again"[:160], back, "Put it back"),
        )  # fmt: skip


def _box_name(plan: Plan, uid: str) -> str:
    found = plan.rig.box(uid)
    return found.name if found else "none"


def _parts_told(plan: Plan, parts: tuple[Part, ...]) -> str:
    return ", ".join(f"{one.name} on channel {one.channel}" for one in parts) or "none"


def _further_told(plan: Plan, further: tuple[Return, ...]) -> str:
    return ", ".join(f"{one.name} by {returns_text(plan.rig, one.inputs)}" for one in further) or "none"


def _voices_told(plan: Plan, voices: tuple[Voice, ...]) -> str:
    return ", ".join(f"{one.name} {one.note}{' apart' if one.home else ''}" for one in voices) or "none"


_DEFINED_TOLD: dict[str, Callable[[Plan, object], str]] = {
    "box": _box_name,
    "send": lambda plan, uid: plan.rig.socket_text(uid) if uid else "nothing",
    "sends": lambda plan, uids: ", ".join(map(plan.rig.socket_text, uids)) or "nothing",
    "returns": lambda plan, uids: returns_text(plan.rig, uids),
    "parts": _parts_told,
    "further": _further_told,
    "voices": _voices_told,
}


# --- clock, interface ---------------------------------------------------------------------------


def _clocks(now: Plan, way: Way) -> Iterator[Difference]:
    if not any(box.setup.takes_clock for box in way.boxes):
        return
    for socket in way.sends:
        found = now.rig.find(socket.uid)
        there = found[1] if found else socket
        if (socket.clock, _sent(socket)) == (there.clock, _sent(there)):
            continue

        def back(plan: Plan, socket: Socket = socket) -> Plan:
            return set_sockets(plan, {socket.uid: {"clock": socket.clock, "sending": socket.sending}})

        yield Difference(
            f"clock {socket.uid}", CLOCK, f"Clock on {now.rig.socket_text(socket.uid)}",
            _clock_told(socket), _clock_told(there), "",
            Fix(f"Clock on {now.rig.socket_text(socket.uid)} as it was", back, "Put it back"),
        )  # fmt: skip


def _sent(socket: Socket) -> Sending | None:
    return (socket.sending or Sending()) if socket.clock else None


def _clock_told(socket: Socket) -> str:
    if not socket.clock:
        return "none is sent"
    plain, mine = asdict(Sending()), asdict(socket.sending or Sending())
    other = [f"{name.replace('_', ' ')} {_text(value)}" for name, value in mine.items() if value != plain[name]]
    return ", ".join(["it is sent", *other])


def _interface(then: Plan, now: Plan) -> Iterator[Difference]:
    for name, word in RIG.items():
        before, after = getattr(then.rig, name), getattr(now.rig, name)
        if before == after:
            continue
        both = ((then, before), (now, after))
        told = [_leader(plan, value) if name == "leader" else _text(value) for plan, value in both]

        def back(plan: Plan, name: str = name, value: object = before) -> Plan:
            return set_rig(plan, **{name: value})

        by_hand = name in ("sample_rate", "buffer", "driver", "stamps")
        yield Difference(
            f"rig {name}", INTERFACE, word.capitalize(), *told,
            f"Set the {word} on the interface, too: {told[0]}." if by_hand else "",
            Fix(f"The {word} {told[0]} again", back, "Put it back"),
        )  # fmt: skip


def _leader(plan: Plan, uid: str) -> str:
    return _box_name(plan, uid) if uid else "the host"


def _several(count: int, what: str) -> str:
    return f"its {what}" if count == 1 else f"its {count} {what}s"
