"""Scales that an on-screen keyboard can be locked to, and how notes are named.

Note 60 is middle C: C4 in acoustics (scientific pitch notation), C3 by many makers of instruments.
"""

NAMES = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
SCALES: dict[str, tuple[int, ...]] = {
    "all notes": tuple(range(12)),
    "major": (0, 2, 4, 5, 7, 9, 11),
    "minor": (0, 2, 3, 5, 7, 8, 10),
    "harmonic minor": (0, 2, 3, 5, 7, 8, 11),
    "dorian": (0, 2, 3, 5, 7, 9, 10),
    "major pentatonic": (0, 2, 4, 7, 9),
    "minor pentatonic": (0, 3, 5, 7, 10),
    "whole tone": (0, 2, 4, 6, 8, 10),
}
"""Steps above the root, in semitones."""


def note_name(note: int, middle_c: int = 4) -> str:
    """A note with its octave as the box writes it. middle_c: the octave of note 60.

    >>> note_name(60), note_name(60, 3), note_name(36, 3)
    ('C4', 'C3', 'C1')
    """
    return f"{NAMES[note % 12]}{note // 12 - 5 + middle_c}"


def in_scale(note: int, root: int, scale: str) -> bool:
    """Whether a note belongs to a scale. root: 0 = C … 11 = B."""
    return (note - root) % 12 in SCALES[scale]
