"""What stands for a track as one sound: takes by bars, each giving way to the next in a seam."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.mixing.seams import Seam, fade_samples, weights

BLOCK = 65_536
Read = Callable[[int, int], np.ndarray]
"""The frames of a take between two session positions, shape (frames, channels), gain and polarity applied; silence
outside of it."""


@dataclass(frozen=True, eq=False)
class Piece:
    """A take that stands from one session position up to another (not included). seam: how it begins, None = as it is,
    since nothing stands before it."""

    read: Read
    first: int
    last: int
    seam: Seam | None = None


def joined(pieces: Sequence[Piece], first: int, last: int, rate: int) -> Iterator[np.ndarray]:
    """All of it between two session positions, block by block; silence where nothing stands."""
    if not pieces:
        return
    whole = Joined(pieces, rate)
    for start in range(first, last, BLOCK):
        yield whole.read(start, min(last, start + BLOCK))


class Joined:
    """Pieces, at least one, as one sound that can be read anywhere; their fades are worked out once."""

    def __init__(self, pieces: Sequence[Piece], rate: int) -> None:
        self._fades = _fades(pieces, fade_samples(rate) // 2)
        self.channels = pieces[0].read(pieces[0].first, pieces[0].first).shape[1]

    def read(self, first: int, last: int) -> np.ndarray:
        """The frames between two session positions, shape (frames, channels); silence where nothing stands."""
        made = np.zeros((last - first, self.channels))
        for piece, rise, fall in self._fades:
            from_, to = (
                max(first, piece.first, rise.first if rise else first),
                min(last, fall.last if fall else piece.last),
            )
            if from_ < to:
                sound = piece.read(from_, to)
                made[from_ - first : to - first] += sound * _gain(rise, fall, from_, to)[:, None]
        return made


@dataclass(frozen=True, eq=False)
class _Fade:
    """The weights of a piece between two positions."""

    first: int
    last: int
    values: np.ndarray

    def over(self, first: int, last: int, before: float, after: float) -> np.ndarray:
        """Its weights between two positions; before and after it these values."""
        places = np.arange(first, last) - self.first
        found = np.where(places < 0, before, after)
        inside = (places >= 0) & (places < len(self.values))
        found[inside] = self.values[places[inside]]
        return found


def _fades(pieces: Sequence[Piece], half: int) -> list[tuple[Piece, _Fade | None, _Fade | None]]:
    """Each piece with how it rises and falls; it sounds from half a fade before its first sample to half a fade behind
    its last one where a seam is."""
    rises: list[_Fade | None] = [None] * len(pieces)
    falls: list[_Fade | None] = [None] * len(pieces)
    grown = list(pieces)
    for number in range(1, len(pieces)):
        before, after = pieces[number - 1], pieces[number]
        if after.seam is None or before.last != after.first:
            continue
        first, last = after.first - half, after.first + half
        going, coming = weights(before.read(first, last), after.read(first, last))
        falls[number - 1], rises[number] = _Fade(first, last, going), _Fade(first, last, coming)
        grown[number] = Piece(after.read, first, grown[number].last, after.seam)
    return list(zip(grown, rises, falls, strict=True))


def _gain(rise: _Fade | None, fall: _Fade | None, first: int, last: int) -> np.ndarray:
    gain = np.ones(last - first)
    if rise:
        gain *= rise.over(first, last, 0.0, 1.0)
    if fall:
        gain *= fall.over(first, last, 1.0, 0.0)
    return gain
