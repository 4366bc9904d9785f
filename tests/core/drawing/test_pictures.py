"""Pictures by value: grid, notes, ribbon, meters, waves and lines stand where the numbers behind them say."""

import itertools
import math
import re

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.drawing.grid import BEAT_GAP, CELL, HIGH, Named, draw_grid, step_sum
from hypotaxis.core.drawing.layout import _order
from hypotaxis.core.drawing.levels import level_bar, level_x
from hypotaxis.core.drawing.needles import WIDTH, needle, scale
from hypotaxis.core.drawing.paths import RADIUS, polyline, rounded
from hypotaxis.core.drawing.ribbon import LINE_Y, ribbon
from hypotaxis.core.drawing.roll import LINE_H, STEMS_H, controllers_in, draw_roll, rows_of
from hypotaxis.core.drawing.strips import Span, extremes, single_samples
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, Voicing
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.timing.budget import Budget, Leg

US_AT_96 = 625_000
KICK, HAT = 36, 42
POINT = st.tuples(*[st.floats(-500, 500, allow_nan=False).map(lambda value: round(value, 1))] * 2)
PLACES = st.lists(st.integers(0, 12), max_size=3).map(lambda places: tuple(sorted(places)))


def numbers(path: str) -> list[float]:
    return [float(one) for one in re.findall(r"-?\d+(?:\.\d+)?", path)]


class GridTest(SimpleTestCase):
    """Swing and lengths: common practice of drum machines. At 96 BPM an eighth is 312.5 ms; 58 % of it is 181.25, 25 ms
    behind the straight sixteenth at 156.25 (by hand)."""

    def drawn(self, *rows: Row, voice: Voicing | None = None, beats: int = 4, unit: int = 4, **more):
        grid = Grid(patterns=(Pattern("A", rows),), voices=(voice,) if voice else ())
        voices = tuple(Named(row.note, f"voice {row.note}") for row in rows)
        return draw_grid(grid, grid.patterns[0], voices, beats=beats, unit=unit, us_per_quarter=US_AT_96, **more)

    def test_swing_moves_the_second_of_a_pair_inside_its_cell_as_far_as_it_will_sound(self):
        row, voice = Row(HAT, steps=(Step(0), Step(1))), Voicing(HAT, swing=58.0)
        self.assertAlmostEqual(step_sum(row, voice, 1, US_AT_96).swing, 25.0)
        self.assertEqual(step_sum(row, voice, 0, US_AT_96).whole, 0.0)
        drawn = self.drawn(row, voice=voice)
        ((section,),) = (drawn.sections,)
        first, second = section.rows[0].cells[:2]
        self.assertEqual(first.blocks[0].x, first.x)
        # A quarter of 625 ms is four cells wide.
        self.assertAlmostEqual(second.blocks[0].x - second.x, 25.0 / 625.0 * 4 * CELL, places=1)

    def test_a_shift_in_ms_moves_every_step_and_adds_to_swing(self):
        row, voice = Row(HAT, steps=(Step(0), Step(1))), Voicing(HAT, swing=66.0, shift_ms=-10.0)
        self.assertAlmostEqual(step_sum(row, voice, 1, US_AT_96).whole, 0.32 * 156.25 - 10.0)
        cells = self.drawn(row, voice=voice).sections[0].rows[0].cells
        self.assertAlmostEqual(cells[0].blocks[0].x - cells[0].x, -10.0 / 625.0 * 4 * CELL, places=1)

    def test_triplets_do_not_swing_and_stand_between_the_sixteenths(self):
        row, voice = Row(HAT, a_quarter=3, steps=(Step(1),)), Voicing(HAT, swing=75.0)
        drawn = self.drawn(row, voice=voice).sections[0].rows[0]
        self.assertFalse(drawn.swings)
        self.assertEqual(len(drawn.cells), 12)
        self.assertAlmostEqual(drawn.cells[1].x, 4 * CELL / 3, places=1)
        self.assertEqual(drawn.cells[1].blocks[0].x, drawn.cells[1].x)

    def test_beats_stand_apart_and_the_bar_is_as_wide_as_its_steps(self):
        drawn = self.drawn(Row(KICK, steps=(Step(0),)))
        self.assertEqual([x for x, _ in drawn.beats], [(4 * CELL + BEAT_GAP) * beat for beat in range(4)])
        self.assertAlmostEqual(drawn.width, 16 * CELL + 3 * BEAT_GAP, places=1)
        odd = self.drawn(Row(KICK, steps=(Step(0),)), beats=7, unit=8)
        self.assertEqual((len(odd.beats), len(odd.sections[0].rows[0].cells)), (7, 14))

    def test_a_short_row_repeats_in_lighter_cells_behind_its_end(self):
        row = self.drawn(Row(KICK, length=6, steps=(Step(0), Step(5, repeats=3)))).sections[0].rows[0]
        self.assertEqual([cell.place for cell in row.cells if cell.step], [0, 5, 6, 11, 12])
        self.assertEqual([cell.kind for cell in row.cells if cell.step], ["", "", "quiet", "quiet", "quiet"])
        self.assertEqual(row.returns, row.cells[6].x)
        self.assertEqual(len(row.cells[5].blocks), 3)
        gaps = np.diff([block.x for block in row.cells[5].blocks])
        np.testing.assert_allclose(gaps, CELL / 3, atol=0.02)

    def test_a_blocks_height_is_its_velocity(self):
        cells = self.drawn(Row(KICK, steps=(Step(0, velocity=127), Step(1, velocity=64)))).sections[0].rows[0].cells
        loud, soft = (cell.blocks[0] for cell in cells[:2])
        self.assertAlmostEqual(loud.h, HIGH - 2)
        self.assertAlmostEqual(soft.h / loud.h, 64 / 127, places=2)
        self.assertAlmostEqual(loud.y + loud.h, soft.y + soft.h)


