"""What a callback plays while its source goes on feeding it: two threads, nothing of one may trip the other."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.studio import RunSetup
from hypotaxis.devices.protocol import Feed, Piece
from hypotaxis.devices.run import Run

OUT, OTHER = "main: 1", "main: 2"


def piece(start: int, length: int, value: float, output: str = OUT) -> Piece:
    return Piece(output, start, np.full(length, value, np.float32))


class FedMeanwhile:
    """A piece at whose second reading, in the middle of a period, the other thread feeds what comes next."""

    def __init__(self, one: Piece, then) -> None:
        self.output, self.start, self._samples = one.output, one.start, one.samples
        self._readings = iter((None, then))

    @property
    def samples(self) -> np.ndarray:
        then = next(self._readings, None)
        if then:
            then()
        return self._samples


class PlayTest(SimpleTestCase):
    def setUp(self):
        self.going = Run(RunSetup(outputs=(OUT, OTHER), frames=1000), 48_000)

    def played(self, start: int, first: int = 0, output: str = OUT) -> list[float]:
        self.going.play(start, first, 10, lambda place: np.zeros(10, np.float32))
        return self.going.playing[output].tolist()

    def test_what_is_fed_in_the_middle_of_a_period_is_played_from_the_next_on(self):
        then = Feed(40, pieces=(piece(20, 20, 0.5), piece(0, 40, 0.25, OTHER)))
        read = FedMeanwhile(piece(0, 5, 0.125), lambda: self.going.feed(then))
        self.going.feed(Feed(20, pieces=(read, piece(5, 15, 0.75))))
        self.assertEqual(self.played(0), [0.125] * 5 + [0.75] * 5)
        self.assertEqual(self.played(20), [0.5] * 10)
        self.assertEqual(self.played(30, output=OTHER), [0.25] * 10)

    def test_pieces_follow_each_other_without_a_gap_and_are_let_go_when_they_are_over(self):
        for number in range(50):
            self.going.feed(Feed(10 * number + 10, pieces=(piece(10 * number, 10, number / 64),)))
            self.assertEqual(self.played(10 * number), [number / 64] * 10)
        self.assertLessEqual(len(self.going._pieces[OUT]), 2)
        self.assertEqual(self.played(500), [0.0] * 10)

    def test_a_period_that_begins_before_the_run_plays_from_its_first_frame(self):
        self.going.feed(Feed(20, pieces=(piece(0, 20, 0.5),)))
        self.assertEqual(self.played(0, first=6), [0.0] * 6 + [0.5] * 4)
