"""What leaves for boxes that follow, against rational arithmetic: MIDI 1.0 Detailed Specification where nothing else is
said."""

import io
from fractions import Fraction
from itertools import pairwise

import mido
import numpy as np
import pretty_midi
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as some

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.course import Course, course_of_bars
from hypotaxis.core.sync.sending import events, position_of, song_position, tick_ns
from hypotaxis.core.sync.timecode import RATES, full, label, piece, pieces
from hypotaxis.core.sync.values import Sending

CLOCK, START, CONTINUE, STOP = (bytes([byte]) for byte in (0xF8, 0xFA, 0xFB, 0xFC))


@some.composite
def tempo_maps(draw) -> TempoMap:
    tpq = draw(some.sampled_from((24, 96, 100, 480, 960, 32_767)))
    starts = draw(some.lists(some.integers(1, 40 * tpq), unique=True, max_size=8))
    paces = some.integers(200_000, 2_000_000)
    tempos = ((0, draw(paces)), *((tick, draw(paces)) for tick in sorted(starts)))
    over, under = draw(some.sampled_from(((4, 4), (3, 4), (7, 8), (5, 16), (1, 64))))
    return TempoMap(tpq, tempos, ((0, over, under),))


def moment(tempo: TempoMap, tick: Fraction | int) -> Fraction:
    """When a tick of the score is, in ns, segment by segment in fractions."""
    tick, total = Fraction(tick), Fraction(0)
    ends = [start for start, _ in tempo.tempos[1:]] + [None]
    for (start, us), end in zip(tempo.tempos, ends, strict=True):
        until = tick if end is None else min(tick, Fraction(end))
        if until > start:
            total += (until - start) * us * 1000 / tempo.ticks_per_quarter
    return total


def clocks(sent) -> list:
    return [one for one in sent if one.data == CLOCK]


class ClockTest(SimpleTestCase):
    @given(tempo=tempo_maps(), first=some.integers(1, 5), bars=some.integers(1, 8), times=some.integers(1, 3))
    def test_every_clock_stands_exactly_where_its_fraction_of_a_quarter_stands(self, tempo, first, bars, times):
        course = course_of_bars(tempo, first_bar=first, bars=bars, times=times)
        begin, end = course.loop
        zero, lasts = moment(tempo, begin), moment(tempo, end) - moment(tempo, begin)
        step, wanted = Fraction(tempo.ticks_per_quarter, 24), []
        for turn in range(times):
            number = 0
            while begin + number * step < end:
                at = moment(tempo, begin + number * step) - zero + turn * lasts
                wanted.append((round(at), (begin + number * step) / step))
                number += 1
        self.assertEqual([(one.time_ns, one.tick) for one in clocks(events(course, Sending()))], wanted)
        self.assertEqual(tick_ns(course).tolist(), [at for at, _ in wanted])

    def test_the_last_clock_of_four_hours_is_as_exact_as_the_first(self):
        tempo = TempoMap(480, tuple((480 * 144 * part, 498_113 + 37 * part) for part in range(200)))
        end = 28_800 * 480
        at = tick_ns(Course(tempo=tempo, begin=0, loop=(0, end)))
        self.assertEqual(len(at), 691_200)
        for number in (0, 1, 345_678, 691_199):
            self.assertEqual(at[number], round(moment(tempo, Fraction(number * 20))))

    def test_an_independent_library_puts_the_quarters_at_the_same_moments(self):
        # pretty_midi reads the written file's tempo map by itself; its times are floats in seconds.
        tempo = TempoMap(480, ((0, 500_000), (1920, 391_304), (5000, 731_707)), ((0, 4, 4),))
        notes = np.zeros(1, NOTE)
        notes["duration"], notes["note"], notes["velocity"] = 9600, 60, 100
        data = write_smf(Score(tempo, (ScorePart("Ebb", 1, notes, no_controls()),), 9600))
        other = pretty_midi.PrettyMIDI(io.BytesIO(data))
        at = tick_ns(course_of_bars(tempo, first_bar=1, bars=5))
        for quarter in range(20):
            self.assertAlmostEqual(at[24 * quarter] / 1e9, other.tick_to_time(480 * quarter), delta=1e-9)

    def test_start_leaves_before_the_first_clock_and_stop_at_the_end(self):
        tempo = TempoMap(480, ((0, 500_000),))
        sent = events(course_of_bars(tempo, first_bar=1, bars=1), Sending())
        self.assertEqual([sent[0].data, sent[1].data, sent[-1].data], [START, CLOCK, STOP])
        self.assertLessEqual(sent[0].time_ns, -1_000_000)
        self.assertEqual((sent[1].time_ns, sent[-1].time_ns), (0, 2_000_000_000))
        place, go_on, first = events(course_of_bars(tempo, first_bar=9, bars=1), Sending())[:3]
        # Bar 9 of 4/4 is sixteenth 128: least significant seven bits first.
        self.assertEqual((place.data.hex(), go_on.data, first.tick), ("f20001", CONTINUE, 8 * 96))
        self.assertTrue(place.time_ns + 960_000 < go_on.time_ns <= -1_000_000)
        quiet = Sending(keys=False)
        self.assertEqual({one.data for one in events(course_of_bars(tempo, first_bar=3, bars=1), quiet)}, {CLOCK})

    def test_clock_that_always_runs_keeps_the_pace_before_and_behind(self):
        tempo = TempoMap(480, ((0, 500_000), (1920, 400_000)))
        course = course_of_bars(tempo, first_bar=1, bars=2)
        at = [one.time_ns for one in clocks(events(course, Sending(always=True), before_ns=10**8, after_ns=10**8))]
        self.assertEqual(np.diff(at[:5]).tolist(), [20_833_333, 20_833_333, 20_833_334, 20_833_333])
        self.assertEqual(at[4], 0)
        self.assertEqual(set(np.diff(at[-6:]).tolist()), {16_666_667, 16_666_666})


