"""Which of very many sounds hold all the words that were typed? In any order, whatever the case.

All names stand one behind the other as bytes, so that a word is looked for in all of them at once: 100,000 names are
searched in a few milliseconds. A word is in a name or a category, or is the whole number.
"""

from collections import defaultdict
from collections.abc import Iterable

import numpy as np

MOST_WORDS = 8
_APART = b"\x1f"


class NameIndex:
    """sounds: (name, category, number) each, in their order."""

    def __init__(self, sounds: Iterable[tuple[str, str, str]]) -> None:
        texts, self._numbered = [], defaultdict(list)
        for place, (name, category, number) in enumerate(sounds):
            texts.append(_APART.join((name.casefold().encode(), category.casefold().encode(), b"")))
            self._numbered[number.casefold()].append(place)
        self.count = len(texts)
        self._bytes = np.frombuffer(b"".join(texts), dtype=np.uint8)
        self._place_of = np.repeat(np.arange(len(texts), dtype=np.int32), [len(text) for text in texts])

    def find(self, words: str) -> np.ndarray:
        """Places of the sounds that hold every word, ascending; of no words all.

        >>> NameIndex([("Salt Reed", "Pad", "1"), ("Low Tide", "Bass", "2")]).find("TIDE").tolist()
        [1]
        """
        held = np.ones(self.count, dtype=bool)
        for word in words.casefold().split()[:MOST_WORDS]:
            held &= self._holding(word)
        return np.flatnonzero(held)

    def _holding(self, word: str) -> np.ndarray:
        """Whether each sound holds a word."""
        sought = word.encode()
        at = np.flatnonzero(self._bytes[: max(0, len(self._bytes) - len(sought) + 1)] == sought[0])
        for further, byte in enumerate(sought[1:], start=1):
            at = at[self._bytes[at + further] == byte]
        held = np.zeros(self.count, dtype=bool)
        held[self._place_of[at]] = True
        held[self._numbered.get(word, [])] = True
        return held
