"""Lines played through a studio, each heard as soon as its slot is over."""

from collections.abc import Iterator, Sequence
from contextlib import closing

import numpy as np

from hypotaxis.core.errors import RoutingLoop
from hypotaxis.core.linecheck.hearing import LineHeard, hear_line
from hypotaxis.core.linecheck.lines import Slot, messages_of, sounds_of
from hypotaxis.core.midi.identity import REQUEST, read_reply
from hypotaxis.core.midi.messages import struck
from hypotaxis.core.studio import Message, RunSetup, Studio, Written

LOOP_NOTES = 12
"""So many note-ons of what was sent that come in by one port within a slot are no echo and no hand: what leaves comes
round (common practice: an echo is one; a hand plays twelve notes a second at its quickest, and not one note)."""
ANSWERS_S, APART_S = 0.4, 0.12
"""So long an answer is waited for behind the last question; and between two, so that they are told apart (common
practice: replies come within a few ms)."""


def play(
    studio: Studio, slots: Sequence[Slot], inputs: Sequence[tuple[str, str]], *, fast: bool = False
) -> Iterator[tuple[Slot, LineHeard | None]]:
    """Each slot with what was heard of it, when it is over; meanwhile, block by block, the one that sounds with None.
    inputs: (uid, system name) of all that are heard. Closing it ends the run. Raises RoutingLoop, which ends it as
    well."""
    if not slots:
        return
    rate, names = studio.sample_rate, tuple(name for _, name in inputs)
    sounds = sounds_of(slots, rate)
    setup = RunSetup(inputs=names, outputs=tuple(sounds), frames=round(slots[-1].ends_s * rate), fast=fast)
    kept, begins = np.zeros((0, len(names)), np.float32), 0
    coming, round_ = list(slots), _ComingRound()
    with closing(studio.run(Written(messages_of(slots), sounds), setup)) as blocks:
        for block in blocks:
            kept = np.concatenate([kept, block.samples])
            if coming:
                round_.hear(block.received, coming[0])
            while coming and begins + len(kept) >= round(coming[0].ends_s * rate):
                slot = coming.pop(0)
                first, last = (round(at * rate) - begins for at in (slot.begins_s, slot.ends_s))
                note = round(slot.note_s * rate) - begins - first
                heard = hear_line(kept[first:last], rate, note, [uid for uid, _ in inputs])
                yield slot, heard.about(slot.line.inputs)
                kept, begins = kept[last:], begins + last
            if coming:
                yield coming[0], None


class _ComingRound:
    """Counts what comes in of the note that is sent."""

    def __init__(self) -> None:
        self._slot: Slot | None = None
        self._came: dict[str, int] = {}

    def hear(self, received: Sequence[Message], slot: Slot) -> None:
        """Raises RoutingLoop."""
        if slot is not self._slot:
            self._slot, self._came = slot, {}
        for message in received:
            if struck(message.data) == slot.line.note:
                self._came[message.port] = self._came.get(message.port, 0) + 1
        for port, count in self._came.items():
            if count >= LOOP_NOTES and not slot.line.is_effect:
                raise RoutingLoop(
                    f"A loop in the MIDI routing: the note sent on {slot.line.port} came in by {port} {count} times. "
                    "It was stopped at once, and all notes are off. Take the route or cable out by which it comes "
                    "back, or switch off the thru or echo of what passes it on."
                )


def ask_identity(studio: Studio, ports: Sequence[str], *, fast: bool = False) -> dict[str, tuple[str, ...]]:
    """Who answers to an identity request (Universal Non-Real Time 06 01, MIDI 1.0 Detailed Specification), by the port
    that was asked: the kinds of the answers. ports: system names."""
    if not ports:
        return {}
    asked = [Message(round(place * APART_S * 1e9), port, REQUEST) for place, port in enumerate(ports)]
    frames = round((APART_S * len(ports) + ANSWERS_S) * studio.sample_rate)
    found: dict[str, list[str]] = {port: [] for port in ports}
    with closing(studio.run(Written(asked), RunSetup(frames=frames, fast=fast))) as blocks:
        for block in blocks:
            for message in block.received:
                identity = read_reply(message.data)
                if identity:
                    place = min(len(ports) - 1, int(message.time_ns / 1e9 // APART_S))
                    found[ports[place]].append(identity.kind)
    return {port: tuple(kinds) for port, kinds in found.items()}
