"""Patterns as notes, by value: where a step stands, how loud it is, what plays only sometimes."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
from django.test import SimpleTestCase
from hypothesis import example, given, settings
from hypothesis import strategies as some

from hypotaxis.core.errors import BadBars, UnreadableFile
from hypotaxis.core.formats.gridcsv import read_grid_table, write_grid_table
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.grid.borrowing import borrowed
from hypotaxis.core.grid.growing import grown, weights
from hypotaxis.core.grid.notes import grid_notes, pattern_notes
from hypotaxis.core.grid.values import LETTERS, Grid, Pattern, Row, Step, Voicing, order_of, order_told
from hypotaxis.core.session.arrange import Part, Piece, doubled, in_double_time, printed, with_bars
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap

FINE = TempoMap(3840, ((0, 625_000),))
"""96 BPM: a tick is 0.163 ms."""


def row(*places: int, note: int = 42, **how) -> Row:
    return Row(note, steps=tuple(Step(place) for place in places), **how)


def grid(*rows: Row, order: str = "A", **how) -> Grid:
    return Grid((Pattern("A", rows),), tuple(order), **how)


def ms(notes: np.ndarray, tempo: TempoMap = FINE) -> list[float]:
    return (tempo.us_at(notes["tick"]) / 1000).tolist()


def sounding(one: Grid, bars: int = 1, tempo: TempoMap = FINE) -> np.ndarray:
    return grid_notes(one, tempo, tempo.bar_tick(bars + 1))


class StepsTest(SimpleTestCase):
    def test_swing_and_shift_stand_where_the_figures_say(self):
        # numbers.md: at 96 BPM 58 % puts the second sixteenth at 181.25 ms instead of 156.25 ms.
        swung = sounding(grid(row(0, 1, 2, 3), voices=(Voicing(42, swing=58),)))
        np.testing.assert_allclose(ms(swung), [0, 181.25, 312.5, 493.75], atol=0.082)
        both = sounding(grid(row(1), voices=(Voicing(42, swing=58, shift_ms=-2),)))
        np.testing.assert_allclose(ms(both), [179.25], atol=0.082)

    def test_a_shift_is_ms_at_any_tempo(self):
        changing = TempoMap(3840, ((0, 625_000), (3840 * 2, 312_500)))
        late = sounding(grid(row(0, 4, 8, 12), voices=(Voicing(42, shift_ms=10),)), tempo=changing)
        np.testing.assert_allclose(ms(late, changing), [10, 635, 1260, 1572.5], atol=0.1)

    def test_triplets_have_no_swing_and_are_exact_thirds(self):
        thirds = sounding(grid(row(*range(12), a_quarter=3), voices=(Voicing(42, swing=60),)))
        self.assertEqual(thirds["tick"].tolist(), [int(Fraction(3840, 3) * place) for place in range(12)])

    def test_repeats_share_a_step_and_lengths_are_in_steps(self):
        one = grid(Row(42, steps=(Step(4, repeats=3, length=0.5),)))
        notes = sounding(one)
        self.assertEqual(notes["tick"].tolist(), [3840, 4160, 4480])
        self.assertEqual(set(notes["duration"].tolist()), {160})

    def test_a_short_row_repeats_within_the_bar_and_begins_anew_with_the_next(self):
        notes = sounding(grid(row(0, length=3), order="AA"), bars=2)
        self.assertEqual((notes["tick"] / 960).tolist(), [0, 3, 6, 9, 12, 15, 16, 19, 22, 25, 28, 31])

    def test_bars_of_any_meter_are_filled_and_not_overrun(self):
        sevens = TempoMap(3840, ((0, 500_000),), ((0, 7, 8),))
        self.assertEqual((sounding(grid(row(0, length=4)), tempo=sevens)["tick"] / 960).tolist(), [0, 4, 8, 12])
        self.assertEqual(len(sounding(grid(row(*range(16))), tempo=sevens)), 14)

    def test_a_note_ends_where_the_next_of_its_pitch_begins(self):
        long = Row(42, steps=(Step(0, length=8), Step(2, length=16)))
        self.assertEqual(sounding(grid(long))["duration"].tolist(), [2 * 960, 14 * 960])

    def test_levels_mutes_and_solos(self):
        # 40·log10(v/127) dB (General MIDI 2): half the velocity is 12.04 dB less.
        quiet = grid(row(0), row(0, note=36), voices=(Voicing(42, level_db=-12.04),))
        self.assertEqual(dict(sounding(quiet)[["note", "velocity"]].tolist()), {36: 100, 42: 50})
        muted = replace(quiet, voices=(Voicing(42, mute=True),))
        self.assertEqual(sounding(muted)["note"].tolist(), [36])
        alone = replace(quiet, voices=(Voicing(42, solo=True, mute=True),))
        self.assertEqual(sounding(alone)["note"].tolist(), [42])

    def test_what_plays_sometimes_plays_as_often_as_it_says_and_always_the_same(self):
        one = grid(Row(42, steps=(Step(0, chance=30),)), order="A" * 3000)
        first = sounding(one, bars=3000)
        # 900 expected of 3,000; standard deviation 25.
        self.assertLess(abs(len(first) - 900), 100)
        self.assertEqual(first.tolist(), sounding(one, bars=3000).tolist())
        self.assertNotEqual(first["tick"].tolist(), sounding(replace(one, seed=2), bars=3000)["tick"].tolist())
        beside = grid(Row(42, steps=(Step(0, chance=30),)), row(1, note=36), order="A" * 3000)
        hats = sounding(beside, bars=3000)
        self.assertEqual(hats[hats["note"] == 42]["tick"].tolist(), first["tick"].tolist(), "others change nothing")

    def test_a_loop_has_the_upbeat_and_all_that_may_play(self):
        one = grid(Row(42, steps=(Step(0, chance=1), Step(8, chance=0))), voices=(Voicing(42, shift_ms=-5),))
        self.assertEqual(pattern_notes(one, "A", FINE)["tick"].tolist(), [-31])

    def test_orders_are_typed_and_told(self):
        two = Grid((Pattern("A"), Pattern("B")))
        self.assertEqual(order_of("a a | - b", 6, two), ("A", "A", "", "B", "A", "A"))
        self.assertEqual(order_told(order_of("AAAB", 16, two)), "AAAB")
        with self.assertRaisesRegex(BadBars, "“C”, the 3. of the order, is no pattern of this part. There is A, B."):
            order_of("ABC", 4, two)

    def test_impossible_values_are_refused_with_their_range(self):
        for make, told in (
            (lambda: Step(0, velocity=0), "Velocity goes from 1 to 127; 0 does not."),
            (lambda: Row(42, a_quarter=13), "Steps a quarter goes from 1 to 12; 13 does not."),
            (lambda: Voicing(42, swing=49), "Swing goes from 50 to 75 %; 49 does not."),
            (lambda: Row(42, steps=(Step(1), Step(1))), "one step at a place"),
            (lambda: Grid().pattern("Z"), "There is no pattern Z here."),
        ):
            with self.subTest(told), self.assertRaisesRegex(BadBars, told):
                make()


class PieceTest(SimpleTestCase):
    def piece(self, **how) -> Piece:
        written = np.array([(0, 100, 60, 90)], dtype=NOTE)
        return Piece(FINE, FINE.bar_tick(5), parts={"kit": Part(written, no_controls(), None, grid(row(0), **how))})

    def test_printing_gives_the_notes_that_sounded_and_nothing_doubles(self):
        piece = self.piece(order="A-A".replace("-", "A"))
        part = piece.parts["kit"]
        sounded = part.sounding(FINE, piece.end_tick)
        after = printed(part, FINE, piece.end_tick)
        self.assertEqual(after.notes.tolist(), sounded.tolist())
        self.assertEqual(after.sounding(FINE, piece.end_tick).tolist(), sounded.tolist())
        self.assertFalse(after.grid.on)

    def test_bars_take_their_patterns_along(self):
        twice = doubled(self.piece(order="AA"))
        self.assertEqual(twice.parts["kit"].grid.order, ("A", "A", "", "", "A", "A"))
        self.assertEqual(with_bars(twice, 1).parts["kit"].grid.order, ("A",))
        with self.assertRaisesRegex(BadBars, "print them to notes first"):
            in_double_time(self.piece(order="A"))

    def test_patterns_leave_as_a_midi_file_and_come_back_exactly(self):
        notes = sounding(grid(row(*range(16)), row(0, 7, note=36), voices=(Voicing(42, swing=58),)))
        score = Score(FINE, (ScorePart("Kit", 10, notes, no_controls()),), FINE.bar_tick(2))
        (back,) = read_smf(write_smf(score)).parts
        self.assertEqual(back.notes.tolist(), notes.tolist())


def syncopation_of(row: Row, *, beats: int = 4) -> int:
    """How syncopated a row of a bar is by Longuet-Higgins and Lee: each note that is followed by a rest of greater
    weight counts the difference; the bar goes round."""
    heavy = weights(beats, row.a_quarter)
    struck = {one.place for one in row.steps}
    found = 0
    for place in struck:
        silent = []
        for later in range(place + 1, place + len(heavy)):
            if later % len(heavy) in struck:
                break
            silent.append(int(heavy[later % len(heavy)]))
        found += max(0, max(silent, default=-99) - int(heavy[place]))
    return found


class GrowingTest(SimpleTestCase):
    def test_weights_are_those_of_the_handbook(self):
        # Longuet-Higgins and Lee 1984, metrical tree of 4/4 in eighths and of 3/4.
        self.assertEqual(weights(4, 2).tolist(), [0, -3, -2, -3, -1, -3, -2, -3])
        self.assertEqual(weights(3, 1).tolist(), [0, -1, -1])

    def test_density_adds_and_syncopation_moves_off_the_beat(self):
        def found(**how):
            return [grown(38, seed=seed, **{"density": 40, "syncopation": 0} | how) for seed in range(30)]

        for thin, thick in zip(found(density=20), found(density=60), strict=True):
            self.assertLess({one.place for one in thin.steps}, {one.place for one in thick.steps})
        self.assertEqual([len(one.steps) for one in found(density=50)], [8] * 30)
        scores = [np.mean([syncopation_of(one) for one in found(syncopation=s)]) for s in (0, 35, 70, 100)]
        self.assertEqual(scores, sorted(scores))
        self.assertGreater(scores[-1], scores[0] + 5)

    def test_the_same_values_grow_the_same(self):
        how = {"density": 30, "syncopation": 40, "seed": 7}
        self.assertEqual(grown(38, **how), grown(38, **how))
        self.assertNotEqual(grown(38, **how), grown(38, **how | {"seed": 8}))
        self.assertEqual(grown(38, density=0, syncopation=0, seed=1).steps, ())
        for unit in (1, 2, 8, 16, 32):
            self.assertTrue(grown(38, density=100, syncopation=0, seed=1, beats=6, unit=unit).steps)
        with self.assertRaisesRegex(BadBars, "Density goes from 0 to 100 %; 101 does not."):
            grown(38, density=101, syncopation=0, seed=1)


class BorrowingTest(SimpleTestCase):
    def test_voices_find_their_namesakes_and_the_rest_is_listed(self):
        theirs = {36: "Kick", 42: "Closed hi-hat", 46: "Open Hat", 70: "Shaker"}
        mine = {60: "kick drum", 61: "Closed HiHat", 62: "Open hat"}
        pattern = Pattern("A", tuple(row(0, note=note) for note in theirs))
        found = borrowed(pattern, theirs, mine, name="C")
        self.assertEqual({one.note for one in found.pattern.rows}, {60, 61, 62})
        self.assertEqual((found.pattern.name, found.lost), ("C", ("Shaker",)))

    def test_one_name_is_not_given_to_two(self):
        pattern = Pattern("A", (row(0, note=1), row(0, note=2)))
        found = borrowed(pattern, {1: "Tom", 2: "Tom low"}, {50: "Tom"}, name="B")
        self.assertEqual(([one.note for one in found.pattern.rows], found.lost), ([50], ("Tom low",)))


def _steps(most: int):
    lengths = some.floats(0.05, 16, allow_nan=False)
    values = {"velocity": some.integers(1, 127), "length": lengths, "chance": some.integers(0, 100)}
    step = some.builds(Step, some.integers(0, most), repeats=some.integers(1, 8), **values)
    return some.lists(step, max_size=6, unique_by=lambda one: one.place).map(
        lambda found: tuple(sorted(found, key=lambda one: one.place))
    )


ROWS = some.builds(Row, some.integers(0, 127), some.integers(1, 12), some.integers(0, 128), _steps(127))
VOICES = some.builds(
    Voicing,
    some.integers(0, 127),
    some.floats(50, 75),
    some.floats(-100, 100),
    some.floats(-40, 12),
    some.booleans(),
    some.booleans(),
)


@some.composite
def grids(draw) -> Grid:
    names = LETTERS[: draw(some.integers(1, 4))]
    rows = some.lists(ROWS, max_size=4, unique_by=lambda one: one.note).map(tuple)
    patterns = tuple(Pattern(name, draw(rows)) for name in names)
    order = draw(some.lists(some.sampled_from(["", *names]), max_size=12))
    voices = draw(some.lists(VOICES, max_size=4, unique_by=lambda one: one.note))
    numbers = (draw(some.integers(0, 999_999_999)), draw(some.booleans()))
    return Grid(patterns, tuple(order), tuple(voices), *numbers)


class RoundTripTest(SimpleTestCase):
    @settings(max_examples=60, deadline=None)
    @example(Grid((Pattern("A", (Row(0),)),)), "\r")
    @given(grids(), some.text(some.characters(codec="utf-8", exclude_characters="\0"), max_size=8))
    def test_a_table_and_a_row_come_back_exactly(self, one, name):
        names = {row.note: name for pattern in one.patterns for row in pattern.rows}
        self.assertEqual(read_grid_table(write_grid_table(one, names).encode()), one)
        self.assertEqual(from_json(Grid, to_json(one)), one)

    @settings(max_examples=60, deadline=None)
    @given(grids(), some.integers(1, 9))
    def test_no_note_leaves_the_piece_or_runs_into_its_like(self, one, bars):
        notes = grid_notes(one, FINE, FINE.bar_tick(bars + 1))
        self.assertTrue(((notes["tick"] >= 0) & (notes["tick"] + notes["duration"] <= FINE.bar_tick(bars + 1))).all())
        for note in np.unique(notes["note"]):
            mine = notes[notes["note"] == note]
            self.assertTrue((mine["tick"][:-1] + mine["duration"][:-1] <= mine["tick"][1:]).all())

    def test_every_bad_line_of_a_table_is_named(self):
        bad = "order,AC\nvoice,42,Hat,50\nrow,42,Hat,4,0\npattern A\nrow,42,Hat,4,0,100,200,3x9\nnonsense\n"
        with self.assertRaises(UnreadableFile) as caught:
            read_grid_table(bad.encode())
        for told in (
            "Line 2: A voice has 7 cells behind its name, not 3.",
            "Line 3: A row stands before the first pattern.",
            "Line 5: Velocity goes from 1 to 127; 200 does not.",
            "Line 6: “nonsense” is none of order",
            "The order names C, which is no pattern of it.",
        ):
            self.assertIn(told, str(caught.exception))
        with self.assertRaisesRegex(UnreadableFile, "It has no pattern."):
            read_grid_table(b"order,\n")
