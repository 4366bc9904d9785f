"""Hands or a box: told by how even it is. And which of several tracks what arrives is of."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.playing.evenness import evenness
from hypotaxis.core.playing.played_in import PlayedLine, parted
from hypotaxis.core.session.groove import groove_of
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.straighten import Straightening, straightened
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message

MS = 625.0
"""A quarter at 96 BPM."""


class EvennessTest(SimpleTestCase):
    def played(self, unsteady_ms: float, seed: int, *, division: float = 0.25, count: int = 48) -> np.ndarray:
        jitter = np.random.default_rng(seed).normal(7.0, unsteady_ms, count)
        return np.arange(count) * division + jitter / MS

    def test_a_box_by_our_clock_is_known_and_hands_are_not_taken_for_one(self):
        # A DIN wire and a USB frame make up to a ms of jitter; hands are unsteady by 5 to 20 ms, 2.5 is machine-like.
        boxes = [evenness(self.played(0.5, seed), MS) for seed in range(100)]
        self.assertEqual({one.division for one in boxes}, {"1/16"})
        np.testing.assert_allclose([one.late_ms for one in boxes], 7.0, atol=0.3)
        np.testing.assert_allclose([one.spread_ms for one in boxes], 0.5, atol=0.2)
        self.assertEqual([evenness(self.played(2.5, seed), MS) for seed in range(200)], [None] * 200)

    def test_the_division_is_the_one_it_steps_by(self):
        for quarters, told in (
            (1.0, "1/4"),
            (0.5, "1/8"),
            (1 / 3, "1/8 triplet"),
            (0.25, "1/16"),
            (1 / 6, "1/16 triplet"),
        ):
            with self.subTest(told):
                self.assertEqual(evenness(self.played(0.3, 1, division=quarters), MS).division, told)

    def test_chords_count_once_and_few_strokes_tell_nothing(self):
        twice = np.repeat(self.played(0.3, 3), 3) + np.tile([0, 0.001, 0.002], 48)
        self.assertEqual(evenness(twice, MS).strokes, 48)
        self.assertIsNone(evenness(self.played(0.1, 1, count=15), MS))
        self.assertIsNone(evenness(np.zeros(0), MS))


class PartedTest(SimpleTestCase):
    def test_each_message_goes_where_its_line_says(self):
        lines = (PlayedLine("tablet", 2, "kit"), PlayedLine("pads", 0, "kit"), PlayedLine("pads", 3, "bass"))
        rows = [("tablet", 0x90), ("tablet", 0x91), ("pads", 0x9F), ("pads", 0x92), ("keys", 0x91), ("tablet", 0xF0)]
        messages = [Message(number, port, bytes([status, 60, 1])) for number, (port, status) in enumerate(rows)]
        found = {owner: [one.time_ns for one in mine] for owner, mine in parted(messages, lines).items()}
        self.assertEqual(found, {"": [0, 4, 5], "kit": [1, 2, 3], "bass": [3]})


class GrooveTest(SimpleTestCase):
    tempo = TempoMap(480)

    def test_a_groove_is_measured_and_laid_on_another_part(self):
        # Every second sixteenth a fifth of it late, the fifth place a tenth early; two bars of it.
        late = [0, 24, 0, 24, -12, 24, 0, 24] * 2
        played = np.array([bar * 1920 + place * 120 + late[place] for bar in range(2) for place in range(16)])
        found = groove_of(played, self.tempo, division="1/16", step=120)
        np.testing.assert_allclose(found.shares, np.array(late) / 120, atol=1e-9)
        straight = np.array([(place * 120, 60, 60, 90) for place in range(16)], dtype=NOTE)
        moved = straightened(straight, self.tempo, Straightening(groove=found.shares))
        self.assertEqual(moved["tick"].tolist(), played[:16].tolist())

    def test_places_that_nothing_was_struck_near_stay_straight(self):
        found = groove_of(np.array([0, 490, 970, 1450]), self.tempo, division="1/16", step=120)
        self.assertEqual([round(share * 120) for share in found.shares], [0, 0, 0, 0, 10, 0, 0, 0, 10, 0, 0, 0, 10])
        self.assertIsNone(groove_of(np.array([0, 480, 960]), self.tempo, division="1/16", step=120))
