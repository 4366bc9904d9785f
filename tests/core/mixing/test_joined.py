"""What stands, joined: by value, sample by sample."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as some

from hypotaxis.core.mixing.figures import FigureReader
from hypotaxis.core.mixing.joined import Piece, joined
from hypotaxis.core.mixing.seams import Seam, fade_samples, find_seam, weights
from hypotaxis.core.session.standing import Offered, Stretch, choose, standing

RATE = 48_000


def steady(value: float):
    """A take that is this value everywhere."""
    return lambda first, last: np.full((last - first, 1), value)


def noise(seed: int, length: int = 40_000):
    sound = np.random.default_rng(seed).normal(0, 0.1, (length, 2))
    return lambda first, last: sound[first:last]


class SeamTest(SimpleTestCase):
    def test_it_stands_on_the_bar_line_where_that_is_free(self):
        self.assertEqual(find_seam(48_000, 24_000, [30_000, 60_000], RATE, lambda a, b: 0.0), Seam(48_000, clean=True))

    def test_beside_an_onset_it_is_as_near_as_fade_and_distance_allow(self):
        found = find_seam(48_000, 24_000, [48_000], RATE, lambda a, b: 0.0)
        # Half a fade of 10 ms and 3 ms more, on a grid of a ms: 8 ms is too near by nothing, 9 is free.
        self.assertTrue(found.clean)
        self.assertEqual(abs(found.place - 48_000), 9 * 48)

    def test_where_every_place_holds_an_onset_the_quietest_is_taken(self):
        struck = np.arange(20_000, 76_000, 480)
        found = find_seam(48_000, 12_000, struck, RATE, lambda a, b: abs((a + b) / 2 - 50_000))
        self.assertFalse(found.clean)
        self.assertLess(abs(found.place - 50_000), 48)

    def test_fades_keep_the_level_of_like_and_of_unlike_sounds(self):
        one, other = noise(1)(0, 480), noise(2)(0, 480)
        going, coming = weights(one, one)
        np.testing.assert_allclose(going + coming, 1.0)
        going, coming = weights(one, other)
        np.testing.assert_allclose(going**2 + coming**2, 1.0)
        self.assertEqual(fade_samples(RATE), 480)

    def test_silence_counts_as_like(self):
        going, coming = weights(np.zeros((480, 1)), np.zeros((480, 1)))
        np.testing.assert_allclose(going + coming, 1.0)


class JoinedTest(SimpleTestCase):
    def whole(self, pieces, first, last) -> np.ndarray:
        return np.concatenate(list(joined(pieces, first, last, RATE)))[:, 0]

    def test_each_take_stands_alone_outside_of_the_seam(self):
        pieces = [Piece(steady(0.5), 0, 100_000), Piece(steady(0.5), 100_000, 200_000, Seam(100_000, clean=True))]
        np.testing.assert_allclose(self.whole(pieces, 0, 200_000), 0.5, atol=1e-12)
        pieces = [Piece(steady(0.5), 0, 1000), Piece(steady(-0.25), 1000, 2000, Seam(1000, clean=True))]
        made = self.whole(pieces, -10, 2100)
        np.testing.assert_allclose(made[10 : 1010 - 240], 0.5)
        np.testing.assert_allclose(made[1010 + 240 : 2010], -0.25)
        np.testing.assert_allclose(np.concatenate([made[:10], made[2010:]]), 0.0)

    def test_bars_without_a_take_are_silent_and_others_begin_hard(self):
        pieces = [Piece(steady(0.5), 0, 1000), Piece(steady(0.25), 3000, 4000)]
        made = self.whole(pieces, 0, 4000)
        self.assertEqual(np.flatnonzero(made == 0).tolist(), list(range(1000, 3000)))

    @settings(max_examples=30, deadline=None)
    @given(some.integers(0, 3000), some.integers(1, 70_000))
    def test_blocks_make_no_difference(self, first, length):
        pieces = [Piece(noise(1, 90_000), 0, 9000), Piece(noise(2, 90_000), 9000, 80_000, Seam(9000, clean=True))]
        once = np.concatenate(list(joined(pieces, 0, 80_000, RATE)))
        part = np.concatenate(list(joined(pieces, first, first + length, RATE)))
        np.testing.assert_allclose(part, once[first : first + length], atol=1e-12)


class ChosenTest(SimpleTestCase):
    takes = (Offered("old", 1, 1, 16, True), Offered("new", 2, 1, 8, True), Offered("bad", 3, 1, 16, False))

    def stand(self, *chosen: Stretch) -> list[tuple[str, int, int]]:
        return [(one.uid, one.first_bar, one.last_bar) for one in standing(self.takes, chosen)]

    def test_what_was_chosen_stands_where_it_reaches(self):
        self.assertEqual(self.stand(), [("new", 1, 8), ("old", 9, 16)])
        self.assertEqual(
            self.stand(Stretch("old", 3, 4)), [("new", 1, 2), ("old", 3, 4), ("new", 5, 8), ("old", 9, 16)]
        )
        self.assertEqual(self.stand(Stretch("new", 7, 12)), [("new", 1, 8), ("old", 9, 16)], "as far as it reaches")
        self.assertEqual(self.stand(Stretch("bad", 1, 16)), [("bad", 1, 16)], "the person may want a doubtful one")
        self.assertEqual(self.stand(Stretch("gone", 1, 16)), self.stand())

    @settings(max_examples=60, deadline=None)
    @given(some.lists(some.tuples(some.sampled_from("ab"), some.integers(1, 9), some.integers(0, 5)), max_size=6))
    def test_choices_never_overlap_and_the_last_one_counts(self, drawn):
        chosen: tuple[Stretch, ...] = ()
        for uid, first, more in drawn:
            chosen = choose(chosen, uid, first, first + more)
        bars = [bar for one in chosen for bar in range(one.first_bar, one.last_bar + 1)]
        self.assertEqual(len(bars), len(set(bars)))
        wanted = {bar: uid for uid, first, more in drawn for bar in range(first, first + more + 1)}
        self.assertEqual({bar: one.uid for one in chosen for bar in range(one.first_bar, one.last_bar + 1)}, wanted)


class FiguresTest(SimpleTestCase):
    def test_clips_are_found_at_their_frames_whatever_the_blocks(self):
        sound = np.random.default_rng(1).normal(0, 0.05, (RATE, 2))
        sound[1_000:1_003, 0] = 1.0
        sound[30_000:30_010, 1] = -1.0
        sound[40_000:40_002, 0] = 1.0  # two are no clip
        found = set()
        for block in (48_000, 1_001, 7):
            reader = FigureReader(RATE, 2)
            for start in range(0, len(sound), block):
                reader.feed(sound[start : start + block])
            found.add(reader.found())
        (figures,) = found
        self.assertEqual((figures.clips, figures.clipped, figures.peak_db), ((1_000, 30_000), 2, 0.0))