class RollTest(SimpleTestCase):
    tempo = TempoMap()

    def notes(self, *rows: tuple[int, int, int, int]) -> np.ndarray:
        return np.array(list(rows), dtype=NOTE)

    def drawn(self, notes: np.ndarray, controls=(), controller: int = 1, first_bar: int = 1, bars: int = 2):
        rows = rows_of(notes, {}, 3)
        named = {"first_bar": first_bar, "bars": bars, "controller": controller, "name": note_name}
        return draw_roll(notes, np.array(list(controls), dtype=CONTROL), self.tempo, rows, **named)

    def test_notes_stand_by_their_ticks_and_keys(self):
        drawn = self.drawn(self.notes((0, 480, 60, 127), (1920, 960, 64, 1)))
        first, second = drawn.notes
        self.assertEqual((first.x, first.w, second.x, second.w), (0.0, 12.5, 50.0, 25.0))
        self.assertEqual(first.y - second.y, 4 * drawn.row_h)
        self.assertEqual((first.stem_y, second.stem_y), (2.0, round(STEMS_H - (STEMS_H - 2) / 127, 1)))
        self.assertEqual([line.bar for line in drawn.lines], [1, 0, 0, 0, 2, 0, 0, 0])

    def test_what_reaches_in_from_the_bar_before_is_cut_at_the_edge(self):
        (note,) = self.drawn(self.notes((1440, 960, 60, 90), (0, 480, 60, 90)), first_bar=2, bars=1).notes
        self.assertEqual((note.x, note.w, note.place, note.tick), (0.0, 25.0, 0, 1440))

    def test_keys_around_the_notes_are_named_at_every_c_and_kits_by_their_voices(self):
        rows = rows_of(self.notes((0, 1, 60, 1), (0, 1, 61, 1)), {}, 3)
        self.assertEqual([row.note for row in rows], sorted((row.note for row in rows), reverse=True))
        self.assertEqual({row.note: row.name for row in rows if row.name}, {48: "C2", 60: "C3", 72: "C4"})
        self.assertTrue(next(row for row in rows if row.note == 61).black)
        kit = rows_of(self.notes((0, 1, 50, 1)), {36: "Kick", 38: "Snare"}, 3)
        self.assertEqual([row.name for row in kit][:2], ["Snare", "Kick"])
        self.assertEqual(len(kit), 3, "a note that no voice names has a row as well")

    def test_a_controller_holds_until_its_next_value(self):
        controls = [(0, 0xB0, 1, 0), (960, 0xB0, 1, 127), (960, 0xB0, 7, 3)]
        drawn = self.drawn(self.notes((0, 480, 60, 100)), controls, bars=1)
        self.assertEqual(drawn.controller_path, f"M0 {LINE_H - 1}H500V1H1000")
        bend = [(0, 0xE0, 0, 64), (480, 0xD0, 127, 0)]
        self.assertEqual(controllers_in(np.array(bend, dtype=CONTROL)), [-1, -2])
        # 64 × 128 of 16,383 is the middle of pitch bend (MIDI 1.0 Detailed Specification).
        middle = numbers(self.drawn(self.notes((0, 480, 60, 100)), bend, controller=-1, bars=1).controller_path)[1]
        self.assertAlmostEqual(middle, LINE_H / 2, delta=0.01)


