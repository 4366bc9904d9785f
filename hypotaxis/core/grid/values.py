"""What is a grid made of?

Steps are counted from 0 and are so many a quarter; a row begins anew with every bar, and repeats within it where it is
shorter. How a voice plays (swing, shift, level, mute) holds in every pattern. Values are checked when they are made.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from hypotaxis.core.errors import BadBars

LETTERS = "ABCDEFGHIJKLMNOP"
MOST_A_QUARTER = 12
MOST_STEPS = 128
MOST_REPEATS = 8
LOUDEST = 127
STRAIGHT, MOST_SWING = 50.0, 75.0
MOST_SHIFT_MS = 100.0
LOWEST_DB, HIGHEST_DB = -40.0, 12.0
HIGHEST_SEED = 999_999_999
LONGEST = 16.0
"""Steps that a note lasts at most."""


def within(what: str, value: float, low: float, high: float, unit: str = "") -> None:
    """Raise BadBars for a value out of its range."""
    if not low <= value <= high:
        raise BadBars(f"{what} goes from {low:g} to {high:g}{unit}; {value:g} does not.")


@dataclass(frozen=True)
class Step:
    """One note of a row."""

    place: int
    """From 0."""
    velocity: int = 100
    length: float = 0.5
    """In steps."""
    chance: int = 100
    """How often it plays, per cent."""
    repeats: int = 1
    """Notes within the step, evenly."""

    def __post_init__(self) -> None:
        within("A step's place", self.place, 0, MOST_STEPS - 1)
        within("Velocity", self.velocity, 1, LOUDEST)
        within("A step's length", self.length, 0.05, LONGEST, " steps")
        within("How often a step plays", self.chance, 0, 100, " %")
        within("A step's repeats", self.repeats, 1, MOST_REPEATS)


@dataclass(frozen=True)
class Row:
    """One voice in one pattern."""

    note: int
    a_quarter: int = 4
    """Steps a quarter: 4 are sixteenths, 3 triplets of eighths."""
    length: int = 0
    """Steps until it repeats; 0: the bar's."""
    steps: tuple[Step, ...] = ()
    """In order of place."""

    def __post_init__(self) -> None:
        within("A note", self.note, 0, 127)
        within("Steps a quarter", self.a_quarter, 1, MOST_A_QUARTER)
        within("A row's length", self.length, 0, MOST_STEPS, " steps")
        places = [one.place for one in self.steps]
        if places != sorted(set(places)):
            raise BadBars("A row has one step at a place, in order.")

    def at(self, place: int) -> Step | None:
        """Its step at a place."""
        return next((one for one in self.steps if one.place == place), None)

    def with_step(self, place: int, step: Step | None) -> "Row":
        """The same with this step at a place, or none."""
        kept = [one for one in self.steps if one.place != place] + ([step] if step else [])
        return replace(self, steps=tuple(sorted(kept, key=lambda one: one.place)))


@dataclass(frozen=True)
class Voicing:
    """How a voice plays in every pattern."""

    note: int
    swing: float = STRAIGHT
    """Where the second of a pair of steps stands, per cent of the pair; only where an even number makes a quarter."""
    shift_ms: float = 0.0
    """+ later."""
    level_db: float = 0.0
    """By velocity."""
    mute: bool = False
    solo: bool = False

    def __post_init__(self) -> None:
        within("Swing", self.swing, STRAIGHT, MOST_SWING, " %")
        within("A row's shift", self.shift_ms, -MOST_SHIFT_MS, MOST_SHIFT_MS, " ms")
        within("A row's level", self.level_db, LOWEST_DB, HIGHEST_DB, " dB")


@dataclass(frozen=True)
class Pattern:
    """A bar of steps; name: a letter."""

    name: str
    rows: tuple[Row, ...] = ()

    def row(self, note: int) -> Row:
        """Its row of a voice, empty where it has none."""
        return next((one for one in self.rows if one.note == note), Row(note))

    def with_row(self, row: Row) -> "Pattern":
        """The same with this row; one without steps that is as any other is left out."""
        kept = [one for one in self.rows if one.note != row.note]
        return replace(self, rows=tuple(kept if row == Row(row.note) else [*kept, row]))


