"""Where patterns stand after a wrap, worked out by hand: bars of the loop modulo the pattern's."""

import io
import json
from fractions import Fraction
from pathlib import Path
from tempfile import NamedTemporaryFile

from django.core.management import call_command
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as some

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.sync.misstep import missteps, told
from hypotaxis.demo.compose import tide_tables

FRACTIONS = some.fractions(Fraction(1, 16), 12, max_denominator=16)


def bars(**given) -> list[Fraction]:
    return [one.bars for one in missteps(**given)]


class MisstepTest(SimpleTestCase):
    def test_the_table_by_hand(self):
        for first, length, pattern, wrap, wanted in (
            (1, 6, 4, "nothing", [2, 0, 2, 0]),
            (1, 4, 3, "nothing", [1, 2, 0, 1]),
            (3, 6, 3, "nothing", [0, 0, 0, 0]),
            (1, 6, 4, "start", [0, 0, 0, 0]),
            (3, 6, 3, "start", [1, 1, 1, 1]),
            (3, 6, 4, "position", [0, 0, 0, 0]),
        ):
            with self.subTest(first=first, length=length, pattern=pattern, wrap=wrap):
                found = bars(loop_from=first, loop_bars=length, pattern_bars=pattern, times=4, wrap=wrap)
                self.assertEqual(found, wanted)

    def test_it_is_told_in_bars_sixteenths_and_ticks(self):
        one = missteps(loop_from=1, loop_bars=Fraction(7, 2), pattern_bars=2, times=1, wrap="nothing")[0]
        self.assertEqual((one.bars, one.sixteenths, one.ticks, told(one)), (Fraction(3, 2), 24, 144, "1 bar 8/16"))
        odd = missteps(loop_from=1, loop_bars=Fraction(1, 96), pattern_bars=1, times=1, wrap="nothing")[0]
        self.assertEqual(told(odd), "1 ticks")
        lost = missteps(loop_from=Fraction(97, 96), loop_bars=1, pattern_bars=1, times=2, wrap="position")
        self.assertEqual([one.ticks for one in lost], [1, 1])
        seven = missteps(loop_from=1, loop_bars=3, pattern_bars=2, times=1, wrap="nothing", meter=(7, 8))[0]
        self.assertEqual((seven.ticks, seven.sixteenths), (84, 14))

    @given(first=FRACTIONS.map(lambda one: one + 1), length=FRACTIONS, pattern=FRACTIONS, times=some.integers(1, 8))
    def test_with_nothing_sent_a_pattern_goes_on_by_its_own_length(self, first, length, pattern, times):
        known = {"loop_from": first, "loop_bars": length, "pattern_bars": pattern, "times": times}
        for one in missteps(**known, wrap="nothing"):
            self.assertTrue(0 <= one.bars < pattern)
            # Together they are whole patterns, or the whole way.
            self.assertEqual((one.wrap * length - one.bars) % pattern, 0)


def shell(*words: str) -> tuple[dict, int]:
    out, code = io.StringIO(), 0
    try:
        call_command(*words, "--json", stdout=out, stderr=io.StringIO())
    except SystemExit as ended:
        code = ended.code
    return json.loads(out.getvalue()), code


class ShellTest(SimpleTestCase):
    def test_missteps_from_the_shell(self):
        asked = ("misstep", "--loop-from", "1", "--loop-bars", "5/2", "--pattern-bars", "2", "--times", "2", "--wrap")
        found, code = shell(*asked, "nothing")
        self.assertEqual(code, 0)
        wanted = {"wrap": 1, "misstep_ticks": 48, "misstep_bars": 0.5, "misstep_sixteenths": 8.0, "in_step": False}
        self.assertEqual(found["rows"][0], wanted)
        self.assertEqual([row["misstep_ticks"] for row in found["rows"]], [48, 96])
        for change, reason in (
            (("--wrap", "stop"), "nothing, start or position"),
            (("--pattern-bars", "0"), "A pattern of 0 bars"),
            (("--loop-from", "half"), "write a number of bars"),
            (("--loop-bars", "1/0"), "write a number of bars"),
            (("--times", "0"), "0 wraps make no sense"),
            (("--meter", "4/5"), "A meter of 4/5"),
        ):
            refused, code = shell(*asked, "nothing", *change)
            self.assertEqual(code, 2)
            self.assertIn(reason, refused["error"])

    def test_clock_from_the_shell(self):
        with NamedTemporaryFile(suffix=".mid") as file:
            Path(file.name).write_bytes(write_smf(tide_tables()))
            found, code = shell(
                "clock", "--score", file.name, "--from", "2", "--bars", "1", "--loops", "2", "--wrap", "start"
            )
            self.assertEqual(code, 0)
            sent = found["events"]
            self.assertEqual([one["bytes"] for one in sent[:3]], ["f21000", "fb", "f8"])
            self.assertEqual((sent[2]["time_ns"], sent[2]["tick"], sent[0]["tick"]), (0, 96, None))
            self.assertEqual([one["tick"] for one in sent if one["bytes"] == "f8"], [*range(96, 192)] * 2)
            self.assertEqual(sent[-1]["bytes"], "fc")
            refused, code = shell("clock", "--score", file.name, "--from", "2", "--bars", "900")
            self.assertEqual(code, 2)
            self.assertIn("reach beyond it", refused["error"])
