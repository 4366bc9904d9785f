# ruff: noqa: E501
"""Tables, program lists and name documents: exact round trips, and every bad line named.

Name documents: element names and structure as in the published DTD (MIDINameDocument 1.0, MIDI Manufacturers
Association), typed from memory into DTD below; ProgramList: MIDI-CI Property Exchange, from memory.
"""

import contextlib
import json
import re
import xml.etree.ElementTree as ET

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.namedoc import read_name_document, write_name_document
from hypotaxis.core.formats.patchcsv import read_patch_table, write_patch_table
from hypotaxis.core.formats.patchfile import read_patch_file, summary
from hypotaxis.core.formats.programlist import read_program_list, write_program_list
from hypotaxis.core.patches.general_midi import general_midi
from hypotaxis.core.patches.values import Bank, NoteMap, NoteName, Patch, PatchList

NAME = (
    st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Zl", "Zp")), min_size=1, max_size=30)
    .map(str.strip)
    .filter(bool)
)
SEVEN = st.integers(0, 127)
MAYBE = st.none() | SEVEN
OTHERS = st.lists(st.tuples(SEVEN.filter(lambda n: n not in (0, 32)), SEVEN), max_size=2).map(tuple)

# Which elements may stand in which, from the published DTD.
DTD = {
    "MIDINameDocument": {"Author", "MasterDeviceNames", "ExtendingDeviceNames"},
    "MasterDeviceNames": {"Author", "Manufacturer", "Model", "CustomDeviceMode", "ChannelNameSet", "PatchNameList", "NoteNameList", "ControlNameList"},
    "CustomDeviceMode": {"DeviceModeEnable", "DeviceModeDisable", "ChannelNameSetAssignments", "NameList"},
    "ChannelNameSetAssignments": {"ChannelNameSetAssign"},
    "ChannelNameSet": {"AvailableForChannels", "UsesControlNameList", "NoteNameList", "UsesNoteNameList", "PatchBank"},
    "AvailableForChannels": {"AvailableChannel"},
    "PatchBank": {"MIDICommands", "PatchNameList", "UsesPatchNameList"},
    "MIDICommands": {"ControlChange", "ProgramChange"},
    "PatchNameList": {"Patch"},
    "Patch": {"PatchMIDICommands", "ChannelNameSetAssignments", "NoteNameList", "UsesNoteNameList"},
    "PatchMIDICommands": {"ControlChange", "ProgramChange"},
    "NoteNameList": {"Note", "NoteGroup"},
}  # fmt: skip

DOCUMENT = """<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE MIDINameDocument PUBLIC "-//MIDI Manufacturers Association//DTD MIDINameDocument 1.0//EN" "http://www.midi.org/dtds/MIDINameDocument10.dtd">
<MIDINameDocument><Author>nobody</Author>
 <MasterDeviceNames><Manufacturer>Any</Manufacturer><Model>Marsh</Model>
  <ChannelNameSet Name="Names"><AvailableForChannels><AvailableChannel Channel="1" Available="true"/></AvailableForChannels>
   <PatchBank Name="Tidal"><MIDICommands><ControlChange Control="0" Value="81"/><ControlChange Control="32" Value="2"/></MIDICommands>
    <PatchNameList><Patch Number="A1" Name="Salt &amp; Pan" ProgramChange="0"/>
     <Patch Number="A2" Name="Mud"><PatchMIDICommands><ControlChange Control="32" Value="5"/><ProgramChange Number="7"/></PatchMIDICommands></Patch>
    </PatchNameList></PatchBank>
   <PatchBank Name="Shared"><UsesPatchNameList Name="Others"/></PatchBank>
  </ChannelNameSet>
  <PatchNameList Name="Others"><Patch Number="1" Name="Eel" ProgramChange="3"/></PatchNameList>
  <NoteNameList Name="Kit"><NoteGroup Name="Low"><Note Number="36" Name="Thud"/></NoteGroup><Note Number="38" Name="Slap"/></NoteNameList>
 </MasterDeviceNames></MIDINameDocument>"""


