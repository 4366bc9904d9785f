"""Which tracks are ready to be handed over, and what mends them; and their picture."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.drawing.coverage import WIDTH, bar_ticks, coverage
from hypotaxis.core.session.readiness import LOOK, PLACE, RECORD, RETAKE, TrackState, readiness
from hypotaxis.core.session.standing import Stretch

WRITTEN = frozenset(range(1, 65))
READY = TrackState(WRITTEN, (Stretch("a", 1, 64),), takes=1)


class ReadinessTest(SimpleTestCase):
    def troubles(self, **changed) -> list[tuple[str, str, tuple[int, int]]]:
        return [(one.told, one.act, one.bars) for one in readiness(replace(READY, **changed)).trouble]

    def test_a_track_is_ready_when_all_its_bars_stand(self):
        self.assertTrue(readiness(READY).is_ready)
        late = replace(READY, written=frozenset(range(17, 65)), stretches=(Stretch("a", 17, 64),))
        self.assertEqual(readiness(late).told, ("no notes in 1–16",))
        self.assertEqual(readiness(replace(READY, borrowed="take 3")).told, ("stands by take 3",))
        self.assertTrue(readiness(TrackState(frozenset())).is_ready)

    def test_what_is_amiss_is_told_with_its_bars_and_what_mends_it(self):
        stands = (Stretch("a", 9, 40), Stretch("b", 49, 64))
        self.assertEqual(self.troubles(stretches=stands), [("bars 1–8 and 41–48 missing", RECORD, (1, 48))])
        self.assertEqual(self.troubles(clipped=frozenset({25})), [("clipped in bar 25", RETAKE, (25, 25))])
        self.assertEqual(self.troubles(stretches=(), takes=0), [("no take yet", RECORD, (1, 64))])
        self.assertEqual(self.troubles(stretches=(), unplaced=2), [("recorded, not placed (2)", PLACE, (0, 0))])
        self.assertEqual(self.troubles(measuring=True)[0][1], LOOK)
        self.assertEqual(self.troubles(doubts=("It sounds.",)), [("doubtful: It sounds.", LOOK, (0, 0))])
        both = self.troubles(stretches=(Stretch("a", 1, 60),), clipped=frozenset({2, 3}), apart=True)
        self.assertEqual([act for _, act, _ in both], [RECORD, RETAKE, LOOK])

    def test_the_picture_covers_every_bar_once(self):
        state = replace(READY, written=frozenset(range(5, 13)), stretches=(Stretch("a", 5, 8),))
        drawn = coverage(state, {5: -6.0, 6: -90.0}, 16)
        spans = sorted((box.x, box.w) for box in (*drawn.ground, *drawn.missing, *drawn.empty))
        self.assertEqual([x for x, _ in spans], [0.0, 76.0, 152.0, 228.0])
        self.assertEqual(sum(width for _, width in spans), WIDTH)
        self.assertEqual([(box.x, box.w) for box in drawn.missing], [(152.0, 76.0)])
        self.assertEqual(drawn.sound.count("M"), 4)
        self.assertEqual([bar for bar, _ in bar_ticks(64)], [1, 17, 33, 49, 64])
        self.assertEqual([bar for bar, _ in bar_ticks(1)], [1])