class RibbonTest(SimpleTestCase):
    def test_legs_stand_end_to_end_above_the_line_on_the_way_out_and_below_it_home(self):
        legs = (("host", "out", 1.0), ("wire", "out", 0.96), ("box", "out", 4.0), ("buffer", "home", 5.33))
        made = Budget(tuple(Leg(kind, kind, way, ms, 0.1, "usual") for kind, way, ms in legs))
        drawn = ribbon(made, 20.0, "expected")
        pixel = WIDTH / 20.0
        for shape, (_, way, ms) in zip(drawn.legs, legs, strict=True):
            self.assertAlmostEqual(shape.width, ms * pixel, delta=0.01)
            self.assertEqual((shape.ink, shape.y < LINE_Y), ("out", True) if way == "out" else ("back", False))
        for before, after in itertools.pairwise(drawn.legs):
            self.assertAlmostEqual(before.x + before.width, after.x, delta=0.02)
        self.assertAlmostEqual(drawn.turn_x, 5.96 * pixel, delta=0.01)
        self.assertAlmostEqual(drawn.end_x, made.ms * pixel, delta=0.01)

    def test_a_leg_too_narrow_to_be_seen_still_counts(self):
        legs = tuple(Leg("hop", "thru", "out", 0.002, 0.0, "standard") for _ in range(3))
        drawn = ribbon(Budget((*legs, Leg("box", "box", "out", 4.0, 1.0, "usual"))), 20.0, "expected")
        self.assertEqual([shape.label for shape in drawn.legs], ["box"])
        self.assertAlmostEqual(drawn.end_x, 4.006 * WIDTH / 20.0, delta=0.01)

    @given(st.floats(0.1, 900))
    def test_every_lateness_stands_inside_its_scale(self, latest):
        found = scale(latest)
        self.assertGreater(found.end_ms, latest)
        self.assertEqual((found.marks[0], found.marks[-1]), ((0.0, "0"), (WIDTH, str(found.end_ms))))
        self.assertLessEqual(len(found.marks), 12)
        drawn = needle(latest, 0.4, found.end_ms)
        self.assertAlmostEqual(drawn.x / WIDTH * found.end_ms, latest, delta=0.01 * found.end_ms / WIDTH)
        self.assertAlmostEqual(drawn.band_x + drawn.band_w / 2, drawn.x, delta=0.02)


class MeterTest(SimpleTestCase):
    def test_twelve_db_are_a_fifth_of_the_scale_everywhere(self):
        self.assertEqual([level_x(db, 100) for db in (-60, -48, -36, -24, -12, 0)], [0, 20, 40, 60, 80, 100])
        self.assertEqual([level_x(db, 100) for db in (-math.inf, -90, 6)], [0, 0, 100])

    def test_the_mark_to_aim_at_is_there_only_where_there_is_one(self):
        self.assertIsNone(level_bar(-20, -12, False).reference)
        bar = level_bar(-30, -12, False, -18, scale_w=100)
        self.assertEqual((bar.width, bar.hold, bar.reference), (50, 80, 70))


