"""An on-screen keyboard: which key stands where, how it is named, and whether the scale lets it sound."""

from dataclasses import dataclass

from hypotaxis.core.midi.scales import in_scale, note_name

WHITE_W, BLACK_W = 36, 22
OCTAVES = 3
_BLACK = {1, 3, 6, 8, 10}


@dataclass(frozen=True)
class Key:
    """One key. x and w in px."""

    note: int
    name: str
    x: float
    w: int
    raised: bool
    """It stands between two others."""
    sounds: bool
    """The scale lets it."""

    @property
    def lettered(self) -> bool:
        """Whether its name is printed on it: every C is, for the eye to count from."""
        return self.note % 12 == 0


def keyboard(first: int, *, middle_c: int, root: int = 0, scale: str = "all notes") -> tuple[Key, ...]:
    """Three octaves and a key from the C at or below `first`, the raised keys last so that they lie on top."""
    low = max(0, min(first - first % 12, 127 - 12 * OCTAVES))
    keys, whites = [], 0
    for note in range(low, low + 12 * OCTAVES + 1):
        raised = note % 12 in _BLACK
        x = whites * WHITE_W - BLACK_W / 2 if raised else whites * WHITE_W
        whites += not raised
        name = note_name(note, middle_c)
        keys.append(Key(note, name, x, BLACK_W if raised else WHITE_W, raised, in_scale(note, root, scale)))
    return tuple(sorted(keys, key=lambda key: key.raised))
