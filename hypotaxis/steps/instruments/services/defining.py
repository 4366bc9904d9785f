"""Instruments are defined through the rig's journal, so that undo reaches them."""

from collections.abc import Iterable
from dataclasses import replace

from hypotaxis.core.drawing.ruler import next_free_channel
from hypotaxis.core.findings.finding import listed
from hypotaxis.core.plan import Instrument, Part, Plan, Return, Voice
from hypotaxis.core.playing.tryout import VOICES
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.change import keep_instrument, set_instrument, without_instrument
from hypotaxis.core.rig.shapes import SHAPES, parts_of
from hypotaxis.core.rig.trips import heard_from, homes_of, host_audio, return_sockets, send_sockets, way_home
from hypotaxis.core.rig.values import Box
from hypotaxis.core.rig.values import Rig as RigValue
from hypotaxis.core.session.templates import INSTRUMENT, InstrumentTemplate, instrument_like
from hypotaxis.records import templates
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Rig

USUAL_CHANNEL = {"drum-machine": 10}
"""General MIDI keeps 10 for percussion (RP-003, from memory); most drum machines come set to it (common practice)."""


def next_to_define(plan: Plan) -> str:
    """Uid of the first box that sounds and is not an instrument yet, "" where there is none."""
    defined = {one.box for one in plan.instruments}
    sounding = (box for box in plan.rig.boxes if box.shape in SHAPES and SHAPES[box.shape].sounds)
    return next((box.uid for box in sounding if box.uid not in defined), "")


def propose(plan: Plan, box_uid: str) -> Instrument:
    """What the sheet already says of a box: the send socket that reaches it, the channel it is set to, otherwise its
    kind's usual one or the next that is free; the inputs its main outs end at; of a drum machine each separate out that
    is cabled as a further return, with the voice that leaves by it."""
    rig = plan.rig
    box = rig.box(box_uid)
    sends = [socket.uid for _, socket in send_sockets(rig)]
    send = next((uid for uid in sends if any(r.box == box_uid for r in heard_from(rig, uid))), "")
    further = _separate_outs(rig, box) if box else ()
    return Instrument(
        uid=new_uid(),
        name=box.name if box else "",
        box=box.uid if box else "",
        send=send or (sends[0] if len(sends) == 1 else ""),
        channel=_channel(plan, box, send) if box else 1,
        returns=tuple(homes_of(rig, box_uid)[:2]),
        colour=box.colour if box else "",
        further=further,
        voices=tuple(
            Voice(note=VOICES[one.name], name=one.name, home=one.uid) for one in further if one.name in VOICES
        ),
    )


def _channel(plan: Plan, box: Box, send: str) -> int:
    """A channel on which nobody else plays behind that send socket."""
    used = {seat.channel for one in plan.instruments for seat in one.seats if seat.send == send}
    wished = [*box.setup.receives, USUAL_CHANNEL.get(box.shape, 0)]
    free = [channel for channel in wished if channel and channel not in used]
    return free[0] if free else next_free_channel(plan, send) if send else 1


def _separate_outs(rig: RigValue, box: Box) -> tuple[Return, ...]:
    """The separate outs of a box that arrive at the host, a further return each."""
    found = []
    for _, socket in host_audio(rig, "in"):
        way = way_home(rig, socket.uid, box.uid)
        source = rig.find(way[0].source)[1] if way else None
        if source and source.separate:
            found.append(Return(uid=new_uid(), name=source.separate, inputs=(socket.uid,)))
    return tuple(found)


def to_set(plan: Plan, instrument: Instrument) -> str:
    """What has to be set on the box itself so that an instrument is heard, in a sentence; "" without a box."""
    box = plan.rig.box(instrument.box)
    if box is None:
        return ""
    channels = sorted({seat.channel for one in plan.instruments_of(box.uid) for seat in one.seats})
    parts = listed([str(channel) for channel in channels or [instrument.channel]])
    return f"On {box.name} itself: set receive channel {parts}, omni off, the level up."


