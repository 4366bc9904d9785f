"""A pass that a box leads, against leaders made here: what leaves and when, how it ends, which tempo was played."""

from collections.abc import Sequence

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.midi.messages import CLOCK, CONTINUE, SONG_POSITION, START, STOP
from hypotaxis.core.session.passes import LedBy
from hypotaxis.core.session.schedule import PlayedPart, plan_run
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Block, Message
from hypotaxis.core.sync.led import Led, played_tempo, smoothed

RATE, FRAMES = 48_000, 256
AT_88 = TempoMap(480, ((0, 681_818),))
A_BAR = 96
FROM_NS = 2_000_000_000


def clocks(bpms: Sequence[float], *, seed: int = 1, jitter_ms: float = 0.0, from_ns: int = FROM_NS) -> np.ndarray:
    """Times of a clock more than there are tempos."""
    at = np.concatenate([[0.0], np.cumsum(2500.0 / np.asarray(bpms, float))]) * 1e6
    moved = np.random.default_rng(seed).uniform(-jitter_ms, jitter_ms, len(at)) * 1e6
    return np.rint(from_ns + at + moved).astype(np.int64)


def sent(times: np.ndarray, *, before: bytes = bytes([START]), after: bytes = b"") -> list[tuple[int, bytes]]:
    """What a leader sends: a message just before its first clock, its clocks, one behind the last."""
    heard = [(int(times[0]) - 2_000_000, before)] if before else []
    heard += [(int(at), bytes([CLOCK])) for at in times]
    return heard + ([(int(times[-1]) + 1_000_000, after)] if after else [])


def quarters(bars: int) -> np.ndarray:
    """A note on every quarter, by its number from 36 on."""
    return np.array([(number * 480, 240, 36 + number, 100) for number in range(4 * bars)], dtype=NOTE)


class Desk:
    """Plays a leader's bytes to a pass, a block at a time, and keeps what left."""

    def __init__(self, heard, *, bars=(1, 2), until_stop: bool = False, tempo: TempoMap = AT_88, seconds=30.0) -> None:
        part = PlayedPart("out", 1, quarters(bars[1]), np.zeros(0, CONTROL), (bytes([0xC0, 5]),))
        schedule = plan_run([part], tempo, first_bar=bars[0], last_bar=bars[1], sample_rate=RATE)
        self.led = Led(schedule, tempo, LedBy("Heron", "in", until_stop), rate=RATE)
        self.left: list[Message] = []
        heard, place = sorted(heard), 0
        for start in range(0, round(seconds * RATE), FRAMES):
            end_ns = (start + FRAMES) * 1e9 / RATE
            self.left += self.led.messages(round(end_ns))
            came = []
            while place < len(heard) and heard[place][0] <= end_ns:
                came.append(Message(heard[place][0], "in", heard[place][1]))
                place += 1
            self.led.hear(Block(start, np.zeros((FRAMES, 1), np.float32), tuple(came)))
            if self.led.ended():
                break

    @property
    def notes(self) -> dict[int, int]:
        """When each note began, by its number."""
        return {one.data[1]: one.time_ns for one in self.left if one.data[0] == 0x90}

    @property
    def hanging(self) -> set[int]:
        """Notes that were never ended."""
        return set(self.notes) - {one.data[1] for one in self.left if one.data[0] == 0x80}


