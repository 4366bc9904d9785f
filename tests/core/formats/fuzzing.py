"""Files of this product and of others, changed at random: every reader answers, or refuses by name.

Each change is drawn from a number, so that what failed once is made again by it.
"""

import io
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from PIL import Image

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.formats.audio import check_audio
from hypotaxis.core.formats.gridcsv import read_grid_table, write_grid_table
from hypotaxis.core.formats.namedoc import write_name_document
from hypotaxis.core.formats.patchcsv import write_patch_table
from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.core.formats.picture import small_picture
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.formats.smf_traffic import read_traffic
from hypotaxis.core.formats.wave import read_broadcast
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step
from hypotaxis.core.midi.dumps import messages_in
from hypotaxis.core.patches.general_midi import general_midi
from hypotaxis.core.session.archived import read_session, write_session
from hypotaxis.core.session.score import CONTROL, NOTE, Score, ScorePart
from hypotaxis.core.session.tempo import TempoMap
from tests.core.session.test_archived import SESSION
from tests.rooms import small_room

ODD = (0, 1, 0x7F, 0x80, 0xFE, 0xFF)
PIECES = (
    *(b"9" * 5000, b"\xff" * 12, b"\x00" * 64, b"[" * 3000, b"\x8f" * 10),
    *(b'"\\ud800"', b"-1", b"1e999", b"NaN", b"null"),
)
"""What readers have stumbled over: numbers of thousands of digits, lengths without an end, depth, halves of characters,
what is no number."""
PASTED = """Bank A (MSB 81, LSB 3)
A11 Salt Pan ...... pad
A12 Low Reed 2 .... bass
A13 12 Tides ...... drum
- 41 -
MSB LSB \\ Name Category
81 4 1 Gull lead
81 4 2 Tern lead
"""


@dataclass(frozen=True)
class Reader:
    """A reader, and what it is given before it is changed."""

    name: str
    sample: bytes
    read: Callable[[bytes], object]


def readers() -> list[Reader]:
    """Every reader of files from outside."""
    score, names, table = write_smf(_score()), write_name_document(general_midi()), write_patch_table(general_midi())
    rig, session = write_rig_file(small_room()).encode(), write_session(SESSION).encode()
    return [
        Reader("score", score, read_smf),
        Reader("traffic", score, read_traffic),
        Reader("name document", names if isinstance(names, bytes) else names.encode(), read_patch_file),
        Reader("patch table", table if isinstance(table, bytes) else table.encode(), read_patch_file),
        Reader("pasted list", PASTED.encode() * 3, lambda data: read_patch_file(data, pasted=True)),
        Reader("rig", rig, lambda data: read_rig_file(data.decode("utf-8", "surrogateescape"))),
        Reader("session", session, lambda data: read_session(data.decode("utf-8", "surrogateescape"))),
        Reader("grid", write_grid_table(_grid(), {36: "Kick"}).encode(), read_grid_table),
        Reader("dump", bytes.fromhex("f07d010203f7") * 4, messages_in),
        Reader("sound", _sound(), _as_file(check_audio)),
        Reader("broadcast", _sound(), _as_file(read_broadcast)),
        Reader("picture", _picture(), small_picture),
    ]


def changed(rng: np.random.Generator, data: bytes) -> bytes:
    """One to four changes: bytes set, pieces taken out, doubled or put in, the end cut off, a number blown up."""
    made = bytearray(data)
    for _ in range(int(rng.integers(1, 5))):
        at, length = int(rng.integers(0, len(made) + 1)), int(rng.integers(1, 40))
        how = int(rng.integers(0, 7))
        if how == 0 and at < len(made):
            made[at] = int(rng.choice(ODD)) if rng.random() < 0.5 else int(rng.integers(0, 256))
        elif how == 1:
            del made[at : at + length]
        elif how == 2:
            made[at:at] = made[at : at + length]
        elif how == 3:
            made[at:at] = PIECES[int(rng.integers(len(PIECES)))]
        elif how == 4:
            del made[at:]
        elif how == 5:
            digits = [place for place, one in enumerate(made) if 0x30 <= one <= 0x39]
            if digits:
                place = digits[int(rng.integers(len(digits)))]
                made[place : place + 1] = PIECES[int(rng.integers(len(PIECES)))]
        else:
            made[at : at + 4] = int(rng.integers(0, 2**32)).to_bytes(4, "big")
    return bytes(made)


def attack(number: int, every: list[Reader]) -> str:
    """Let a reader read what the number says; "" where it answered or refused by name, otherwise what happened."""
    rng = np.random.default_rng(number)
    one = every[number % len(every)]
    try:
        one.read(changed(rng, one.sample))
    except HypotaxisError as error:
        return "" if str(error) else f"{one.name}, number {number}: refused without a word"
    except Exception as error:
        return f"{one.name}, number {number}: {type(error).__name__}: {str(error)[:200]}"
    return ""


def attacks(first: int = 0) -> Iterator[tuple[int, str]]:
    """Each number with what happened, without an end."""
    every, number = readers(), first
    while True:
        yield number, attack(number, every)
        number += 1


def _picture() -> bytes:
    made = io.BytesIO()
    Image.linear_gradient("L").resize((60, 40)).save(made, "PNG")
    return made.getvalue()


def _score() -> Score:
    notes = np.zeros(24, dtype=NOTE)
    notes["tick"], notes["duration"], notes["note"], notes["velocity"] = (
        np.arange(24) * 240,
        120,
        36 + np.arange(24),
        99,
    )
    controls = np.array([(0, 0xB0, 7, 100), (480, 0xE0, 0, 64)], dtype=CONTROL)
    tempo = TempoMap(480, ((0, 500_000), (1920, 400_000)), ((0, 4, 4), (1920, 3, 4)))
    return Score(tempo, (ScorePart("Reed", 1, notes, controls), ScorePart("Tide", 10, notes, controls[:0])), 7680)


def _grid() -> Grid:
    rows = (Row(36, 4, 16, (Step(0, velocity=100), Step(6, velocity=90, repeats=2))), Row(42, 3, 12, (Step(1),)))
    return Grid((Pattern("A", rows), Pattern("B", rows[:1])), ("A", "", "B"), ())


def _sound() -> bytes:
    made = io.BytesIO()
    soundfile.write(made, np.zeros((400, 2)), 48_000, format="WAV", subtype="PCM_24")
    return made.getvalue()


def _as_file(read: Callable[[Path], object]) -> Callable[[bytes], object]:
    def read_bytes(data: bytes) -> object:
        with tempfile.NamedTemporaryFile(suffix=".wav") as file:
            file.write(data)
            file.flush()
            return read(Path(file.name))

    return read_bytes