class WrapTest(SimpleTestCase):
    tempo = TempoMap(480, ((0, 500_000),))

    def around(self, wrap: str, **given) -> list[tuple[float, str]]:
        course = course_of_bars(given.pop("tempo", self.tempo), first_bar=3, bars=2, times=2)
        wrap_ns = int(course.ns(course.lasts)) // 2
        sent = events(course, Sending(wrap=wrap, **given))
        return [((one.time_ns - wrap_ns) / 1e6, one.data.hex()) for one in sent if abs(one.time_ns - wrap_ns) < 2.1e7]

    def test_what_is_sent_lies_between_the_last_clock_and_a_millisecond_before_the_next(self):
        self.assertEqual([data for _, data in self.around("nothing")], ["f8"] * 2 + ["f8"])
        self.assertEqual([data for _, data in self.around("start")], ["f8", "fa", "f8", "f8"])
        told = self.around("position")
        self.assertEqual([data for _, data in told], ["f8", "fc", "f22000", "fb", "f8", "f8"])
        last, stop, place, go_on, first, _ = [at for at, _ in told]
        self.assertTrue(last < stop < place < go_on <= -1.0 < first == 0.0)

    def test_a_loop_that_is_no_whole_number_of_clocks_begins_on_its_bar_and_counts_none_twice(self):
        # 3/64 at 480: 90 ticks, four and a half clocks; two bars are nine.
        tempo = TempoMap(480, ((0, 500_000),), ((0, 3, 64),))
        course = course_of_bars(tempo, first_bar=2, bars=1, times=3)
        sent = events(course, Sending())
        self.assertEqual([float(one.tick) for one in clocks(sent)], [4.5, 5.5, 6.5, 7.5, 8.5] * 3)
        self.assertEqual([one.time_ns for one in clocks(sent)][5], 93_750_000)
        # Clocks every 0.5 ms leave no room: the stop goes 2 ms before, and no clock stands behind continue.
        quick = TempoMap(480, ((0, 12_000),), ((0, 4, 4),))
        course = course_of_bars(quick, first_bar=1, bars=1, times=2)
        order = [(one.time_ns - 48_000_000, one.data.hex()) for one in events(course, Sending(wrap="position"))]
        near = [(at, data) for at, data in order if -2_000_001 < at < 1]
        self.assertIn((-2_000_000, "fc"), near)
        self.assertIn((-1_000_000, "fb"), near)
        behind = [data for at, data in near if -1_000_000 < at < 0]
        self.assertEqual(behind, [])

    def test_song_position_has_an_end_and_says_where(self):
        self.assertEqual(song_position(16_383).hex(), "f27f7f")
        self.assertEqual(position_of(self.tempo, 1023 * 1920 + 1919), 16_383)
        with self.assertRaisesRegex(CannotSchedule, "ends at 16,383 .* bar 1025 lies beyond. Start at bar 1024"):
            events(course_of_bars(self.tempo, first_bar=1025, bars=1), Sending())

    def test_what_makes_no_sense_is_refused(self):
        for wrong, reason in (
            ({"first_bar": 0, "bars": 1}, "There is no bar 0: bars count from 1"),
            ({"first_bar": 1, "bars": 0}, "0 bars are nothing to play"),
            ({"first_bar": 2, "bars": 1, "begin_bar": 3}, "begins at bar 3, behind the loop"),
            ({"first_bar": 1, "bars": 1, "times": 0}, "once or more often"),
            ({"first_bar": 1, "bars": 100, "times": 10_000}, "longer than 12 hours"),
        ):
            with self.subTest(reason=reason), self.assertRaisesRegex(CannotSchedule, reason):
                course_of_bars(self.tempo, **wrong)
        with self.assertRaisesRegex(CannotSchedule, "0.6 BPM cannot be followed"):
            course_of_bars(TempoMap(480, ((0, 100_000_000),)), first_bar=1, bars=1)