@st.composite
def lists(draw, categories=True, own_banks=True):
    banks = tuple(
        Bank(name=name, msb=draw(MAYBE), lsb=draw(MAYBE))
        for name in draw(st.lists(NAME, min_size=1, max_size=3, unique=True))
    )
    patches = []
    for place, bank in enumerate(banks):
        for _ in range(draw(st.integers(1, 3))):
            controls = draw(OTHERS)
            alone = (bank.msb, bank.lsb) != (None, None) or bool(controls)
            patches.append(
                Patch(
                    name=draw(NAME),
                    program=draw(MAYBE if alone else SEVEN),
                    controls=controls,
                    number=draw(st.sampled_from(["1", "A11", "007"])),
                    bank=place,
                    msb=bank.msb,
                    lsb=bank.lsb,
                    category=draw(NAME | st.just("")) if categories else "",
                )
            )
    return PatchList(name="", banks=banks, patches=tuple(patches))


class TableTest(SimpleTestCase):
    @given(lists())
    def test_what_was_written_is_read_exactly(self, wanted):
        for delimiter in ",;\t":
            self.assertEqual(read_patch_table(write_patch_table(wanted, delimiter).encode()).patches, wanted)

    def test_cells_that_a_spreadsheet_would_run_are_made_harmless(self):
        nasty = PatchList(name="", banks=(Bank(name="="),), patches=(Patch(name="=1+1", program=0, number="1"),))
        text = write_patch_table(nasty)
        self.assertIn("'=1+1", text)
        self.assertEqual(read_patch_table(text.encode()).patches.patches[0].name, "=1+1")

    def test_heads_in_any_words_and_order(self):
        tables = {
            "Patch Name;Bank MSB;Bank LSB;PC\nPan;81;2;1\nMud;81;2;2\n": [("Pan", 81, 2, 0), ("Mud", 81, 2, 1)],
            "PC,CC0,CC32,Name\n0,1,2,Pan\n127,1,3,Mud\n": [("Pan", 1, 2, 0), ("Mud", 1, 3, 127)],
            "Program (1-128)\tSound\n64\tPan\n": [("Pan", None, None, 63)],
            "No.,Sound Name,Category\n1,Pan,Pad\n2,Mud,Bass\n": [("Pan", None, None, 0), ("Mud", None, None, 1)],
            "1,Pan\r\n2,Mud\r\n": [("Pan", None, None, 0), ("Mud", None, None, 1)],
            "\ufeffnumber,name\n5,Pan\n128,Mud\n": [("Pan", None, None, 4), ("Mud", None, None, 127)],
        }
        for text, expected in tables.items():
            with self.subTest(text):
                found = read_patch_table(text.encode()).patches.patches
                self.assertEqual([(p.name, p.msb, p.lsb, p.program) for p in found], expected)
        for hexadecimal in ("MSB,LSB,PC,Name\n00h,51h,0Ah,Pan\n", "MSB (hex),LSB (hex),PC (hex),Name\n00,51,0A,Pan\n"):
            (one,) = read_patch_table(hexadecimal.encode()).patches.patches
            self.assertEqual((one.msb, one.lsb, one.program), (0, 81, 10))
        utf16 = "number,name\n1,Pän\n".encode("utf-16")
        self.assertEqual(read_patch_table(utf16).patches.patches[0].name, "Pän")

    def test_what_could_be_meant_otherwise_is_told(self):
        doubts = read_patch_table(b"program,name\n5,Pan\n6,Mud\n7,\n").doubts
        self.assertEqual([doubt.line for doubt in doubts], [0, 4])
        self.assertIn("counting from 0", doubts[0].reason)

    def test_every_bad_line_is_named_and_nothing_is_taken(self):
        with self.assertRaises(UnreadableFile) as caught:
            read_patch_table(b"msb,lsb,program,name\n0,0,0,Pan\n200,0,1,Mud\n0,x,2,Eel\n0,0,129,Gull\n0,0,z,Tern\n")
        for part in ("line 3: msb “200”", "line 4: lsb “x”", "line 5: program “129”", "line 6: program “z”"):
            self.assertIn(part, str(caught.exception))