class LineTest(SimpleTestCase):
    @given(st.lists(POINT, min_size=1, max_size=12))
    def test_a_polyline_reads_back(self, points):
        read = np.array(numbers(polyline(points))).reshape(-1, 2)
        np.testing.assert_allclose(read, points, atol=0.005)

    @given(st.lists(st.integers(-40, 40), min_size=2, max_size=8))
    def test_rounded_corners_keep_both_ends_and_never_leave_the_way(self, steps):
        at, points = [0, 0], [(0, 0)]
        for number, step in enumerate(steps):
            at[number % 2] += 5 * step
            points.append(tuple(at))
        read = np.array(numbers(rounded(points))).reshape(-1, 2)
        self.assertEqual((*read[0], *read[-1]), (*points[0], *points[-1]))
        for x, y in read:
            near = min(max(abs(x - corner[0]), abs(y - corner[1])) for corner in points)
            straight = any(
                min(a, c) <= x <= max(a, c) and min(b, d) <= y <= max(b, d)
                for (a, b), (c, d) in itertools.pairwise(points)
            )
            self.assertTrue(straight or near <= RADIUS, (x, y))

    @given(st.lists(st.floats(-1, 1, width=32), min_size=1, max_size=200), st.integers(1, 40))
    def test_extremes_are_those_of_each_stretch(self, samples, columns):
        found = np.array(samples, dtype=np.float32)
        low, high = extremes(found, columns)
        self.assertEqual((low.min(), high.max()), (found.min(), found.max()))
        self.assertTrue((low <= high).all())
        edges = np.linspace(0, len(found), columns + 1).astype(int)
        for column, (first, last) in enumerate(itertools.pairwise(edges)):
            if last > first:
                self.assertEqual((low[column], high[column]), (found[first:last].min(), found[first:last].max()))

    @given(st.lists(st.floats(-2, 2, width=32), min_size=1, max_size=40), st.integers(-5, 100))
    def test_single_samples_stand_one_by_one_held_inside_the_strip(self, samples, first):
        span = Span(0.0, 50.0, 500.0)
        path, dots = single_samples(np.array(samples), first, span, 44.0, 1.0)
        for place, (value, (x, y)) in enumerate(zip(samples, dots, strict=True)):
            self.assertAlmostEqual(x, (first + place) * 10.0)
            self.assertAlmostEqual(y, 22.0 - max(-1.0, min(1.0, value)) * 22.0, places=5)
        self.assertEqual(len(numbers(path)), 2 * len(samples))


class OrderTest(SimpleTestCase):
    """Of two neighbours no change of places lets fewer cables cross, and who was put by hand is never passed."""

    @staticmethod
    def crossings(upper, lower) -> int:
        return sum(above > below for mine, other in zip(upper, lower, strict=True) for above in mine for below in other)

    @given(st.lists(st.tuples(st.tuples(PLACES, PLACES), st.booleans()), min_size=1, max_size=12))
    def test_no_change_of_places_gains_anything_and_nobody_passes_who_was_put_by_hand(self, groups):
        ends, fixed = tuple(one for one, _ in groups), tuple(by_hand for _, by_hand in groups)
        order = _order(ends, fixed)
        self.assertEqual(sorted(order), list(range(len(groups))))
        for upper, lower in itertools.pairwise(order):
            if not fixed[upper] and not fixed[lower]:
                now, changed = self.crossings(ends[upper], ends[lower]), self.crossings(ends[lower], ends[upper])
                self.assertLessEqual(now, changed)
        for place, by_hand in enumerate(fixed):
            if by_hand:
                self.assertEqual({*order[: order.index(place)]}, {*range(place)})
