"""A further file brought into a piece: where its notes come to stand, whose tempo rules, what is said."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.arrange import Part, empty
from hypotaxis.core.session.joining import FILES, joined
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap


def score(*rows, tempo: TempoMap, bars: int) -> Score:
    parts = [ScorePart(f"part {n}", n + 1, np.array(one, dtype=NOTE), no_controls()) for n, one in enumerate(rows)]
    return Score(tempo, tuple(parts), tempo.bar_tick(bars + 1))


class JoiningTest(SimpleTestCase):
    def setUp(self):
        self.piece = empty(bpm=120, beats=4, unit=4, bars=4)

    def test_other_ticks_come_to_stand_on_the_same_beats_and_the_piece_grows(self):
        file = score([(96, 48, 60, 90), (97, 1, 61, 90)], tempo=TempoMap(96, ((0, 500_000),)), bars=3)
        one = joined(self.piece, file, {0: "new"}, bar=3)
        self.assertEqual(one.piece.parts["new"].notes.tolist(), [(3840 + 480, 240, 60, 90), (3840 + 485, 5, 61, 90)])
        self.assertEqual((one.piece.bars, one.remarks), (5, ()))

    def test_a_track_that_is_there_gets_them_between_its_own(self):
        mine = Part(np.array([(0, 10, 50, 1), (960, 10, 50, 1)], dtype=NOTE), no_controls())
        piece = type(self.piece)(self.piece.tempo, self.piece.end_tick, (), {"bass": mine})
        file = score([(480, 10, 40, 2)], [(0, 10, 41, 2)], tempo=TempoMap(480), bars=1)
        parts = joined(piece, file, {0: "bass"}, bar=1).piece.parts
        self.assertEqual([row[2] for row in parts["bass"].notes.tolist()], [50, 40, 50])
        self.assertEqual(set(parts), {"bass"}, "what is left out is left out")

    def test_the_files_tempo_rules_as_far_as_it_goes(self):
        file = score([(0, 10, 60, 9)], tempo=TempoMap(480, ((0, 600_000), (1440, 400_000)), ((0, 3, 4),)), bars=2)
        one = joined(self.piece, file, {0: "new"}, bar=2, rules=FILES)
        self.assertEqual(
            one.piece.tempo.tempos, ((0, 500_000), (1920, 600_000), (3360, 400_000), (1920 + 2880, 500_000))
        )
        self.assertEqual(one.piece.tempo.meters, ((0, 4, 4), (1920, 3, 4), (4800, 4, 4)))
        self.assertIn("the file’s tempo rules, 100–150 BPM", one.remarks[0])

    def test_another_tempo_and_meter_are_told_where_the_sessions_rules(self):
        file = score([(0, 10, 60, 9)], tempo=TempoMap(480, ((0, 600_000),), ((0, 3, 4),)), bars=2)
        one = joined(self.piece, file, {0: "new"}, bar=1)
        self.assertEqual(one.piece.tempo, self.piece.tempo)
        self.assertEqual(
            one.remarks,
            (
                "The file goes at 100 BPM by itself; here it goes at the session’s 120.",
                "The file is in 3/4, the session in 4/4: its notes keep their beats.",
            ),
        )
        with self.assertRaisesMessage(BadBars, "A file can begin at bar 1 to 9,999, not at bar 0."):
            joined(self.piece, file, {0: "new"}, bar=0)
