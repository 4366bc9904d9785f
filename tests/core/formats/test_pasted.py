# ruff: noqa: E501
"""Text from manuals: layouts as they come out of a PDF, a web page or a scan, all invented for these tests."""

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.pasted import read_pasted
from hypotaxis.core.patches.numbers import FORMS

N = "\n"
LIST = ("Salt Pan", "Low Reed 2", "7 Tides", "5th Gull", "Mud Bass")


def numbered(form: str, count: int, sep: str = " ") -> str:
    return N.join(f"{FORMS[form].show(n)}{sep}Sound {chr(65 + n % 26)}{n // 26}" for n in range(count))


# name → (text, form, [(number, program, name) …] of the first patches, how many in all)
LAYOUTS = {
    "plain": (N.join(f"{n} {name}" for n, name in enumerate(LIST, 1)), "1", [("1", 0, "Salt Pan"), ("2", 1, "Low Reed 2")], 5),
    "from zero": (N.join(f"{n} {name}" for n, name in enumerate(LIST)), "0", [("0", 0, "Salt Pan"), ("1", 1, "Low Reed 2")], 5),
    "dots after": ("1. Salt Pan\n2. 7 Tides\n3. Mud\n", "1", [("1", 0, "Salt Pan"), ("2", 1, "7 Tides")], 3),
    "brackets": ("1) Salt Pan\n2) Mud\n3) Gull", "1", [("1", 0, "Salt Pan")], 3),
    "colons": ("000: Init\n001: Mud\n002: Gull", "000", [("000", 0, "Init"), ("001", 1, "Mud")], 3),
    "dashes": ("01 - Salt Pan\n02 - Mud\n03 - Gull", "1", [("01", 0, "Salt Pan")], 3),
    "padded": (numbered("001", 128), "001", [("001", 0, "Sound A0"), ("002", 1, "Sound B0")], 128),
    "leaders": ("1 Salt Pan ..........\n2 Mud ........\n3 Gull .....", "1", [("1", 0, "Salt Pan")], 3),
    "number last": ("Salt Pan ...... 001\nLow Reed 2 .... 002\nMud ... 003", "001", [("001", 0, "Salt Pan"), ("002", 1, "Low Reed 2")], 3),
    "tabs": ("1\tSalt Pan\n2\tLow Reed 2\n3\tMud", "1", [("1", 0, "Salt Pan"), ("2", 1, "Low Reed 2")], 3),
    "columns by gaps": ("1 A 1   5 E 1\n2 B 2   6 F 2\n3 C 3   7 G 3\n4 D 4   8 H 4", "1", [("1", 0, "A 1"), ("2", 1, "B 2")], 8),
    "columns by one space": ("1 Reed 1 17 Mud 1 33 Pan\n2 Reed 2 18 Mud 2 34 Tide\n3 Reed 3 19 Mud 3 35 Gull\n4 Reed 4 20 Mud 4 36 Eel", "1", [("1", 0, "Reed 1"), ("2", 1, "Reed 2")], 12),
    "bars between": ("| 1 | Salt Pan |\n| 2 | Mud |\n| 3 | Gull |", "1", [("1", 0, "Salt Pan")], 3),
    "lines of their own": ("1\nSalt Pan\n2\nMud\n3\nGull\n", "1", [("1", 0, "Salt Pan"), ("2", 1, "Mud")], 3),
    "eight by eight in digits": (numbered("11", 64), "11", [("11", 0, "Sound A0"), ("12", 1, "Sound B0")], 64),
    "eight by eight with a dash": ("1-1 Pan\n1-2 Mud\n1-3 Eel\n1-4 Gull\n1-5 a\n1-6 b\n1-7 c\n1-8 d\n2-1 e\n2-2 f", "11", [("1-1", 0, "Pan")], 10),
    "letters by eight": (numbered("A1", 128), "A1", [("A1", 0, "Sound A0"), ("A2", 1, "Sound B0")], 128),
    "letter and eight by eight": (numbered("A11", 128), "A11", [("A11", 0, "Sound A0")], 128),
    "letter and two digits": (numbered("A01/64", 128), "A01/64", [("A01", 0, "Sound A0")], 128),
    "letter, dash, two digits": ("A-01 Pan\nA-02 Mud\nA-09 Eel\nA-10 Gull\nB-01 Tern", "A01/64", [("A-01", 0, "Pan")], 5),
    "letter and three digits": (numbered("A001", 256), "A001", [("A001", 0, "Sound A0")], 256),
    "banks by name": ("Preset A\n1 Pan\n2 Mud\nPreset B\n1 Eel\n2 Gull", "1", [("1", 0, "Pan"), ("2", 1, "Mud"), ("1", 0, "Eel")], 4),
    "banks with numbers": ("BANK 1 (MSB 81, LSB 0)\n1 Pan\n2 Mud\nBANK 2 (MSB 81, LSB 1)\n1 Eel\n2 Gull", "1", [("1", 0, "Pan")], 4),
    "banks by controllers": ("Strings bank: CC0 = 87, CC32 = 64\n1 Pan\n2 Mud\n3 Eel", "1", [("1", 0, "Pan")], 3),
    "categories": ("PIANO\n1 Pan\n2 Mud\nSTRINGS:\n3 Eel\n4 Gull", "1", [("1", 0, "Pan")], 4),
    "page rubbish": ("Owner's Manual\nSound List\n\n1 Pan\n2 Mud\n\n- 41 -\nOwner's Manual\nwww.example.invalid\n3 Eel\n4 Gull\nPage 42\nOwner's Manual\n5 Tern", "1", [("1", 0, "Pan")], 5),
    "a table with a head": ("No.  Name  MSB  LSB  PC\n1  Salt Pan  0  112  1\n2  7 Tides  0  112  2\n3  Kit 2  127  0  1", "1", [("1", 0, "Salt Pan"), ("2", 1, "7 Tides"), ("3", 0, "Kit 2")], 3),
    "a table, name last": ("MSB LSB Prog Name\n0 1 0 Pan\n0 1 1 Mud 2\n0 2 0 Eel", "0", [("0", 0, "Pan"), ("1", 1, "Mud 2")], 3),
    "windows line ends and a mark": ("\ufeff1 Pan\r\n2 Mud\r\n3 Eel\r\n", "1", [("1", 0, "Pan")], 3),
    "one letter before all": ("P1 Pan\nP2 Mud\nP9 Eel\nP10 Gull\nP11 Tern", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 5),
    "slashes after": ("1/ Pan\n2/ Mud\n3/ Eel", "1", [("1", 0, "Pan")], 3),
    "commas between": ("1. Pan, 2. Mud, 3. Eel\n4. Gull, 5. Tern", "1", [("1", 0, "Pan"), ("2", 1, "Mud"), ("3", 2, "Eel")], 5),
    "bank and program joined": ("000-112-001 Pan\n000-112-002 Mud 2\n000-113-001 Eel", "1", [("001", 0, "Pan"), ("002", 1, "Mud 2"), ("001", 0, "Eel")], 3),
    "name, then bank and program": ("Pan (81/2/0)\nMud 2 (81/2/1)\nEel (81/3/0)", "0", [("0", 0, "Pan"), ("1", 1, "Mud 2")], 3),
    "a letter apart": ("A 1 Pan\nA 2 Mud\nA 8 Eel\nB 1 Gull\nB 2 Tern", "A1", [("A1", 0, "Pan"), ("A2", 1, "Mud")], 5),
    "a category behind a gap": ("1 Salt Pan   Pad\n2 Mud        Bass\n3 Gull 5th   Lead", "1", [("1", 0, "Salt Pan"), ("3", 2, "Gull 5th")][:1], 3),
    "numbers in brackets behind": ("Pan (1)\nMud (2)\nEel (3)", "1", [("1", 0, "Pan")], 3),
    "a frame of signs": ("+----+------+\n| 1 | Pan |\n+----+------+\n| 2 | Mud |\n+----+------+", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 2),
    "from a web page": ("1 Salt &amp; Pan\n2 Mud&nbsp;2\n3 Eel", "1", [("1", 0, "Salt & Pan"), ("2", 1, "Mud 2")], 3),
    "footnotes": ("1 Pan*\n2 Mud†\n3 Eel", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 3),
    "a word before the number": ("Prog 1: Pan\nProg 2: Mud\nProg 3: Eel", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 3),
    "the bank's word before the number": ("INT-A11 Pan\nINT-A12 Mud\nCRD-A11 Eel\nCRD-A12 Gull", "A11", [("A11", 0, "Pan"), ("A12", 1, "Mud"), ("A11", 0, "Eel")], 4),
    "a letter that is the bank": ("U001 Pan\nU002 Mud\nP001 Eel\nP002 Gull", "A001", [("U001", 0, "Pan"), ("U002", 1, "Mud"), ("P001", 0, "Eel")], 4),
    "names in quotes": ('1 "Pan"\n2 “Mud 2”\n3 "Eel"', "1", [("1", 0, "Pan"), ("2", 1, "Mud 2")], 3),
    "heads and categories by tabs": ("No.\tName\tCategory\n1\tPan\tPad\n2\tMud\tBass\n3\tEel\tLead", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 3),
    "continued overleaf": ("1 Pan\n2 Mud\n(continued on next page)\n12\n3 Eel\n4 Gull", "1", [("1", 0, "Pan")], 4),
    "the bank before each number": ("Bank 1 / 001 Pan\nBank 1 / 002 Mud\nBank 3 / 017 Eel\nBank 3 / 018 Gull", "001", [("001", 0, "Pan"), ("002", 1, "Mud"), ("017", 16, "Eel")], 4),
    "hexadecimal, marked": ("0Ah Pan\n0Bh Mud\n10h Eel\n11h Gull", "00h", [("0Ah", 10, "Pan"), ("0Bh", 11, "Mud"), ("10h", 16, "Eel")], 4),
    "hexadecimal, marked in front": ("0x0A Pan\n0x0B Mud\n0x0C Eel", "00h", [("0x0A", 10, "Pan")], 3),
    "hexadecimal, said by a heading": ("Programs (hex)\n10 Pan\n11 Mud\n12 Eel", "00h", [("10", 16, "Pan")], 3),
    "hexadecimal, said by the range": ("Voices 00-7F\n10 Pan\n11 Mud\n12 Eel", "00h", [("10", 16, "Pan")], 3),
    "hexadecimal, shown by letters": (N.join(f"{n:02X} Sound {n}" for n in range(20)), "00h", [("00", 0, "Sound 0")], 20),
    "hexadecimal, said by a head, with gaps": ("PC# (HEX)\tNAME\n00\tPan\n01\tMud\n0A\tEel", "00h", [("00", 0, "Pan"), ("01", 1, "Mud"), ("0A", 10, "Eel")], 3),
    "the word program before the number": ("Program 1 - Pan\nProgram 2 - Mud", "1", [("1", 0, "Pan"), ("2", 1, "Mud")], 2),
    "a French number sign": ("n° 1 : Pan\nn° 2 : Mud\nN°3 Eel", "1", [("1", 0, "Pan"), ("2", 1, "Mud"), ("3", 2, "Eel")], 3),
    "list markers and bold names": ("- 001 **Pan**\n- 002 **7 Tides**\n* 003 __Eel__", "001", [("001", 0, "Pan"), ("002", 1, "7 Tides")], 3),
    "bold numbers": ("**1** Pan\n**2** *Mud*\n<li><b>3</b> Eel</li>", "1", [("1", 0, "Pan"), ("2", 1, "Mud"), ("3", 2, "Eel")], 3),
    "a column of numbers, a column of names": ("No.\n1\n2\n3\n4\nName\nPan\n7 Tides\nMud\nGull", "1", [("1", 0, "Pan"), ("2", 1, "7 Tides"), ("3", 2, "Mud")], 4),
    "such columns on two pages": ("001\n002\n003\nPan\nMud\nEel\n- 41 -\n004\n005\n006\nGull\nTern\nReed", "001", [("001", 0, "Pan")], 6),
    "heads in German": ("Nr.\tKlang\tKategorie\n1\tPan\tPad\n2\tMud\tBass", "1", [("1", 0, "Pan")], 2),
    "heads in French": ("Numéro  Nom  MSB  LSB  Programme\n1  Pan  81  0  1\n2  Mud  81  0  2", "1", [("1", 0, "Pan")], 2),
    "heads in Spanish": ("Programa  Nombre  Banco MSB  Banco LSB\n1  Pan  81  0\n2  Mud  81  0", "1", [("1", 0, "Pan")], 2),
    "heads in Italian": ("MSB\tLSB\tProgramma\tNome\n81\t0\t0\tPan\n81\t0\t1\tMud", "0", [("0", 0, "Pan")], 2),
    "heads in Japanese": ("番号\t音色名\tMSB\tLSB\tプログラムナンバー\n1\tシオ\t81\t0\t1\n2\tドロ\t81\t0\t2", "1", [("1", 0, "シオ")], 2),
    "a table in hexadecimal": ("MSB  LSB  PC  Name\n00h  51h  00h  Pan\n00h  51h  0Ah  Mud", "0", [("00h", 0, "Pan"), ("0Ah", 10, "Mud")], 2),
    "ornaments": ("• 1 Pan\n• 2 Mud\n▪ 3 Eel", "1", [("1", 0, "Pan")], 3),
}  # fmt: skip


