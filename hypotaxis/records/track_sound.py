"""Takes to be heard: from the same place of the session, at one loudness, alone or as they stand, each giving way to
the next in a seam."""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO

import numpy as np
import soundfile

from hypotaxis.core.mixing.figures import Figures
from hypotaxis.core.mixing.joined import Piece, Read, joined
from hypotaxis.core.mixing.seams import Seam, find_seam
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S
from hypotaxis.core.session.standing import Stretch, standing
from hypotaxis.core.units import FLOOR_DB, db_to_factor
from hypotaxis.records import audio
from hypotaxis.records.models import Session, Take, Track
from hypotaxis.records.plan import notes_of
from hypotaxis.records.standing import known_takes, stretches_of, whole_takes

KEPT = 40
FADE_S = 0.01
"""How long what is cut off at a bar line takes to be silent."""
AIM_LUFS, ROOM_DB = -23.0, 1.0
"""How loud takes are heard (EBU R 128), or less where one of them would leave less room below full scale then."""


def tracks_sound(session: Session, tracks: Sequence[Track], *, only_placed: bool = False, **how) -> dict:
    """What stands of each track (uid) and is there, of those of which anything does. Only the takes that stand are
    read. how: as of TrackSound."""
    known, stands = known_takes(session), {}
    for track in tracks:
        mine = [take for take in known.get(track.uid, ()) if take.placed or not only_placed]
        stands |= {one.uid: track.uid for one in stretches_of(track, mine, there=True)}
    takes = defaultdict(list)
    for uid, take in reversed(whole_takes(session, set(stands), tracks).items()):
        takes[stands[uid]].append(take)
    there = (track for track in tracks if track.uid in takes)
    return {one.uid: TrackSound(one, takes[one.uid], only_placed=only_placed, **how) for one in there}


@dataclass(frozen=True)
class Joint:
    """Where one take gives way to another: at which bar, and where beside its line."""

    bar: int
    seam: Seam
    offset_ms: float


