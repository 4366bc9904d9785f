"""Names of files: safe everywhere, each once, in every script."""

import unicodedata

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import BadPattern
from hypotaxis.core.formats.filenames import WORDS, check_pattern, file_names, safe_name

# What file systems refuse: the naming rules for Windows, which hold elsewhere too, and POSIX's "/" and NUL.
REFUSED = set('<>:"/\\|?*') | {chr(code) for code in range(32)}
RESERVED = {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}


class NamesTest(SimpleTestCase):
    @given(
        st.lists(st.text(max_size=300), min_size=1, max_size=12), st.sampled_from(["{track}", "{session} {track}.x"])
    )
    def test_any_text_makes_names_that_every_file_system_takes_and_tells_apart(self, texts: list[str], pattern: str):
        names = file_names(pattern, [{"track": text, "session": text} for text in texts], ".wav")
        self.assertEqual(len({unicodedata.normalize("NFKC", name).casefold() for name in names}), len(texts))
        for name in names:
            self.assertFalse(REFUSED & set(name), name)
            self.assertLessEqual(len(name.encode()), 255)
            stem = name.removesuffix(".wav")
            self.assertEqual(stem.strip(" .-") and stem.strip(), stem)
            self.assertNotIn(stem.split(".")[0].casefold(), RESERVED)

    def test_letters_of_every_script_stay_and_what_is_hidden_goes(self):
        told = {
            "Übergang Łódź": "Übergang Łódź",
            "e\u0301tude": "étude",
            "水の音": "水の音",
            "a/b\\c:d": "a-b-c-d",
            "\u202egpj.exe\u200b": "gpj.exe",
            "NUL": "NUL_",
            "...": "untitled",
            "": "untitled",
            " \t\n ": "untitled",
        }
        self.assertEqual({text: safe_name(text) for text in told}, told)

    def test_a_pattern_says_what_is_wrong_with_it(self):
        self.assertEqual(check_pattern(" {number} {track} "), "{number} {track}")
        for pattern, told in (
            ("{tracks}", "“{tracks}” stands for nothing"),
            ("{track", "brace is open"),
            (" ", "empty"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(BadPattern, told):
                check_pattern(pattern)
        self.assertEqual(file_names("{number}", [{}] * 3, ".wav"), ["01.wav", "02.wav", "03.wav"])
        every = " ".join(f"{{{word}}}" for word in WORDS)
        self.assertEqual(file_names(every, [{word: word for word in WORDS}], "")[0], " ".join(WORDS))
