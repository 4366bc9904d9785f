"""Searching very many names, against a plain look through all of them."""

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.patches.search import NameIndex

LETTERS = st.text(alphabet="aAbB ÄäßŁ1-%_\\", max_size=8)


def plainly(sounds, words: str) -> list[int]:
    """What the index should find, looked for one by one."""
    sought = words.casefold().split()[:8]
    return [
        place
        for place, (name, category, number) in enumerate(sounds)
        if all(w in name.casefold() or w in category.casefold() or w == number.casefold() for w in sought)
    ]


class SearchTest(SimpleTestCase):
    @given(st.lists(st.tuples(LETTERS, LETTERS, LETTERS.map(str.strip)), max_size=12), LETTERS)
    def test_it_finds_what_a_look_through_all_finds(self, sounds, words):
        self.assertEqual(NameIndex(sounds).find(words).tolist(), plainly(sounds, words))

    def test_words_do_not_reach_over_the_end_of_a_name(self):
        index = NameIndex([("Salt", "Reed", "12"), ("Reed", "", "1")])
        self.assertEqual(
            [index.find(w).tolist() for w in ("saltreed", "reed", "1", "salt reed", "tide", "")],
            [[], [0, 1], [1], [0], [], [0, 1]],
        )
        self.assertEqual(NameIndex([]).find("x").tolist(), [])