def another(plan: Plan, model: Instrument) -> Instrument:
    """One like an instrument that is there, on the next free channels of its wire; its return is shared while its box
    has parts left, otherwise the next free inputs are proposed. Parts beyond the free channels are left out, further
    returns take free inputs as long as there are any. Lateness is not copied: it belongs to the other trip."""
    shared = parts_left(plan, model) > 0
    taken = {uid for one in plan.instruments for uid in one.inputs} | {uid for one in plan.loops for uid in one.returns}
    free = [socket.uid for _, socket in return_sockets(plan.rig) if socket.uid not in taken]
    returns = model.returns if shared else _take(free, len(model.returns))
    further = [replace(back, uid=new_uid(), inputs=_take(free, len(back.inputs))) for back in model.further]
    ways = {old.uid: new.uid for old, new in zip(model.further, further, strict=True)}
    channel = next_free_channel(plan, model.send) if model.send else model.channel
    used = {(model.send, channel)} | {(seat.send, seat.channel) for one in plan.instruments for seat in one.seats}
    parts = []
    for part, seat in zip(model.parts, model.seats[1:], strict=True):
        open_channels = [number for number in range(1, 17) if (seat.send, number) not in used]
        if open_channels:
            parts.append(replace(part, uid=new_uid(), channel=open_channels[0]))
            used.add((seat.send, open_channels[0]))
    names = {one.name for one in plan.instruments}
    name = next(
        f"{model.name[:74]} {number}" for number in range(2, 10_000) if f"{model.name[:74]} {number}" not in names
    )
    return replace(
        model,
        uid=new_uid(),
        name=name,
        channel=channel,
        returns=returns,
        given_ms=None,
        given_from="",
        parts=tuple(parts),
        further=tuple(further),
        voices=tuple(replace(voice, home=ways.get(voice.home, "")) for voice in model.voices),
    )


def keep_template(plan: Plan, instrument: Instrument) -> str:
    """Keep an instrument with its parts, voices and maps to begin with; what was done, in words."""
    box = plan.rig.box(instrument.box)
    templates.keep(INSTRUMENT, instrument.name, InstrumentTemplate(box.shape if box else "", instrument))
    return f"{instrument.name} is kept to begin with: its parts, voices, sounds and how it is played."


def like_template(plan: Plan, template: InstrumentTemplate, box: str) -> Instrument:
    """An instrument as a template has it, of a box of this desk (uid): the one asked for, otherwise the first of its
    shape that is no instrument yet."""
    defined = {one.box for one in plan.instruments}
    same = (one.uid for one in plan.rig.boxes if one.shape == template.shape and one.uid not in defined)
    proposed = propose(plan, box or next(same, ""))
    return instrument_like(template, proposed, [one.name for one in plan.instruments])


def _take(free: list[str], count: int) -> tuple[str, ...]:
    """The next free inputs, taken off the list."""
    taken = tuple(free[:count])
    del free[:count]
    return taken


def parts_left(plan: Plan, instrument: Instrument) -> int:
    """How many parts of an instrument's box are not instruments yet."""
    box = plan.rig.box(instrument.box)
    used = {seat.channel for one in plan.instruments_of(instrument.box) for seat in one.seats}
    return max(0, parts_of(box.shape, box.setup) - len(used)) if box else 0


def split(rig: Rig, plan: Plan, instrument: Instrument) -> int:
    """An instrument for each further part of a box, in one step; how many were made."""
    after, made = plan, 0
    for _ in range(parts_left(plan, instrument)):
        used = {seat.channel for one in after.instruments for seat in one.seats if seat.send == instrument.send}
        if len(used) >= 16:
            break
        plain = replace(instrument, parts=(), further=(), voices=())
        after = keep_instrument(after, replace(another(after, plain), returns=instrument.returns, patch=""))
        made += 1
    change_plan(rig, f"an instrument for each part of {instrument.name}", plan, after)
    return made


def keep_part(rig: Rig, plan: Plan, instrument: Instrument, part: Part) -> None:
    """Add a part, or change the one with its uid."""
    _keep_one(rig, plan, instrument, "parts", part)