class PastedTest(SimpleTestCase):
    def test_every_layout_is_recognised(self):
        self.assertGreaterEqual(len(LAYOUTS), 28)
        for name, (text, form, first, many) in LAYOUTS.items():
            with self.subTest(name):
                found = read_pasted(text)
                rows = [(patch.number, patch.program, patch.name) for patch in found.patches.patches]
                self.assertEqual(rows[: len(first)], first)
                self.assertEqual((found.form, len(rows)), (form, many))
                self.assertEqual([doubt for doubt in found.doubts if doubt.line], [])

    def test_banks_take_their_names_and_numbers_from_headings(self):
        banks = read_pasted(LAYOUTS["banks with numbers"][0]).patches.banks
        self.assertEqual([(bank.name, bank.msb, bank.lsb) for bank in banks], [("BANK 1", 81, 0), ("BANK 2", 81, 1)])
        (one,) = read_pasted(LAYOUTS["banks by controllers"][0]).patches.banks
        self.assertEqual((one.name, one.msb, one.lsb), ("Strings bank", 87, 64))
        for layout, names in {
            "the bank's word before the number": ["INT", "CRD"],
            "a letter that is the bank": ["Bank U", "Bank P"],
        }.items():
            self.assertEqual([bank.name for bank in read_pasted(LAYOUTS[layout][0]).patches.banks], names)
        bare = read_pasted("Bank Select MSB 87 LSB 64\n1 Pan\n2 Mud\nBank Select MSB 87 LSB 65\n3 Eel\n4 Gull").patches
        self.assertEqual([(bank.msb, bank.lsb) for bank in bare.banks], [(87, 64), (87, 65)])
        patches = read_pasted(LAYOUTS["a table with a head"][0]).patches
        self.assertEqual([(p.msb, p.lsb) for p in patches.patches], [(0, 112), (0, 112), (127, 0)])

    def test_a_bank_on_every_line_begins_a_bank(self):
        found = read_pasted(LAYOUTS["the bank before each number"][0]).patches
        self.assertEqual([bank.name for bank in found.banks], ["Bank 1", "Bank 3"])
        self.assertEqual([patch.bank for patch in found.patches], [0, 0, 1, 1])

    def test_the_number_of_a_controller_is_not_its_value(self):
        # Controllers 0 and 32 are bank select MSB and LSB (MIDI 1.0 Detailed Specification); all say MSB 81, LSB 2.
        for text in (
            "Bank Select: CC#0 = 81, CC#32 = 2",
            "Bank Select (CC#0/CC#32): 81/2",
            "Bank Select 0/32: 81/2",
            "Bank select MSB (CC 0) = 81, LSB (CC 32) = 2",
            "Control change 0 = 81 and 32 = 2",
            "Controller #0 (MSB) = 81, Controller #32 (LSB) = 2",
            "81 (CC0), 2 (CC32)",
            "Bank 3 (81 MSB, 2 LSB)",
            "MSB: 51h LSB: 02h",
            "MSB (hex) 51 LSB 02",
            "B0 00 51 B0 20 02",
            "MSB = 81\nLSB = 2",
            "MSB/LSB 81/2, PC 1-128",
        ):
            with self.subTest(text):
                found = read_pasted(f"{text}\n1 Pan\n2 Mud\n3 Eel")
                self.assertEqual({(p.msb, p.lsb) for p in found.patches.patches}, {(81, 2)})
                self.assertEqual(found.doubts, ())
                self.assertIn(text.split("\n")[-1], found.reasons[0])

    def test_bank_numbers_that_can_be_read_in_two_ways_are_told(self):
        cases = {
            "Strings 2 MSB 81 LSB 0": ((81, 0), "or is it MSB 2, LSB 81"),
            "Bank select 0, 32": ((None, None), "or the two controllers without their values"),
            "Bank Select 5": ((5, None), "or is it the LSB"),
            "Bank select 10369": ((81, 1), "taken as both in one number"),
            "MSB 200 LSB 1": ((None, 1), "MSB 200 is no bank number"),
        }
        for text, (numbers, reason) in cases.items():
            with self.subTest(text):
                found = read_pasted(f"{text}\n1 Pan\n2 Mud\n3 Eel")
                self.assertEqual((found.patches.banks[0].msb, found.patches.banks[0].lsb), numbers)
                self.assertEqual([(d.line, reason in d.reason) for d in found.doubts], [(1, True)])

    def test_what_a_page_leaves_at_the_ends_of_names_goes_and_is_told(self):
        cases = {
            "1 Pan ......... 23\n2 Mud ......... 23\n3 Eel ......... 24": "3 names were taken off, first on line 1: “Pan … 23”",
            "1 Pan …… 23\n2 Mud\n3 Eel": "1 name were taken off, first on line 1",
            "1 Pan ,.\n2 Mud,\n3 Eel": "2 names were taken off, first on line 1: “Pan ,.” became “Pan”",
            "1 Pan   7\n2 Mud   7\n3 Eel   8": "3 names were taken off",
            "1 Pan.\n2 Mud.\n3 Eel.\n4 Gull.": "4 names were taken off",
        }
        for text, told in cases.items():
            with self.subTest(text):
                found = read_pasted(text)
                self.assertEqual([p.name for p in found.patches.patches][:3], ["Pan", "Mud", "Eel"])
                self.assertIn(told.replace("1 name were", "1 name was"), found.doubts[0].reason)
        kept = read_pasted("1 Pan Str.\n2 Mud\n3 Eel 7\n4 Gull")
        self.assertEqual([p.name for p in kept.patches.patches], ["Pan Str.", "Mud", "Eel 7", "Gull"])
        self.assertEqual(kept.doubts, ())

    def test_columns_that_do_not_match_are_refused_with_their_lines(self):
        with self.assertRaisesRegex(UnreadableFile, r"Below 4 numbers \(from line 2\) stand only 3 names"):
            read_pasted("Sounds\n1\n2\n3\n4\nPan\nMud\nEel")

    def test_long_runs_of_spaces_cost_no_more_than_short_ones(self):
        text = "Pan" + " " * 200_000 + "x\n" + "\n".join(f"{n} Sound{' ' * 5000}{n}" for n in range(1, 60))
        self.assertEqual(len(read_pasted(text).patches.patches), 59)

    def test_categories_go_with_what_stands_below_them(self):
        found = read_pasted(LAYOUTS["categories"][0]).patches.patches
        self.assertEqual([patch.category for patch in found], ["PIANO", "PIANO", "STRINGS", "STRINGS"])

    def test_whatever_could_mean_something_else_is_told_with_its_line(self):
        cases = {
            (
                0,
                "numbers stand in 3 names",
            ): "1 Pan CC0=81 CC32=2 PC=1\n2 Mud CC0=81 CC32=2 PC=2\n3 Eel CC0=81 CC32=3 PC=1",
            (0, "Missing between others: 3"): "1 Pan\n2 Mud\n4 Eel\n5 Gull",
            (4, "Number 2 is there already"): "1 Pan\n2 Mud\n3 Eel\n2 Gull again\n4 Tern",
            (
                3,
                "neither a numbered sound nor a heading",
            ): "1 Pan\n2 Mud\nThis sentence comes from the page beside it, 12 of them.\n3 Eel",
            (2, "Its name is only a number"): "1 Pan\n2 808\n3 Eel",
            (0, "no bank numbers beside them"): "Bank A\n1 Pan\n2 Mud\nBank B\n1 Eel\n2 Gull",
            (3, "does it belong to the name above"): "1 Pan\n2 Very long name of\nA patch\n3 Eel",
            (
                4,
                "does not fit the columns",
            ): "Name MSB LSB PC\nPan 0 1 1\nMud 0 1 2\nsomething else altogether\nEel 0 1 3",
        }
        for (line, reason), text in cases.items():
            with self.subTest(reason):
                doubts = [(doubt.line, doubt.reason) for doubt in read_pasted(text).doubts]
                self.assertTrue([1 for at, why in doubts if at == line and reason in why], doubts)

    def test_the_form_can_be_said(self):
        text = "11 Pan\n12 Mud\n13 Eel"
        self.assertEqual([p.program for p in read_pasted(text, "11").patches.patches], [0, 1, 2])
        self.assertEqual([p.program for p in read_pasted(text, "1").patches.patches], [10, 11, 12])
        with self.assertRaisesRegex(UnreadableFile, "No number in this text reads as A1 to P8"):
            read_pasted(text, "A1")

    def test_a_text_without_numbers_that_count_on_is_refused(self):
        for text in ("A letter to a friend.\nNothing is numbered here.", "7 of 9\n", "12"):
            with self.assertRaisesRegex(UnreadableFile, "count on from each other"):
                read_pasted(text)

    @given(st.text(max_size=400))
    def test_any_text_is_read_or_refused(self, text):
        try:
            found = read_pasted(text)
        except UnreadableFile:
            return
        self.assertTrue(all(0 <= patch.program <= 127 for patch in found.patches.patches))

    @given(st.sampled_from(sorted(FORMS)), st.integers(12, 64), st.sampled_from([" ", "  ", "\t", ". ", ": "]))
    def test_any_form_is_told_from_the_others(self, key, count, sep):
        found = read_pasted(numbered(key, count, sep))
        self.assertEqual([patch.program for patch in found.patches.patches], list(range(count)))