class TimeCodeTest(SimpleTestCase):
    def test_pieces_as_an_independent_library_reads_them(self):
        # mido: quarter_frame messages of type and value.
        one = label(25 * 3723 + 19, RATES["25"])
        self.assertEqual(str(one), "01:02:03:19")
        told = [mido.Message.from_bytes(piece(number, one, RATES["25"])) for number in range(8)]
        values = [message.frame_value for message in told]
        self.assertEqual([message.frame_type for message in told], list(range(8)))
        numbers = [low | high << 4 for low, high in zip(values[::2], values[1::2], strict=True)]
        self.assertEqual(numbers, [19, 3, 2, 1 | 1 << 5])
        self.assertEqual(full(one, RATES["25"]).hex(), "f07f7f01012102" + "0313f7")

    def test_dropped_numbers(self):
        # SMPTE ST 12-1, from memory: one hour of 29.97 drop is 107,892 frames.
        rate = RATES["29.97"]
        for frame, name in (
            (1799, "00:00:59:29"),
            (1800, "00:01:00:02"),
            (17_981, "00:09:59:29"),
            (17_982, "00:10:00:00"),
            (107_892, "01:00:00:00"),
        ):
            self.assertEqual(str(label(frame, rate)), name)
        names = {str(label(frame, rate)) for frame in range(107_892)}
        self.assertEqual(len(names), 107_892)

    def test_pieces_stand_four_a_frame_and_begin_with_a_frame(self):
        rate = RATES["29.97"]
        told = list(pieces(Fraction(1, 100), Fraction(1), rate))
        # A hundredth of a second lies in frame 0: the first piece begins frame 1.
        self.assertEqual([number for number, _ in told[:3]], [4, 5, 6])
        self.assertEqual({b[0] - a[0] for a, b in pairwise(told)}, {1})
        self.assertLess(Fraction(told[-1][0] * 1001, 120_000), 1)
        course = course_of_bars(TempoMap(480, ((0, 500_000),)), first_bar=2, bars=1)
        sent = [one.time_ns for one in events(course, Sending(time_code="29.97")) if one.data[0] == 0xF1]
        quarter = Fraction(1001, 120_000)
        first = -(-Fraction(2) // (4 * quarter)) * 4 * quarter
        self.assertEqual(sent[:9], [round((first + number * quarter - 2) * 10**9) for number in range(9)])

    def test_at_a_wrap_the_pieces_stop_a_full_message_goes_and_they_go_on(self):
        tempo = TempoMap(480, ((0, 500_000),))
        course = course_of_bars(tempo, first_bar=3, bars=1, times=2)
        sent = [one for one in events(course, Sending(time_code="25")) if one.data[0] in (0xF0, 0xF1)]
        place = next(number for number, one in enumerate(sent) if one.data[0] == 0xF0)
        self.assertEqual(sent[0].data.hex(), "f100")
        self.assertEqual(str(label(100, RATES["25"])), "00:00:04:00")
        self.assertEqual(sent[place].data.hex(), "f07f7f01012000" + "0400f7")
        self.assertEqual(sent[place + 1].time_ns, 2_000_000_000)
        self.assertLess(sent[place - 1].time_ns, sent[place].time_ns)
        self.assertEqual(sent[place + 1].data.hex(), "f100")