@dataclass(frozen=True)
class Grid:
    """The patterns of a part. order: the letter of the pattern of each bar, "" = none; seed: of what plays only
    sometimes; on: whether it sounds."""

    patterns: tuple[Pattern, ...] = (Pattern("A"),)
    order: tuple[str, ...] = ()
    voices: tuple[Voicing, ...] = field(default=())
    seed: int = 1
    on: bool = True

    def __post_init__(self) -> None:
        within("A seed", self.seed, 0, HIGHEST_SEED)

    def pattern(self, name: str) -> Pattern:
        """One of its patterns. Raises BadBars where it has none of this name."""
        found = next((one for one in self.patterns if one.name == name), None)
        if found is None:
            raise BadBars(f"There is no pattern {name or 'without a letter'} here.")
        return found

    def voice(self, note: int) -> Voicing:
        """How a voice plays."""
        return next((one for one in self.voices if one.note == note), Voicing(note))

    @property
    def heard(self) -> "Heard":
        """Which voices sound: those that are solo where any is, otherwise all that are not muted."""
        solo = frozenset(one.note for one in self.voices if one.solo)
        return Heard(solo, frozenset(one.note for one in self.voices if one.mute))

    @property
    def free_letter(self) -> str:
        """The next letter for a pattern. Raises BadBars where all are taken."""
        taken = {one.name for one in self.patterns}
        found = next((letter for letter in LETTERS if letter not in taken), None)
        if found is None:
            raise BadBars(f"A part has at most {len(LETTERS)} patterns. Take one away first.")
        return found

    def with_pattern(self, pattern: Pattern) -> "Grid":
        """The same with this pattern in the place of the one of its name, or behind the others."""
        if any(one.name == pattern.name for one in self.patterns):
            return replace(self, patterns=tuple(pattern if one.name == pattern.name else one for one in self.patterns))
        return replace(self, patterns=(*self.patterns, pattern))

    def without_pattern(self, name: str) -> "Grid":
        """The same without a pattern; the bars it played are empty. Raises BadBars for the last one."""
        self.pattern(name)
        if len(self.patterns) == 1:
            raise BadBars("A grid has at least one pattern.")
        kept = tuple(one for one in self.patterns if one.name != name)
        return replace(self, patterns=kept, order=_trimmed("" if one == name else one for one in self.order))

    def with_voice(self, voice: Voicing) -> "Grid":
        """The same with a voice that plays so."""
        kept = tuple(one for one in self.voices if one.note != voice.note)
        return replace(self, voices=kept if voice == Voicing(voice.note) else (*kept, voice))

    def laid(self, name: str, bars: Iterable[int]) -> "Grid":
        """The same with a pattern ("" = none) in these bars, counted from 1."""
        if name:
            self.pattern(name)
        order = dict(enumerate(self.order, start=1)) | dict.fromkeys(bars, name)
        return replace(self, order=_trimmed(order.get(bar, "") for bar in range(1, max(order, default=0) + 1)))

    def twice(self, bars: int) -> "Grid":
        """The same with its first bars laid once more behind themselves."""
        once = [*self.order[:bars], *[""] * (bars - len(self.order))]
        return replace(self, order=_trimmed([*once, *once]))

    def bars(self) -> Iterator[tuple[int, str]]:
        """(bar, letter) of every bar that has a pattern."""
        return ((bar, name) for bar, name in enumerate(self.order, start=1) if name)


@dataclass(frozen=True)
class Heard:
    """Which voices sound."""

    solo: frozenset[int]
    muted: frozenset[int]

    def __contains__(self, note: int) -> bool:
        return note in self.solo if self.solo else note not in self.muted


def order_of(text: str, bars: int, grid: Grid) -> tuple[str, ...]:
    """An order as it is typed: letters, "-" for a bar without; blanks and bar lines are for the eye. It is repeated to
    the last bar. Raises BadBars.

    >>> order_of("AA-B", 6, Grid((Pattern("A"), Pattern("B"))))
    ('A', 'A', '', 'B', 'A', 'A')
    """
    letters = [one.upper() for one in text if not one.isspace() and one != "|"]
    known = {one.name for one in grid.patterns}
    for place, letter in enumerate(letters, start=1):
        if letter != "-" and letter not in known:
            there = ", ".join(sorted(known))
            raise BadBars(f"“{letter}”, the {place}. of the order, is no pattern of this part. There is {there}.")
    if not letters:
        return ()
    return _trimmed("" if (one := letters[bar % len(letters)]) == "-" else one for bar in range(bars))


def order_told(order: Sequence[str]) -> str:
    """An order as it is typed, the shortest stretch that repeats.

    >>> order_told(("A", "A", "", "B", "A", "A")), order_told(())
    ('AA-B', '')
    """
    letters = "".join(one or "-" for one in order)
    for length in range(1, len(letters) + 1):
        if (letters[:length] * len(letters))[: len(letters)] == letters:
            return letters[:length]
    return letters


def _trimmed(order: Iterable[str]) -> tuple[str, ...]:
    letters = list(order)
    while letters and not letters[-1]:
        letters.pop()
    return tuple(letters)