class ProgramListTest(SimpleTestCase):
    def test_what_was_written_is_read_with_its_numbers(self):
        again = read_program_list(write_program_list(general_midi()).encode()).patches
        expected = [(p.name, 0, 0, p.program, p.category) for p in general_midi().patches]
        self.assertEqual([(p.name, p.msb, p.lsb, p.program, p.category) for p in again.patches], expected)

    def test_wrapped_lists_and_bad_entries(self):
        row = {"title": "Pan", "bankPC": [81, 2, 5], "category": ["Pad"], "tags": ["warm"]}
        (one,) = read_program_list(json.dumps({"ProgramList": [row]}).encode()).patches.patches
        self.assertEqual((one.msb, one.lsb, one.program, one.number, one.category), (81, 2, 5, "6", "Pad"))
        bad = [row, {"bankPC": [0, 0, 0]}, row | {"bankPC": [0, 0, 128]}, row | {"bankPC": [True, 0, 0]}, 7]
        with self.assertRaisesRegex(
            UnreadableFile, "entry 2: has no title; entry 3: bankPC .*; entry 4.*; entry 5: should be an object"
        ):
            read_program_list(json.dumps(bad).encode())


class NameDocumentTest(SimpleTestCase):
    def test_banks_commands_lists_by_name_and_notes(self):
        found = read_name_document(DOCUMENT.encode())
        self.assertEqual(found.patches.name, "Names")
        rows = [(p.number, p.name, p.msb, p.lsb, p.program) for p in found.patches.patches]
        self.assertEqual(rows, [("A1", "Salt & Pan", 81, 2, 0), ("A2", "Mud", 81, 5, 7), ("1", "Eel", None, None, 3)])
        self.assertEqual(found.patches.note_maps, (
            NoteMap(name="Kit", notes=(NoteName(note=36, name="Thud"), NoteName(note=38, name="Slap"))),
        ))  # fmt: skip

    @given(lists(categories=False))
    def test_what_was_written_is_read_exactly(self, wanted):
        again = read_name_document(write_name_document(wanted).encode()).patches
        self.assertEqual((again.banks, again.patches), (wanted.banks, wanted.patches))

    def test_what_is_written_keeps_to_the_published_structure(self):
        root = ET.fromstring(write_name_document(general_midi()))
        for parent in root.iter():
            allowed = DTD.get(parent.tag, set())
            self.assertLessEqual({child.tag for child in parent}, allowed, parent.tag)
        self.assertEqual(len(root.findall(".//Patch")), 128)
        self.assertEqual(
            read_name_document(write_name_document(general_midi()).encode()).patches.note_maps, general_midi().note_maps
        )

    def test_one_faulty_entry_costs_no_other(self):
        # Published documents hold such entries; each is named with its line, and the others are kept.
        faults = {
            '<Patch Number="9" Name="Low" ProgramChange="128"/>': ("“128” should be 0 to 127", None),
            '<Patch Number="9" Name="  " ProgramChange="1"/>': ("has no name", None),
            '<Patch Number="9" Name="Bare"/>': ("“Bare” has no program change and no controllers", None),
            '<Patch Name="Twice" ProgramChange="-1"><PatchMIDICommands><ProgramChange Number="9"/></PatchMIDICommands></Patch>': (
                "“-1”",
                Patch(name="Twice", program=9, msb=81, lsb=2),
            ),
            '<Patch Name="Pedal"><PatchMIDICommands><ControlChange Control="32" Value="7"/><ControlChange Control="70" Value="5"/></PatchMIDICommands></Patch>': (
                None,
                Patch(name="Pedal", program=None, msb=81, lsb=7, controls=((70, 5),)),
            ),
        }
        whole = read_name_document(DOCUMENT.encode()).patches.patches
        for entry, (reason, kept) in faults.items():
            with self.subTest(entry):
                found = read_name_document(
                    DOCUMENT.replace(
                        "    </PatchNameList></PatchBank>", f"{entry}\n    </PatchNameList></PatchBank>", 1
                    ).encode()
                )
                more = [one for one in found.patches.patches if one not in whole]
                self.assertEqual(more, [kept] if kept else [])
                self.assertEqual(len(found.patches.patches), len(whole) + len(more))
                told = [(doubt.line, doubt.reason) for doubt in found.doubts]
                self.assertEqual([line for line, _ in told], [9] if reason else [])
                self.assertIn(reason or "", told[0][1] if told else "")
        bank = read_name_document(DOCUMENT.replace('Value="81"', 'Value="300"').encode())
        self.assertEqual([(d.line, d.reason) for d in bank.doubts], [(6, "Value “300” should be 0 to 127; left out.")])
        self.assertEqual([(p.msb, p.lsb) for p in bank.patches.patches], [(None, 2), (None, 5), (None, None)])

    def test_hostile_and_damaged_documents_are_refused_with_their_line(self):
        bomb = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><MIDINameDocument>&b;</MIDINameDocument>'
        outside = '<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><MIDINameDocument>&a;</MIDINameDocument>'
        cases = {
            "defines entities or refers to something outside it": (bomb, outside),
            "Line 1 of the name document": ("<MIDINameDocument><A></MIDINameDocument>", "<<<"),
            "nested deeper than": ("<a>" * 60 + "</a>" * 60,),
            "is no MIDI name document: its root is html": ("<html/>",),
            "names no patches and no notes": ("<MIDINameDocument/>",),
            "line 2: patch “Pan” has no program change": (
                '<MIDINameDocument><PatchBank Name="x"><PatchNameList>\n<Patch Name="Pan"/></PatchNameList></PatchBank></MIDINameDocument>',
            ),
            "there is no PatchNameList “Gone”": (
                '<MIDINameDocument><PatchBank Name="x"><UsesPatchNameList Name="Gone"/></PatchBank></MIDINameDocument>',
            ),
        }  # fmt: skip
        for reason, documents in cases.items():
            for document in documents:
                with self.subTest(reason), self.assertRaisesRegex(UnreadableFile, re.escape(reason)):
                    read_name_document(document.encode())


