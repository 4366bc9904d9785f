"""Readers take twice the steps for twice the file, not four times: counted as calls, over sizes that double.

What is read apart from the server has limits besides (core.formats.unknown); these hold where it reads by itself, too.
"""

import io
import struct
import sys
import tempfile
import zlib
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase
from PIL import Image

from hypotaxis.core.errors import HypotaxisError, UnreadableFile
from hypotaxis.core.formats.gridcsv import read_grid_table
from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.core.formats.picture import MAX_SIDE, pixels_of, small_picture
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.formats.smf_traffic import read_traffic
from hypotaxis.core.formats.unknown import seconds_of
from hypotaxis.core.midi.dumps import messages_in
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from tests.rooms import large_room

MOST = 2.4
"""Times the calls for twice the size: what is fixed makes it less than two, hashing and growing lists a little more."""


def calls(what: Callable[[], object]) -> int:
    """How many functions are called, ours and Python's."""
    count = 0

    def counted(frame, event, argument):
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(counted)
    try:
        what()
    except HypotaxisError:
        pass
    finally:
        sys.setprofile(None)
    return count


def score(count: int, *, ends: bool = True) -> bytes:
    """So many notes; without ends every one sounds on for ever."""
    rows = np.zeros(count, dtype=NOTE)
    rows["tick"], rows["duration"], rows["velocity"] = np.arange(count) * 60, 40, 90
    rows["note"] = 36 + np.arange(count) % 48
    data = write_smf(Score(TempoMap(), (ScorePart("Long", 1, rows, no_controls()),), count * 60))
    return data if ends else data.replace(b"\x80", b"\x90")


def document(count: int) -> bytes:
    """A name document with as many banks as patches."""
    patch = '<Patch Number="{1}" Name="Tide {0}" ProgramChange="{1}"/>'
    one = f'<PatchBank Name="B{{0}}"><PatchNameList>{patch}</PatchNameList></PatchBank>'
    banks = "".join(one.format(n, n % 128) for n in range(count))
    return (
        '<?xml version="1.0"?><MIDINameDocument><MasterDeviceNames><ChannelNameSet Name="A">'
        f"{banks}</ChannelNameSet></MasterDeviceNames></MIDINameDocument>"
    ).encode()


def table(count: int) -> bytes:
    """A patch table with a bank every 128 patches."""
    rows = (f"B{n // 128},{n % 128 + 1},{n // 128},0,{n % 128},Reed {n},Pad" for n in range(count))
    return "\n".join(["bank,number,msb,lsb,program (0-127),name,category", *rows]).encode()


def pasted(count: int) -> bytes:
    return "\n".join(f"{n % 128 + 1:03d} Reed {n}" for n in range(count)).encode()


def grid(count: int) -> bytes:
    return "\n".join(["voice,note,1,2", *(f"v{n},{n},x," for n in range(count))]).encode()


READ = {
    "score": (score, read_smf),
    "score whose notes never end": (lambda count: score(count, ends=False), read_smf),
    "traffic": (score, read_traffic),
    "table": (table, read_patch_file),
    "pasted": (pasted, lambda data: read_patch_file(data, pasted=True)),
    "name document": (document, read_patch_file),
    "dump": (lambda count: bytes.fromhex("f07d010203f7") * count, messages_in),
    "dump without an end": (lambda count: b"\xf0" * count, messages_in),
    "grid": (grid, read_grid_table),
}
"""What makes a file of a size, and what reads it."""


class GrowthTest(SimpleTestCase):
    def test_twice_the_file_takes_twice_the_steps(self):
        for name, (made, read) in READ.items():
            with self.subTest(name):
                files = [made(count) for count in (500, 1000, 2000)]
                steps = [calls(lambda data=data, read=read: read(data)) for data in files]
                for fewer, more in pairwise(steps):
                    self.assertLess(more / fewer, MOST, steps)

    def test_twice_the_rig_takes_twice_the_steps(self):
        texts = [write_rig_file(large_room(share)) for share in (0.1, 0.2, 0.4)]
        steps = [calls(lambda text=text: read_rig_file(text)) / len(text) for text in texts]
        self.assertLess(max(steps) / min(steps), 1.2, steps)


class PictureTest(SimpleTestCase):
    def test_how_large_a_picture_is_says_its_head(self):
        made = io.BytesIO()
        Image.new("L", (30, 20)).save(made, "PNG")
        plain = made.getvalue()
        self.assertEqual(pixels_of(plain), 600)
        self.assertEqual(Image.open(io.BytesIO(small_picture(plain))).size, (30, 20))
        for wide, high in ((1, 40_000_000), (40_000_000, 1), (MAX_SIDE + 1, 1), (8000, 8000)):
            head = plain[:16] + struct.pack(">II", wide, high) + plain[24:]
            # The checksum of the changed head (PNG specification, 5.3).
            head = head[:29] + struct.pack(">I", zlib.crc32(head[12:29])) + head[33:]
            with self.assertRaisesRegex(UnreadableFile, f"has {wide:,} by {high:,} pixels"):
                pixels_of(head)


class CutTest(SimpleTestCase):
    def test_a_recording_cut_anywhere_in_its_head_is_refused_in_words(self):
        # RF64 with its ds64 chunk (EBU Tech 3306), two samples of sound.
        sizes = struct.pack("<QQQI", 72, 4, 2, 0)
        form = struct.pack("<HHIIHH", 1, 1, 48_000, 96_000, 2, 16)
        whole = b"RF64\xff\xff\xff\xffWAVEds64" + struct.pack("<I", len(sizes)) + sizes
        whole += b"fmt " + struct.pack("<I", len(form)) + form + b"data\xff\xff\xff\xff" + bytes(4)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "cut.wav"
            for length in (0, 3, 12, 15, 20, 27, 40, 47, 55, 70, len(whole) - 5):
                path.write_bytes(whole[:length])
                with self.assertRaises(UnreadableFile) as refused:
                    seconds_of(path)
                self.assertGreater(len(str(refused.exception)), 20)
