"""Rules about channels: what a box is set to, against what is sent to it and what else plays there."""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WRONG, Finding, Fix, listed
from hypotaxis.core.plan import Instrument, Plan, Seat
from hypotaxis.core.rig.change import set_instrument, set_up
from hypotaxis.core.rig.listening import (
    answers,
    answers_to,
    arrivals,
    held_back,
    listener,
    midi_outs,
    named_channels,
    players_into,
    seated,
    seats_of,
)
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.rig.shapes import SHAPES, column_of, parts_of
from hypotaxis.core.rig.trips import Reached, heard_from
from hypotaxis.core.rig.values import Box


def channel_held_back(plan: Plan) -> Iterator[Finding]:
    """An instrument, or a part of one, whose channel a router on the way does not let pass."""
    for instrument, seat, name in seats_of(plan):
        if held_back(plan, instrument, seat):
            box = plan.rig.box(instrument.box)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"Channel {seat.channel} does not get through to {box.name}",
                message=f"A route on the way from {plan.rig.socket_text(seat.send)} holds it back, so "
                f"{name} stays silent.",
                remedy="Let the channel pass in the router, or use one that does.",
                socket=seat.send,
                facts=(str(seat.channel),),
            )


def channel_not_received(plan: Plan) -> Iterator[Finding]:
    """An instrument, or a part of one, that arrives at its box on a channel the box is not set to."""
    for instrument, seat, name in seats_of(plan):
        ways = arrivals(plan, instrument, seat)
        if not ways or any(answers_to(plan, way, way.channels[seat.channel - 1]) for way in ways):
            continue
        arrives = ways[0].channels[seat.channel - 1]
        box = listener(plan, ways[0])
        set_to = sorted(box.setup.receives)
        on = f"channel{'s' if len(set_to) > 1 else ''} {listed([str(number) for number in set_to])}"
        yield Finding(
            severity=WRONG,
            about=instrument.uid,
            also=(box.uid,),
            title=f"{name} arrives on channel {arrives}, and {box.name} listens on {on}",
            message=f"{box.name} is set to receive on {on}. What {plan.rig.socket_text(seat.send)} sends for {name} "
            "passes it by, so it stays silent.",
            remedy=f"Send {name} on a channel that it listens on, or set {box.name} to channel {arrives}, here and "
            "on the box.",
            socket=ways[0].socket,
            facts=(str(arrives), *map(str, set_to)),
            fix=_send_where_it_listens(plan, instrument, seat, ways[0])
            or Fix(
                f"Plan {box.name} to receive on channel {arrives}",
                lambda p, uid=box.uid, new=arrives: set_up(p, uid, receives=_with_channel(p, uid, new)),
            ),
        )


def _with_channel(plan: Plan, uid: str, channel: int) -> tuple[int, ...]:
    """A box's channels with one more where it has parts for it, otherwise that one alone."""
    box = plan.rig.box(uid)
    several = len(box.setup.receives) < parts_of(box.shape, box.setup)
    return tuple(sorted({*box.setup.receives, channel})) if several else (channel,)


def _send_where_it_listens(plan: Plan, instrument: Instrument, seat: Seat, way: Reached) -> Fix | None:
    """Another channel of the same port that arrives where the box listens, and that nobody uses."""
    taken = {other.channel for _, other, _ in seats_of(plan) if other.send == seat.send}
    wanted = listener(plan, way).setup.receives
    free = [number for number in range(1, 17) if way.channels[number - 1] in wanted and number not in taken]
    if not free:
        return None
    return Fix(f"Send on channel {free[0]}", lambda p: _on_channel(p, instrument, seat.part, free[0]))


def _on_channel(plan: Plan, instrument: Instrument, part: str, channel: int) -> Plan:
    if not part:
        return set_instrument(plan, instrument.uid, channel=channel)
    parts = tuple(replace(one, channel=channel) if one.uid == part else one for one in instrument.parts)
    return set_instrument(plan, instrument.uid, parts=parts)


def channel_shared(plan: Plan) -> Iterator[Finding]:
    """Two instruments that send on one channel of one port."""
    places: dict[tuple[str, int], list[Instrument]] = defaultdict(list)
    for instrument, seat, _ in seats_of(plan):
        if plan.rig.find(seat.send) and not held_back(plan, instrument, seat):
            places[seat.send, seat.channel].append(instrument)
    for (send, channel), sharers in places.items():
        if len(sharers) > 1:
            yield Finding(
                severity=RISKY,
                about=sharers[0].uid,
                also=tuple(one.uid for one in sharers[1:] if one is not sharers[0]),
                title=f"Channel {channel} of {plan.rig.socket_text(send)} is used twice",
                message=f"{listed([one.name for one in sharers])} listen there. All of them will sound."
                if sharers[0] is not sharers[-1]
                else f"Two parts of {sharers[0].name} listen there. Both will sound.",
                remedy="Move one of them to a free channel, here and on the box, or mark the layer as meant.",
                socket=send,
                facts=(str(channel),),
                fix=_move_channel(plan, sharers[-1], channel),
            )


def plays_along(plan: Plan) -> Iterator[Finding]:
    """A box that answers to another instrument's notes, because it listens on the channel on which they arrive."""
    for instrument, seat, name in seats_of(plan):
        # Who shares channel and port is told by that.
        reported = {one.box for one, _ in seated(plan)[seat.send, seat.channel]}
        for answer in answers(plan, seat):
            box = answer.box
            if answer.by_omni or box.uid in reported:
                continue
            reported.add(box.uid)
            whom = plan.instruments_of(box.uid)
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                also=(box.uid, *(other.uid for other in whom)),
                title=f"{box.name} plays {name} too",
                message=f"What {name} sends on channel {seat.channel} of {plan.rig.socket_text(seat.send)} also "
                f"arrives at {box.name}, on channel {answer.channel}, on which it listens. Both will sound.",
                remedy="Move one of them to a channel of its own, here and on the box, or hold channel "
                f"{answer.channel} back on the way to {box.name}.",
                socket=answer.reached.socket,
                facts=(str(seat.channel), str(answer.channel)),
            )