class AnyFileTest(SimpleTestCase):
    def test_the_kind_is_told_by_what_is_in_it(self):
        files = {
            "name document": DOCUMENT.encode(),
            "table": b"number,name\n1,Pan\n",
            "program list": write_program_list(general_midi()).encode(),
        }
        for kind, data in files.items():
            self.assertEqual(read_patch_file(data)[0], kind)
        kind, found = read_patch_file(b"1 Pan\n2 Mud\n", pasted=True)
        told = summary(kind, found)
        self.assertEqual([row["program"] for row in told["patches"]], [0, 1])

    def test_wrong_encodings_and_empty_files(self):
        cases = {
            "Line 2 of the table is not UTF-8: byte E4": b"number,name\n1,P\xe4n\n\x01\x02\x03\x04",
            "Line 1 of the table is not UTF-8": "番号,音色名\n1,ピアノ\n2,オルガン\n".encode("shift_jis"),
            "Line 1 of the program list is not UTF-8": '[{"title": "Pän"}]'.encode("latin-1"),
            "The table is empty": b"  \n ",
            "zero bytes": b"1,Pan\x00\x01",
            "has a head and no patches": b"number,name\n",
            "read it as pasted": b"only words here\nand here\n",
            "is not JSON": b"[{]",
        }
        for reason, data in cases.items():
            with self.subTest(reason), self.assertRaisesRegex(UnreadableFile, reason):
                read_patch_file(data)

    def test_lists_in_western_code_pages_are_read_and_told(self):
        # Code pages as Python's own codecs have them (Unicode Consortium's mapping tables).
        words = ("Flöte", "Été grave", "Niño", "Größe", "Città", "Håndklang", "Ça va")
        rows = "".join(f"{number},{name}\n" for number, name in enumerate(words, start=1))
        for page in ("cp1252", "latin-1", "iso8859-15", "mac_roman", "cp850"):
            with self.subTest(page):
                found = read_patch_table(("number,name\n" + rows).encode(page))
                self.assertEqual(tuple(patch.name for patch in found.patches.patches), words)
                self.assertRegex(found.doubts[0].reason, "not in UTF-8; it was read as .*first on line 2: “1,Flöte”")
                pasted = read_patch_file(rows.replace(",", " ").encode(page), pasted=True)[1]
                self.assertEqual(pasted.patches.patches[1].name, "Été grave")

    @given(st.binary(max_size=200))
    def test_any_bytes_are_read_or_refused(self, data):
        for pasted in (False, True):
            with contextlib.suppress(UnreadableFile):
                read_patch_file(data, pasted=pasted)
