"""Sounds at their places on a time line, as an AAF file (Advanced Authoring Format, AMWA), written by pyaaf2.

Two kinds: *beside* names the audio files that lie beside it, *inside* holds their samples, 24 bit, a slot a side. Each
sound is a clip behind a filler, in a slot of its own that counts samples, so places are exact. Zero is the zero of the
files. The owner's colours stand in the composition's comments: the format has no place for them that everyone
reads.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote

import aaf2
import numpy as np
import soundfile
from aaf2.components import Filler, SourceClip

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.wave import Broadcast, packed24, stepped, wave_head

MOST_INSIDE = 2**31
"""Bytes of sound that a file may hold inside: readers of the container stop there (common practice)."""
SIDES = ("L", "R")
_FRAMES_A_BLOCK = 65_536
_WIDTH = 3
_ORIGIN = "Hypotaxis"


@dataclass(frozen=True)
class Clip:
    """A sound on the time line. file: its path beside the time line; begins, frames: in samples of its rate."""

    track: str
    title: str
    file: str
    begins: int
    frames: int
    rate: int
    channels: int
    colour: str = ""


@dataclass(frozen=True)
class Placed:
    """What is read back: of which slot, where it begins and how long it is, where its sound is ("" = inside)."""

    slot: str
    title: str
    begins: int
    frames: int
    rate: int
    file: str = ""


def write_beside(path: Path, name: str, clips: Sequence[Clip], *, width: int = _WIDTH) -> None:
    """A time line that names the WAV files beside it. width: bytes a sample in them."""
    with aaf2.open(str(path), "w") as file:
        whole = _Composition(file, name)
        for clip in clips:
            source = file.create.SourceMob(f"{clip.title}, file")
            file.content.mobs.append(source)
            source.descriptor = _described(file, clip, width)
            slot = source.create_empty_slot(edit_rate=clip.rate, media_kind="sound", slot_id=1)
            slot.segment.length = clip.frames
            whole.lay(clip, source, slot, whole.slot_for(clip))


def write_inside(path: Path, name: str, sounds: Iterable[tuple[Clip, Path]]) -> None:
    """A time line that holds its sounds. sounds: each with a sound file of its length, which is read before the next
    one is asked for. Raises ValueError where one is shorter."""
    with aaf2.open(str(path), "w") as file:
        whole = _Composition(file, name)
        for clip, sound in sounds:
            named = whole.slot_for(clip)
            for side in range(clip.channels):
                source = file.create.SourceMob(f"{clip.title}, sound")
                file.content.mobs.append(source)
                data, slot = source.create_essence(clip.rate, "sound")
                source.descriptor = _pcm(file, clip)
                slot.segment.length = clip.frames
                stream, there = data.open("w"), 0
                for block in _side(sound, side):
                    stream.write(block)
                    there += len(block) // _WIDTH
                if there != clip.frames:
                    raise ValueError(f"{there} frames were delivered, {clip.frames} announced")
                whole.lay(clip, source, slot, f"{named} {SIDES[side]}" if clip.channels == 2 else named)


def read_timeline(path: Path) -> tuple[Placed, ...]:
    """What stands where, in the order of the slots. Raises UnreadableFile."""
    try:
        with aaf2.open(str(path), "r") as file:
            return tuple(_read(file))
    except Exception as error:
        # The library raises whatever it stumbles over.
        raise UnreadableFile(f"This is no time line that can be read: {error}.") from error


def read_inside(path: Path, number: int) -> np.ndarray:
    """The samples of what stands in a slot (from 0, in their order), shape (frames,), full scale ±1.0."""
    with aaf2.open(str(path), "r") as file:
        clip = _clips(list(next(file.content.toplevel()).slots)[number])[1]
        source = clip.mob.slot_at(clip.slot_id).segment.mob
        stream = source.essence.open("r")
        data = b"".join(iter(lambda: stream.read(1 << 20), b""))
    steps = np.frombuffer(data, np.uint8).reshape(-1, _WIDTH)
    whole = np.zeros((len(steps), 4), np.uint8)
    whole[:, 1:] = steps
    return whole.view("<i4")[:, 0] / 2.0**31


class _Composition:
    """The time line on its way: each sound in a slot of its own, named after its track."""

    def __init__(self, file, name: str) -> None:
        self._file, self._taken = file, Counter()
        self._whole = file.create.CompositionMob(name)
        self._whole.usage = "Usage_TopLevel"
        file.content.mobs.append(self._whole)
        self._whole.comments["Written by"] = _ORIGIN

    def slot_for(self, clip: Clip) -> str:
        """What its slot is called: as the track, further ones of it counted."""
        self._taken[clip.track] += 1
        if clip.colour:
            self._whole.comments[f"Colour of {clip.track}"] = clip.colour
        number = self._taken[clip.track]
        return clip.track if number == 1 else f"{clip.track} {number}"

    def lay(self, clip: Clip, source, slot, named: str) -> None:
        """A clip of a source at its place, by a master of its own."""
        master = self._file.create.MasterMob(clip.title)
        self._file.content.mobs.append(master)
        middle = master.create_timeline_slot(edit_rate=clip.rate)
        middle.segment = source.create_source_clip(slot.slot_id, length=clip.frames, media_kind="sound")
        line = self._whole.create_sound_slot(edit_rate=clip.rate)
        line.name = named
        components = line.segment.components
        if clip.begins:
            components.append(self._file.create.Filler("sound", clip.begins))
        components.append(master.create_source_clip(middle.slot_id, length=clip.frames, media_kind="sound"))


def _described(file, clip: Clip, width: int):
    descriptor = file.create.WAVEDescriptor()
    descriptor["SampleRate"].value = clip.rate
    descriptor["Length"].value = clip.frames
    descriptor["ContainerFormat"].value = file.dictionary.lookup_containerdef("AAF")
    encoding = {3: "24-bit", 4: "32-bit float"}[width]
    head = wave_head(rate=clip.rate, channels=clip.channels, frames=clip.frames, bext=Broadcast(), encoding=encoding)
    form = head.index(b"fmt ")
    length = int.from_bytes(head[form + 4 : form + 8], "little")
    descriptor["Summary"].value = bytearray(head[:12] + head[form : form + 8 + length])
    locator = file.create.NetworkLocator()
    locator["URLString"].value = quote(clip.file)
    descriptor["Locator"].append(locator)
    return descriptor


def _pcm(file, clip: Clip):
    descriptor = file.create.PCMDescriptor()
    plain = {
        "Channels": 1,
        "BlockAlign": _WIDTH,
        "SampleRate": clip.rate,
        "AverageBPS": clip.rate * _WIDTH,
        "QuantizationBits": 8 * _WIDTH,
        "AudioSamplingRate": clip.rate,
    }
    for key, value in plain.items():
        descriptor[key].value = value
    descriptor.length = clip.frames
    return descriptor


def _side(sound: Path, side: int) -> Iterator[bytes]:
    with soundfile.SoundFile(sound) as stream:
        for block in stream.blocks(blocksize=_FRAMES_A_BLOCK, dtype="float64", always_2d=True):
            yield packed24(stepped(np.ascontiguousarray(block[:, side])))


def _clips(slot) -> tuple[int, SourceClip]:
    """(where it begins, the clip) of a slot of ours."""
    at = 0
    for one in slot.segment.components:
        if isinstance(one, SourceClip):
            return at, one
        at += one.length if isinstance(one, Filler) else 0
    raise UnreadableFile("a slot holds no clip")


def _read(file) -> Iterator[Placed]:
    whole = next(file.content.toplevel())
    for slot in whole.slots:
        begins, clip = _clips(slot)
        source = clip.mob.slot_at(clip.slot_id).segment.mob
        locators = list(source.descriptor.get("Locator") or ())
        beside = unquote(locators[0]["URLString"].value) if locators else ""
        rate = int(slot.edit_rate)
        yield Placed(slot.name, clip.mob.name, begins, clip.length, rate, beside)
