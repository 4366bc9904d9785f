"""Lines played through a studio, each heard as soon as its slot is over."""

from collections.abc import Iterator, Sequence
from contextlib import closing

import numpy as np

from hypotaxis.core.linecheck.hearing import LineHeard, hear_line
from hypotaxis.core.linecheck.lines import Slot, messages_of, sounds_of
from hypotaxis.core.studio import RunSetup, Studio, Written


def play(
    studio: Studio, slots: Sequence[Slot], inputs: Sequence[tuple[str, str]], *, fast: bool = False
) -> Iterator[tuple[Slot, LineHeard | None]]:
    """Each slot with what was heard of it, when it is over; meanwhile, block by block, the one that sounds with None.
    inputs: (uid, system name) of all that are heard. Closing it ends the run."""
    if not slots:
        return
    rate, names = studio.sample_rate, tuple(name for _, name in inputs)
    sounds = sounds_of(slots, rate)
    setup = RunSetup(inputs=names, outputs=tuple(sounds), frames=round(slots[-1].ends_s * rate), fast=fast)
    kept, begins = np.zeros((0, len(names)), np.float32), 0
    coming = list(slots)
    with closing(studio.run(Written(messages_of(slots), sounds), setup)) as blocks:
        for block in blocks:
            kept = np.concatenate([kept, block.samples])
            while coming and begins + len(kept) >= round(coming[0].ends_s * rate):
                slot = coming.pop(0)
                first, last = (round(at * rate) - begins for at in (slot.begins_s, slot.ends_s))
                note = round(slot.note_s * rate) - begins - first
                yield slot, hear_line(kept[first:last], rate, note, [uid for uid, _ in inputs])
                kept, begins = kept[last:], begins + last
            if coming:
                yield coming[0], None
