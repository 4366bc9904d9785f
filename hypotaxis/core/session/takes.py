"""Where does a take stand, and what must a handover keep of it?

Positions are samples of the interface's nominal rate, from the session's zero (bar 1). A take's audio is never
shifted in its file: its placement stands beside it.
"""

from hypotaxis.core.session.tempo import TempoMap


def start_of(first_sample: int, placement: int | None) -> int:
    """Session position of a take's first frame as it stands: as it arrived, or with its placement (None = not placed);
    negative when it begins before the session's zero."""
    return first_sample + (placement or 0)


def preroll_bars(tempo: TempoMap, earliest: int, rate: int) -> int:
    """Whole bars before the session's zero that a handover needs so that nothing is cut; 0 when nothing is early.

    The first bar's own length is used for the bars before it.
    """
    if earliest >= 0:
        return 0
    bar = float(tempo.samples_at(tempo.bar_tick(2), rate))
    return -(-abs(earliest) // max(1, int(bar)))


def preroll_samples(tempo: TempoMap, bars: int, rate: int) -> int:
    """Length of that many bars before zero, rounded to whole samples."""
    return round(float(tempo.samples_at(tempo.bar_tick(2), rate)) * bars)
