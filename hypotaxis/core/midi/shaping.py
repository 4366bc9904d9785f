"""What becomes of a played note before it leaves: range, transposition, velocity, harmony.

All of it happens to notes that are played, never to a session's notes.
"""

from dataclasses import dataclass

from hypotaxis.core.midi.scales import NAMES, in_scale

CURVES = {
    "as played": "as played",
    "softer": "softer: quiet playing stays quiet longer",
    "harder": "harder: quiet playing comes out louder",
    "fixed": "always 100",
}
_POWERS = {"softer": 1.7, "harder": 0.6}
HARMONIES = {
    "": "none",
    "third": "a third above, in the scale",
    "fifth": "a fifth above, in the scale",
    "octave": "an octave above",
}
_STEPS = {"third": 2, "fifth": 4}
FIXED_VELOCITY = 100


@dataclass(frozen=True, kw_only=True)
class Shaping:
    """Shaping."""

    low: int = 0
    high: int = 127
    """Notes that are let through, as they are played."""
    transpose: int = 0
    """Semitones."""
    curve: str = "as played"
    """A key of CURVES."""
    harmony: str = ""
    """A key of HARMONIES."""
    scale: str = "major"
    root: int = 0
    """What harmony goes by."""

    @property
    def is_on(self) -> bool:
        return self != Shaping(scale=self.scale, root=self.root)


def shaped(note: int, velocity: int, how: Shaping) -> list[tuple[int, int]]:
    """The notes, with their velocities, that leave for one that is played; none where it is outside of the range or of
    the MIDI notes 0–127.

    >>> shaped(60, 64, Shaping(transpose=12, harmony="third"))
    [(72, 64), (76, 64)]
    """
    if not how.low <= note <= how.high:
        return []
    notes = [note]
    if how.harmony == "octave":
        notes.append(note + 12)
    elif how.harmony in _STEPS:
        notes.append(up_the_scale(note, _STEPS[how.harmony], how.root, how.scale))
    force = FIXED_VELOCITY if how.curve == "fixed" else round(127 * (velocity / 127) ** _POWERS.get(how.curve, 1.0))
    moved = (one + how.transpose for one in notes)
    return [(one, max(1, min(127, force))) for one in moved if 0 <= one <= 127]


def up_the_scale(note: int, steps: int, root: int, scale: str) -> int:
    """The note so many steps of the scale above; one that is not in the scale goes from the step below it."""
    while not in_scale(note, root, scale):
        note -= 1
    for _ in range(steps):
        note += 1
        while not in_scale(note, root, scale):
            note += 1
    return note


def in_words(how: Shaping) -> str:
    """What is done to played notes, empty for nothing.

    >>> in_words(Shaping(transpose=-12, low=36, curve="softer"))
    'notes 36 to 127, −12 semitones, softer'
    """
    if not how.is_on:
        return ""
    parts = []
    if (how.low, how.high) != (0, 127):
        parts.append(f"notes {how.low} to {how.high}")
    if how.transpose:
        parts.append(f"{'+' if how.transpose > 0 else '−'}{abs(how.transpose)} semitones")
    if how.curve != "as played":
        parts.append("velocity 100" if how.curve == "fixed" else how.curve)
    if how.harmony:
        key = "" if how.harmony == "octave" else f" in {NAMES[how.root]} {how.scale}"
        parts.append(f"with {'an' if how.harmony == 'octave' else 'a'} {how.harmony} above{key}")
    return ", ".join(parts)
