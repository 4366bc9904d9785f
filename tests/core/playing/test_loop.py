"""Notes that go round: exact from round to round, changed while they do, and never left hanging."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as some

from hypotaxis.core.playing.loop import Line, Loop, line_of
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message

ROUND = 1_000


def line(*rows: tuple[int, int, int], port: str = "out") -> Line:
    """(start, end, note) in ns."""
    starts, ends, notes = (np.array(column, dtype=np.int64) for column in zip(*rows, strict=True))
    return Line(port, 10, starts, ends, notes, np.full(len(rows), 90))


def told(messages: list[Message]) -> list[tuple[int, str]]:
    return [(one.time_ns, one.data.hex()) for one in messages]


class LoopTest(SimpleTestCase):
    def test_every_round_is_the_same_and_an_upbeat_belongs_to_the_next(self):
        loop = Loop({"kit": line((-50, 40, 36), (500, 600, 38))}, ROUND, begins_ns=100)
        left = told([one for until in range(0, 2400, 37) for one in loop.messages(until)])
        self.assertEqual(
            left,
            [
                (50, "99245a"), (140, "892440"), (600, "99265a"), (700, "892640"), (1050, "99245a"), (1140, "892440"),
                (1600, "99265a"), (1700, "892640"), (2050, "99245a"), (2140, "892440"),
            ],
        )  # fmt: skip

    def test_a_change_holds_from_what_has_not_left_and_ends_what_sounds(self):
        loop = Loop({"kit": line((0, 900, 36))}, ROUND)
        self.assertEqual(told(loop.messages(100)), [(0, "99245a")])
        loop.change("kit", line((50, 60, 40), (300, 400, 36)))
        # What it would have begun before is not made up for; the long note ends where its pitch begins again.
        self.assertEqual(told(loop.messages(1000)), [(300, "892440"), (300, "99245a"), (400, "892440")])
        loop.over = True
        self.assertEqual((loop.messages(1200), loop.ended()), ([], True))

    def test_a_stopped_loop_waits_for_what_sounds(self):
        loop = Loop({"kit": line((0, 900, 36))}, ROUND, first=[Message(0, "other", b"\xc0\x01")])
        self.assertEqual(loop.ports, {"out", "other"})
        self.assertEqual(told(loop.messages(100)), [(0, "c001"), (0, "99245a")])
        loop.over = True
        self.assertFalse(loop.ended())
        self.assertEqual(told(loop.messages(2000)), [(900, "892440")])
        self.assertTrue(loop.ended())

    def test_bars_of_a_session_are_cut_at_their_end(self):
        tempo = TempoMap(480, ((0, 500_000),))
        notes = np.array([(1900, 20, 36, 90), (1920, 2000, 38, 90), (3840, 10, 39, 90)], dtype=NOTE)
        found = line_of(notes, tempo, ("out", 1), first_tick=1920, end_tick=3840)
        self.assertEqual((found.starts.tolist(), found.ends.tolist()), ([0], [2_000_000_000]))

    @settings(max_examples=80, deadline=None)
    @given(some.lists(some.tuples(some.integers(-60, 900), some.integers(1, 99), some.integers(36, 38)), min_size=1),
           some.lists(some.integers(1, 400), min_size=1, max_size=30))  # fmt: skip
    def test_whatever_begins_ends_however_it_is_asked(self, rows, stretches):
        made = line(*sorted((at, min(at + lasts, ROUND), note) for at, lasts, note in rows))
        loop, at, left = Loop({"kit": made}, ROUND, begins_ns=100), 0, []
        for stretch in stretches:
            at += stretch
            found = loop.messages(at)
            self.assertEqual(found, sorted(found, key=lambda one: one.time_ns))
            left += found
        loop.over = True
        left += loop.messages(at + 2 * ROUND)
        down: dict[int, int] = {}
        for one in left:
            down[one.data[1]] = down.get(one.data[1], 0) + (1 if one.data[0] == 0x99 else -1)
            self.assertIn(down[one.data[1]], (0, 1))
        self.assertEqual(set(down.values()) - {0}, set())
