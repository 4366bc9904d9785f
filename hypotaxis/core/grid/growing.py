"""A start for the hesitant: a pattern grown from density, syncopation and a seed.

Every place of a bar has a weight, the higher the nearer to the bar's beginning its level of the meter stands (Longuet-
Higgins and Lee, The rhythmic interpretation of monophonic music, 1984: the bar 0, each halving one less). A voice
plays where weight, turned round as far as syncopation asks for it, and chance of the seed together are highest; so the
same three values and the same voice always grow the same row, and more density only adds to it.
"""

import numpy as np

from hypotaxis.core.grid.values import Row, Step, within

UNSURE = 0.6
"""How much of a place's worth is the seed's: a fraction of one level of the meter."""
LOUD, LEVEL_STEP = 112, 14
"""Velocity on the bar's beginning; each level of the meter less."""
SOFTEST = 44


def weights(beats: int, a_beat: int) -> np.ndarray:
    """Weight of each place of a bar: 0 for its beginning, −1 for what halves it, and so on down to the smallest.

    >>> weights(4, 4).tolist()
    [0, -4, -3, -4, -2, -4, -3, -4, -1, -4, -3, -4, -2, -4, -3, -4]
    """
    places = beats * a_beat
    found = np.zeros(places, dtype=int)
    level, spans = 0, [places]
    for parts in [*_factors(beats), *_factors(a_beat)]:
        spans.append(spans[-1] // parts)
    for place in range(places):
        level = next(number for number, span in enumerate(spans) if place % span == 0)
        found[place] = -level
    return found


def _factors(count: int) -> list[int]:
    """How a count is divided, twos first: the halving of a bar comes before that of a beat."""
    found = []
    for prime in (2, 3, 5, 7, 11, 13, 17, 19, 23, 29, 31):
        while count % prime == 0:
            found.append(prime)
            count //= prime
    return found or [1]


def grown(note: int, *, density: float, syncopation: float, seed: int, beats: int = 4, unit: int = 4) -> Row:
    """A row of a voice in sixteenths, for a bar of this meter. density and syncopation: 0 to 100 per cent. Raises
    BadBars beyond them."""
    beats, a_beat = (beats, 16 // unit) if unit <= 16 else (max(1, beats * 16 // unit), 1)
    within("Density", density, 0, 100, " %")
    within("Syncopation", syncopation, 0, 100, " %")
    heavy = weights(beats, a_beat).astype(float)
    depth = max(1.0, -heavy.min())
    worth = (1.0 - 2.0 * syncopation / 100.0) * (1.0 + heavy / depth)
    drawn = np.random.default_rng([seed % 2**32, note]).random(len(heavy))
    worth += UNSURE / depth * drawn + (drawn - 0.5) * 0.5
    count = round(density / 100.0 * len(heavy))
    chosen = sorted(np.argsort(-worth, kind="stable")[:count].tolist())
    steps = (Step(place, velocity=max(SOFTEST, round(LOUD + LEVEL_STEP * heavy[place]))) for place in chosen)
    return Row(note, steps=tuple(steps))