class LedTest(SimpleTestCase):
    def test_notes_leave_where_the_leaders_clock_is_whatever_the_session_says(self):
        for bpms in (np.full(2 * A_BAR, 120.0), 120 + 3 * np.sin(np.arange(2 * A_BAR) / 150)):
            times = clocks(bpms)
            desk = Desk(sent(times))
            self.assertTrue(desk.led.whole)
            self.assertEqual(desk.left[0].data, bytes([0xC0, 5]), "its sound is called before")
            # The first waits until its clock has been heard; the others leave with theirs.
            self.assertLess(desk.notes[36] - times[0], FRAMES / RATE * 1e9 + 1)
            off = [desk.notes[36 + number] - times[24 * number] for number in range(1, 8)]
            self.assertLess(np.abs(off).max(), 0.5e6)
            self.assertEqual(desk.hanging, set())
            self.assertEqual(set(desk.notes), set(range(36, 44)))

    def test_a_clock_that_runs_before_its_start_lets_the_first_note_be_in_time(self):
        times = clocks(np.full(4 * A_BAR, 120.0))
        heard = [(int(at), bytes([CLOCK])) for at in times] + [(int(times[A_BAR]) - 9_000_000, bytes([START]))]
        desk = Desk(heard)
        self.assertLess(abs(desk.notes[36] - times[A_BAR]), 0.1e6)
        self.assertEqual(desk.led.played(0)[1].late_ms, 0.0)

    def test_jitter_of_two_ms_is_not_played_on(self):
        desk = Desk(sent(clocks(np.full(8 * A_BAR, 100.0), jitter_ms=2.0)), bars=(1, 8))
        true = clocks(np.full(8 * A_BAR, 100.0))
        off = np.array([desk.notes[36 + number] - true[24 * number] for number in range(8, 32)])
        self.assertLess(off.std(), 0.7e6)

    def test_song_position_says_where_it_goes_on_and_before_its_first_bar_a_pass_waits(self):
        times = clocks(np.full(4 * A_BAR, 120.0))

        def at(sixteenth: int):
            place = (int(times[0]) - 3_000_000, bytes([SONG_POSITION, sixteenth & 0x7F, sixteenth >> 7]))
            return [place, *sent(times, before=bytes([CONTINUE]))]

        into = Desk(at(16 + 8), bars=(1, 4))
        self.assertEqual((min(into.notes), into.led.first_clock), (36 + 6, 144))
        off_the_beat = Desk(at(16 + 1), bars=(1, 4))
        self.assertEqual(min(off_the_beat.notes), 36 + 5, "the note a sixteenth before it is not played late")
        self.assertLess(abs(into.notes[36 + 8] - times[48]), 0.5e6)
        before = Desk(at(16), bars=(3, 4))
        self.assertEqual(before.led.begun_ns, times[96], "bars 2 and 1 pass by")
        self.assertEqual(min(before.notes), 36 + 8)
        behind = Desk(at(10 * 16), bars=(1, 4))
        self.assertFalse(behind.led.begun)
        self.assertIn("behind the last bar", behind.led.now().told)

    def test_whatever_ends_it_early_is_told_with_its_place_and_nothing_hangs(self):
        times = clocks(np.full(A_BAR + 30, 120.0))
        for after, told in (
            (bytes([STOP]), "It was stopped in bar 2, beat 2, sixteenth 2."),
            (bytes([START]), "It was started again in bar 2, beat 2, sixteenth 2."),
            (b"", "Its clock stopped coming in bar 2, beat 2, sixteenth 2."),
        ):
            with self.subTest(told):
                desk = Desk(sent(times, after=after), bars=(1, 4))
                self.assertTrue(desk.led.ended())
                run = desk.led.played(0)[1]
                self.assertEqual((run.told, run.whole, run.last_bar), (told, False, 2))
                self.assertEqual(desk.hanging, set())
                self.assertNotIn(36 + 8, desk.notes)

    def test_a_jump_and_a_stall_are_told_and_it_goes_on(self):
        times = clocks(np.full(2 * A_BAR, 120.0))
        times[A_BAR + 10 :] += 300_000_000
        desk = Desk([*sent(times), (int(times[50]) + 1_000_000, bytes([SONG_POSITION, 64, 0]))])
        run = desk.led.played(0)[1]
        self.assertTrue(run.whole)
        self.assertIn("It named another position in bar 1, beat 3, sixteenth 1, while it ran", run.told)
        self.assertIn("Its clock stalled for 321 ms.", run.told)
        self.assertEqual(set(desk.notes), set(range(36, 44)))
        after = np.array([desk.notes[36 + number] - times[24 * number] for number in range(5, 8)])
        self.assertLess(np.abs(after).max(), FRAMES / RATE * 1e9 + 1)

    def test_it_goes_on_until_its_stop_where_that_is_wished(self):
        desk = Desk(sent(clocks(np.full(5 * A_BAR, 120.0)), after=bytes([STOP])), bars=(1, 2), until_stop=True)
        run = desk.led.played(0)[1]
        self.assertEqual((run.whole, run.told, run.last_bar), (True, "", 5))

    def test_garbage_ends_it_or_never_begins_it(self):
        flood = [(FROM_NS + 100_000 * number, bytes([CLOCK])) for number in range(12_000)]
        desk = Desk([(FROM_NS - 2_000_000, bytes([START])), *flood], bars=(1, 22))
        self.assertIn("More than 1,000 clocks a second came", desk.led.told)
        self.assertFalse(Desk(flood, seconds=4).led.begun, "clock without start")
        stalls = Desk([(FROM_NS, bytes([START]))], seconds=4)
        self.assertFalse(stalls.led.begun, "start without clock")
        odd = [(FROM_NS, bytes([0xF2])), (FROM_NS, bytes([0xF4, 1])), (FROM_NS, bytes([0x90, 60, 1]))]
        self.assertFalse(Desk(odd, seconds=4).led.begun)


class PlayedTempoTest(SimpleTestCase):
    def test_bars_stand_where_the_leader_had_them(self):
        for bpms in (
            np.full(8 * A_BAR, 119.7),
            120 + 2 * np.sin(np.arange(8 * A_BAR) / 150),
            np.concatenate([np.full(4 * A_BAR, 120.0), np.full(4 * A_BAR, 123.0)]),
        ):
            true = clocks(bpms)
            for jitter_ms, within_ms in ((0.0, 0.01), (2.0, 2.0)):
                tempo = played_tempo(AT_88, clocks(bpms, jitter_ms=jitter_ms, seed=3).tolist(), 0)
                bars = tempo.us_at(np.array([tempo.bar_tick(bar) for bar in range(1, 10)]))
                off = bars * 1000 - (true[::A_BAR] - true[0])
                off -= off.mean()
                self.assertLess(np.abs(off).max() / 1e6, within_ms)

    def test_up_to_its_first_bar_it_is_the_sessions(self):
        tempo = TempoMap(480, ((0, 500_000), (1920, 600_000)))
        played = played_tempo(tempo, clocks(np.full(A_BAR, 150.0)).tolist(), 2 * A_BAR)
        self.assertEqual(played.tempos, ((0, 500_000), (1920, 600_000), (3840, 400_000)))
        self.assertEqual(played_tempo(tempo, [5], 0), tempo, "one clock is no tempo")

    @given(st.lists(st.floats(40, 220), min_size=1, max_size=6), st.integers(0, 23))
    def test_no_rounding_adds_up(self, tempos, more):
        times = clocks(np.concatenate([np.repeat(tempos, 48), np.full(more, tempos[-1])]))
        played = played_tempo(AT_88, times.tolist(), 0)
        smooth = smoothed(times)
        knots = np.arange(0, len(times), 24)
        off = played.us_at(knots * 20) - (smooth[knots] - smooth[0]) / 1000
        self.assertLessEqual(np.abs(off).max(), 0.51)