class TrackSound:
    """The takes of a track by its own return, as sound. only_placed: without those that are not placed; arrived: each
    where it arrived, and not where it stands; plain: as recorded, without home trim, gain and polarity."""

    def __init__(
        self,
        track: Track,
        takes: list[Take],
        *,
        only_placed: bool = False,
        arrived: bool = False,
        plain: bool = False,
    ) -> None:
        takes = [take for take in takes if take.placement is not None or not only_placed]
        self._arrived, self._plain = arrived, plain
        self.track, self.takes = track, {str(take.uid): take for take in takes if not take.lost}
        self.tempo = track.session.tempo_map
        self.rate = takes[0].sample_rate if takes else track.session.rig.sample_rate
        self.stretches = standing((take.offered for take in self.takes.values()), track.choices)

    def bar_at(self, bar: int) -> float:
        """Session position of a bar's line."""
        return float(self.tempo.samples_at(self.tempo.bar_tick(bar), self.rate))

    @property
    def channels(self) -> int:
        """Of what it is heard as: one, or two where any take has them."""
        return max(take.channels for take in self.takes.values())

    @property
    def span(self) -> tuple[int, int]:
        """Session positions between which there is anything to hear."""
        bars = [take.bars_left for take in self.takes.values()]
        bars += [(one.first_bar, one.last_bar) for one in self.stretches if one.moved]
        first, last = min(bar for bar, _ in bars), max(bar for _, bar in bars)
        rings = [take.start + take.frames for take in self.takes.values() if take.bars_left[1] == take.bars[1] == last]
        over = self.bar_at(last + 1)
        cut = all(self._is_cut(one) for one in self.stretches if one.last_bar == last)
        ends = max([round(over if cut and self.stretches else over + TAIL_S * self.rate), *rings])
        return round(self.bar_at(first) - LEAD_IN_S * self.rate), ends

    def figures(self, take: Take) -> Figures:
        """What its sound is."""
        return audio.figures(take.file, rate=take.sample_rate, channels=take.channels, frames=take.frames)

    def gain_db(self, take: Take) -> float:
        """By how much a take is heard louder, so that all are heard alike."""
        found = {uid: self.figures(one) for uid, one in self.takes.items()}
        loud = {uid: one for uid, one in found.items() if one.lufs > FLOOR_DB}
        aim = min([AIM_LUFS, *(one.lufs - one.peak_db - ROOM_DB for one in loud.values())])
        mine = found[str(take.uid)]
        return aim - mine.lufs if mine.lufs > FLOOR_DB else 0.0

    def read(self, take: Take, factor: float = 1.0, offset: int = 0):
        """Frames of a take by session position, as it stands, times a factor; offset: samples by which it stands later
        than it was played."""
        file, start = (take.file, take.first_sample) if self._arrived else (take.sound_file[0], take.start)
        start += offset
        channels = self.channels

        def read(first: int, last: int) -> np.ndarray:
            sound = audio.read_frames(file, first - start, last - start) * factor
            return np.repeat(sound, channels, axis=1) if sound.shape[1] < channels else sound

        return read

    def joints(self) -> list[Joint]:
        """The seams of what stands."""
        struck = self.tempo.samples_at(notes_of(self.track)["tick"], self.rate)
        return [self._joint(one, two, struck) for one, two in self._meeting()]

    def _meeting(self) -> list[tuple[Stretch, Stretch]]:
        pairs = zip(self.stretches, self.stretches[1:], strict=False)
        return [(one, two) for one, two in pairs if one.last_bar + 1 == two.first_bar]

    def _joint(self, one: Stretch, two: Stretch, struck: np.ndarray) -> Joint:
        reads = [self._read_of(stretch, 1.0) for stretch in (one, two)]
        at = self.bar_at(two.first_bar)
        beat = (self.bar_at(two.first_bar + 1) - at) / self.tempo.beats_in_bar(two.first_bar)
        near = struck[np.abs(struck - at) < 2 * beat]

        def level(first: int, last: int) -> float:
            return sum(float((read(first, last) ** 2).mean()) for read in reads)

        seam = find_seam(at, beat, near, self.rate, level)
        return Joint(two.first_bar, seam, (seam.place - at) * 1000 / self.rate)

    def pieces(self) -> list[Piece]:
        """What stands, in order, with its seams; takes as loud as they were recorded, with their home trim."""
        joints = {joint.bar: joint.seam for joint in self.joints()}
        first, last = self.span
        found = []
        for number, one in enumerate(self.stretches):
            take, seam = self.takes[one.uid], joints.get(one.first_bar)
            following = joints.get(one.last_bar + 1)
            ends = self.stretches[number + 1].first_bar if number + 1 < len(self.stretches) else None
            whole = number == 0 and not one.moved and one.first_bar == take.bars[0]
            begins = seam.place if seam else (first if whole else round(self.bar_at(one.first_bar)))
            cut = following is None and self._is_cut(one)
            at_bar = ends is not None or cut
            over = following.place if following else (round(self.bar_at(one.last_bar + 1)) if at_bar else last)
            read = self._read_of(one, 1.0 if self._plain else take.factor)
            found.append(Piece(self._faded(read, over) if cut else read, begins, over, seam))
        return found

    def _is_cut(self, one: Stretch) -> bool:
        """Whether the take that stands there goes on behind it."""
        return self.takes[one.uid].bars[1] + one.moved > one.last_bar

    def _faded(self, read: Read, over: int) -> Read:
        """The same, silent from `over` on, without a click."""
        fade = round(FADE_S * self.rate)

        def faded(first: int, last: int) -> np.ndarray:
            return read(first, last) * np.clip((over - np.arange(first, last)) / fade, 0, 1)[:, None]

        return faded

    def _read_of(self, one: Stretch, factor: float):
        """What stands in a stretch, by session position."""
        later = self.bar_at(one.first_bar) - self.bar_at(one.first_bar - one.moved)
        return self.read(self.takes[one.uid], factor, round(later))

    def heard(self, take: Take) -> Path:
        """A take alone, as loud as the others are heard."""
        gain_db = self.gain_db(take)
        piece = Piece(self.read(take, db_to_factor(gain_db) * (-1 if take.inverted else 1)), *self.span)
        key = f"{take.uid}-{take.placement}-{take.fitted_ppm:g}-{gain_db:.2f}-{self.span}-{take.inverted}"
        return self._made(key, [piece])

    def as_it_stands(self) -> Path:
        """What stands, joined."""
        return self._made(self.key, self.pieces())

    @property
    def is_joined(self) -> bool:
        """Whether more than one take stands, or one otherwise than as it was played."""
        takes = {one.uid for one in self.stretches}
        return len(takes) > 1 or any(one.moved for one in self.stretches) or any(self.takes[u].trimmed for u in takes)

    def standing_blocks(self) -> Iterator[np.ndarray]:
        """What stands between the ends of its span, block by block, as loud as it was recorded."""
        return joined(self.pieces(), *self.span, self.rate)

    @property
    def told(self) -> list[str]:
        """Which take stands where, in words."""
        return [self._told(one) for one in self.stretches]

    def _told(self, one: Stretch) -> str:
        bars = f"bars {one.first_bar} to {one.last_bar}" if one.last_bar > one.first_bar else f"bar {one.first_bar}"
        laid = f", played in bar {one.first_bar - one.moved}" if one.moved else ""
        return f"{bars} take {self.takes[one.uid].number}{laid}"

    @property
    def key(self) -> str:
        """What its standing sound depends on."""
        placed = [(one.uid, self.takes[one.uid].placement, self.takes[one.uid].fitted_ppm) for one in self.stretches]
        trims = [(take.factor, take.trimmed) for take in self.takes.values()]
        return f"{self.stretches}-{placed}-{self.joints()}-{self.span}-{trims}"

    def _made(self, key: str, pieces: list[Piece]) -> Path:
        first, last = self.span
        channels = self.channels

        def write(stream: BinaryIO) -> None:
            with soundfile.SoundFile(stream, "w", self.rate, channels, "PCM_16", format="WAV") as target:
                for block in joined(pieces, first, last, self.rate):
                    target.write(np.clip(block, -1, 1))

        return audio.made_once("heard", f"{sha256(key.encode()).hexdigest()[:32]}.wav", write, keep=KEPT)

    def blocks_between(self, take: Take, first: int, last: int) -> Iterator[np.ndarray]:
        """A take's frames between two session positions, block by block."""
        read = self.read(take, -1.0 if take.inverted else 1.0)
        for start in range(first, last, audio.FRAMES_A_BLOCK):
            yield read(start, min(last, start + audio.FRAMES_A_BLOCK))