def _move_channel(plan: Plan, instrument: Instrument, channel: int) -> Fix | None:
    taken = {seat.channel for other in plan.instruments for seat in other.seats if seat.send == instrument.send}
    free = next((channel for channel in range(1, 17) if channel not in taken), None)
    if free is None or instrument.channel != channel:
        return None
    words = f"Move {instrument.name} to channel {free}"
    return Fix(words, lambda p: set_instrument(p, instrument.uid, channel=free))


def more_instruments_than_parts(plan: Plan) -> Iterator[Finding]:
    """More instruments on one box, each on a channel of its own, than it has parts."""
    for box in plan.rig.boxes:
        sharers = plan.instruments_of(box.uid)
        parts = parts_of(box.shape, box.setup) if box.shape in SHAPES else 0
        seats = {(seat.send, seat.channel) for instrument in sharers for seat in instrument.seats}
        if parts and len(seats) > parts:
            yield Finding(
                severity=RISKY,
                about=sharers[-1].uid,
                also=tuple(instrument.uid for instrument in sharers[:-1]),
                title=f"{box.name} has {parts} part{'s' if parts > 1 else ''} for {len(seats)} channels",
                message="Each part answers on one channel: what is sent on one of them stays silent.",
                remedy="Remove an instrument or a part, or let it play another box.",
            )


def standing_line_open(plan: Plan) -> Iterator[Finding]:
    """A standing line from a port that is gone, or that is not played from."""
    played = {end.socket.uid for end in keys_in(plan.rig)}
    for instrument in plan.instruments:
        for port, channel in instrument.standing:
            if port not in played:
                found = plan.rig.find(port)
                name = plan.rig.socket_text(port) if found else "a port that is gone"
                yield Finding(
                    severity=RISKY,
                    about=instrument.uid,
                    title=f"{instrument.name} waits for {name}",
                    message="A standing line says it is always played from there, and that port is not played from.",
                    remedy="Give the port the duty “played from”, or take the standing line out.",
                    socket=port if found else "",
                    facts=(port, str(channel)),
                    fix=Fix(
                        "Take the standing line out",
                        lambda p, one=instrument, line=(port, channel): set_instrument(
                            p, one.uid, standing=tuple(known for known in one.standing if known != line)
                        ),
                    ),
                )


def standing_line_silent(plan: Plan) -> Iterator[Finding]:
    """A standing line on a channel on which nothing that plays into its port sends."""
    for instrument in plan.instruments:
        for port, channel in instrument.standing:
            players = players_into(plan.rig, port) if channel else []
            sent = [_sends_on(box, way) for box, way in players]
            if not players or not all(sent) or any(channel in channels for channels in sent):
                continue
            box, channels = players[0][0], sent[0]
            on = listed([str(number) for number in sorted(channels)])
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                also=tuple(player.uid for player, _ in players),
                title=f"{instrument.name} waits for channel {channel}, and {box.name} sends on {on}",
                message=f"A standing line plays it from channel {channel} of {plan.rig.socket_text(port)} alone, and "
                "nothing that plays there is set to send on it: it stays silent.",
                remedy=f"Let the standing line take channel {on}, or set {box.name} to send on {channel}, here and on "
                "the box.",
                socket=port,
                facts=(str(channel), *map(str, sorted(channels))),
                fix=_take_channel(instrument, (port, channel), min(channels)),
            )


def _take_channel(instrument: Instrument, line: tuple[str, int], channel: int) -> Fix:
    lines = tuple(dict.fromkeys((line[0], channel) if one == line else one for one in instrument.standing))
    return Fix(f"Take channel {channel} instead", lambda p: set_instrument(p, instrument.uid, standing=lines))


def _sends_on(box: Box, way: Reached | None) -> frozenset[int]:
    """The channels on which what a box plays arrives at the end of a way; empty where nothing is known."""
    if way is None:
        return frozenset(box.setup.transmits)
    return frozenset(way.channels[number - 1] for number in box.setup.transmits) - {0}


def plays_nobody(plan: Plan) -> Iterator[Finding]:
    """A box that plays others by a cable of its own, on a channel on which none of them listens."""
    played = {end.socket.uid for end in keys_in(plan.rig)}
    for box in plan.rig.boxes:
        if not box.setup.transmits or column_of(box.shape) != "hands":
            continue
        for out in midi_outs(plan.rig, box):
            reached = heard_from(plan.rig, out.uid)
            known = [way for way in reached if named_channels(plan, way) or listener(plan, way).setup.omni]
            answered = any(
                answers_to(plan, way, way.channels[number - 1])
                for way in known
                for number in box.setup.transmits
                if way.channels[number - 1]
            )
            if not known or answered or any(way.socket in played for way in reached):
                continue
            boxes = listed(list(dict.fromkeys(plan.rig.box(way.box).name for way in known)))
            on = listed([str(number) for number in box.setup.transmits])
            yield Finding(
                severity=RISKY,
                about=box.uid,
                also=tuple(dict.fromkeys(way.box for way in known)),
                title=f"{box.name} plays on channel {on}, and nothing behind {out.label} listens there",
                message=f"Its cable leads to {boxes}, which would answer on another channel.",
                remedy=f"Set {box.name} to send on a channel on which one of them listens, here and on the box.",
                socket=out.uid,
                facts=tuple(map(str, box.setup.transmits)),
            )