def keep_return(rig: Rig, plan: Plan, instrument: Instrument, back: Return) -> None:
    """Add a further return, or change the one with its uid."""
    _keep_one(rig, plan, instrument, "further", back)


def _keep_one(rig: Rig, plan: Plan, instrument: Instrument, name: str, value: Part | Return) -> None:
    known = getattr(instrument, name)
    there = any(one.uid == value.uid for one in known)
    after = tuple(value if one.uid == value.uid else one for one in known) if there else (*known, value)
    change_plan(rig, f"{instrument.name}: {value.name}", plan, set_instrument(plan, instrument.uid, **{name: after}))


def remove_piece(rig: Rig, plan: Plan, instrument: Instrument, uid: str) -> None:
    """Remove a part or a further return; voices that came home by it come home with the rest again."""
    after = set_instrument(
        plan,
        instrument.uid,
        parts=tuple(one for one in instrument.parts if one.uid != uid),
        further=tuple(one for one in instrument.further if one.uid != uid),
        voices=tuple(replace(voice, home="") if voice.home == uid else voice for voice in instrument.voices),
    )
    change_plan(rig, f"{instrument.name}: remove a part or return", plan, after)


def keep_voices(rig: Rig, plan: Plan, instrument: Instrument, voices: Iterable[Voice]) -> None:
    """Keep the voice table, in the order of the notes."""
    ordered = tuple(sorted(voices, key=lambda voice: voice.note))
    change_plan(rig, f"{instrument.name}: voices", plan, set_instrument(plan, instrument.uid, voices=ordered))


def parts_of_box(rig: Rig, plan: Plan, instrument: Instrument) -> int:
    """Keep an instrument as one, with a part for each further part of its box on the next free channels; how many."""
    taken = {seat.channel for one in plan.instruments for seat in one.seats if seat.send == instrument.send}
    free = [channel for channel in range(1, 17) if channel not in taken][: parts_left(plan, instrument)]
    first = len(instrument.parts) + 2
    made = tuple(Part(uid=new_uid(), name=f"part {first + n}", channel=channel) for n, channel in enumerate(free))
    after = set_instrument(plan, instrument.uid, parts=(*instrument.parts, *made))
    change_plan(rig, f"{instrument.name}: a part for each channel", plan, after)
    return len(made)


def in_groups(instruments: Iterable[Instrument]) -> list[Instrument]:
    """Instruments in their order, those of one group together where the first of them stands."""
    order: dict[str, list[Instrument]] = {}
    for number, one in enumerate(instruments):
        order.setdefault(one.group.casefold() or f"\0{number}", []).append(one)
    return [one for group in order.values() for one in group]


def has(instrument: Instrument, words: str) -> bool:
    """Whether an instrument's name or group holds all the words."""
    known = f"{instrument.name} {instrument.group}".casefold()
    return all(word in known for word in words.casefold().split())


def move(rig: Rig, plan: Plan, instrument: Instrument, *, up: bool) -> None:
    """Move an instrument one line up or down, as the lines are seen; at an end it stays."""
    seen = in_groups(plan.instruments)
    place = [one.uid for one in seen].index(instrument.uid)
    goal = place - 1 if up else place + 1
    if 0 <= goal < len(seen):
        seen[place], seen[goal] = seen[goal], seen[place]
        change_plan(rig, f"move {instrument.name}", plan, replace(plan, instruments=tuple(seen)))


def keep(rig: Rig, plan: Plan, instrument: Instrument) -> None:
    """Store a new or changed instrument; its tab has the colour of its box."""
    box = plan.rig.box(instrument.box)
    value = replace(instrument, colour=box.colour if box else instrument.colour)
    word = "change" if plan.instrument(value.uid) else "define"
    change_plan(rig, f"{word} {value.name}", plan, keep_instrument(plan, value))


def remove(rig: Rig, plan: Plan, instrument: Instrument) -> None:
    """Remove an instrument; its takes stay."""
    change_plan(rig, f"remove instrument {instrument.name}", plan, without_instrument(plan, instrument.uid))
