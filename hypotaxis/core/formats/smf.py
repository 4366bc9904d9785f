"""Standard MIDI Files (RP-001), types 0 and 1: read into a Score and written back.

Reading keeps notes, channel messages, tempo and meter changes, markers and track names; a track with several channels
is split by channel. System exclusive messages are counted and left out, with a remark. Parsing of each track is
mido's; the frame of chunks is checked here first, so that a file that breaks off says where.
"""

import io
import struct
from collections import defaultdict, deque
from collections.abc import Callable, Iterable

import mido
import numpy as np
from mido.midifiles.meta import KeySignatureError

from hypotaxis.core.errors import UnreadableFile, UnsupportedScore
from hypotaxis.core.midi.messages import (
    CHANNEL_PRESSURE,
    CONTROL_CHANGE,
    DATA_BYTES,
    KEY_PRESSURE,
    PITCH_BEND,
    PROGRAM_CHANGE,
    RELEASED,
    status_of,
)
from hypotaxis.core.midi.programs import Program, change_messages, program_in_force
from hypotaxis.core.session.score import (
    BEGINS,
    BRIEF,
    CONTROL,
    CONTROLS,
    ENDS,
    NOTE,
    Score,
    ScorePart,
    called_by,
    no_controls,
)
from hypotaxis.core.session.tempo import DEFAULT_US_PER_QUARTER, TempoMap

LONGEST_DELTA = 0x0FFFFFFF
"""Ticks from an event to the next: four bytes of seven bits."""
MAX_EVENTS = 1_000_000
MAX_SECONDS = 4 * 3600
MAX_BYTES = 16 * 1024 * 1024
MOST_MARKERS, LONGEST_MARKER = 1000, 40

_STATUS = {
    "polytouch": (KEY_PRESSURE, "note", "value"),
    "control_change": (CONTROL_CHANGE, "control", "value"),
    "program_change": (PROGRAM_CHANGE, "program", None),
    "aftertouch": (CHANNEL_PRESSURE, "value", None),
}


def read_smf(data: bytes, *, progress: Callable[[float], None] | None = None) -> Score:
    """The score in the bytes of a MIDI file; progress is told the share that has been read after each track.

    Raises UnreadableFile for a file that is no MIDI file or breaks off, UnsupportedScore for type 2, SMPTE
    division, a tempo or division of zero, more than four hours or more than a million events.
    """
    tpq, chunks = chunks_of(data)
    tracks = []
    events = done = 0
    for number, chunk in enumerate(chunks, start=1):
        track = _parse_track(chunk, number, tpq)
        done += len(chunk)
        if progress:
            progress(done / len(data))
        events += len(track)
        if events > MAX_EVENTS:
            raise UnsupportedScore(f"The file has more than {MAX_EVENTS:,} events; that many cannot be played.")
        tracks.append(track)
    tempos, meters = {0: DEFAULT_US_PER_QUARTER}, {0: (4, 4)}
    markers: dict[int, str] = {}
    parts: list[ScorePart] = []
    end_tick = exclusive = 0
    for number, track in enumerate(tracks, start=1):
        length, left_out = _read_meta(track, number, tempos, meters, markers)
        end_tick, exclusive = max(end_tick, length), exclusive + left_out
        parts += _split_by_channel(track, number, length)
    tempo = TempoMap(
        tpq,
        tuple(sorted(tempos.items())),
        tuple((tick, *meter) for tick, meter in sorted(meters.items())),
    )
    check_length(tempo, end_tick)
    remarks = []
    if exclusive:
        remarks.append(f"{exclusive} system exclusive messages are not kept yet.")
    return Score(tempo, tuple(parts), end_tick, tuple(remarks), tuple(sorted(markers.items())))


def write_smf(score: Score) -> bytes:
    """A type 1 file: a conductor track with tempo, meter and markers, then one track a part."""
    file = mido.MidiFile(type=1, ticks_per_beat=score.tempo.ticks_per_quarter, charset="utf-8")
    conductor = [
        (tick, mido.MetaMessage("time_signature", numerator=numerator, denominator=denominator))
        for tick, numerator, denominator in score.tempo.meters
    ]
    conductor += [(tick, mido.MetaMessage("set_tempo", tempo=us)) for tick, us in score.tempo.tempos]
    conductor += [(tick, mido.MetaMessage("marker", text=name)) for tick, name in score.markers]
    file.tracks.append(_to_track(conductor, "", score.end_tick))
    for part in score.parts:
        file.tracks.append(_to_track(_part_messages(part), part.name, score.end_tick))
    stream = io.BytesIO()
    file.save(file=stream)
    return stream.getvalue()


def chunks_of(data: bytes) -> tuple[int, list[bytes]]:
    """(ticks a quarter, the bytes of each track), once the frame holds what it declares. Raises as `read_smf`."""
    if data[:4] != b"MThd":
        raise UnreadableFile("This is not a Standard MIDI File: it does not begin with MThd. Export it as .mid.")
    if len(data) > MAX_BYTES:
        raise UnsupportedScore(f"The file is larger than {MAX_BYTES // 2**20} MB; that is no score.")
    if len(data) < 14 or struct.unpack(">L", data[4:8])[0] < 6:
        raise UnreadableFile("The file breaks off in its header. Export it again.")
    header_length, kind, count, division = struct.unpack(">LHHH", data[4:14])
    if kind == 2:
        raise UnsupportedScore("This is a type 2 file (independent patterns). Export it as type 0 or 1.")
    if kind > 2:
        raise UnreadableFile(f"The file says it is of type {kind}; there are types 0, 1 and 2 only.")
    if division & 0x8000:
        raise UnsupportedScore("The file counts in SMPTE frames, not in beats. Export it with ticks a quarter.")
    if division == 0:
        raise UnsupportedScore("The file declares zero ticks a quarter, so it has no tempo. Export it again.")
    chunks = []
    at = 8 + header_length
    while len(chunks) < count and at < len(data):
        if at + 8 > len(data):
            raise UnreadableFile(f"The file breaks off after track {len(chunks)}, at byte {at}.")
        name, length = data[at : at + 4], struct.unpack(">L", data[at + 4 : at + 8])[0]
        if at + 8 + length > len(data):
            raise UnreadableFile(
                f"The file holds less than it declares: track {len(chunks) + 1} should have {length} bytes, "
                f"{len(data) - at - 8} are there. Copy or export it again."
            )
        if name == b"MTrk":
            if length > MAX_EVENTS * 16:
                raise UnsupportedScore(f"Track {len(chunks) + 1} is too large for a score.")
            chunks.append(data[at + 8 : at + 8 + length])
        at += 8 + length
    if len(chunks) < count:
        raise UnreadableFile(f"The file declares {count} tracks, {len(chunks)} are there. Copy or export it again.")
    if not chunks:
        raise UnreadableFile("The file has no tracks.")
    return division, chunks


def _parse_track(chunk: bytes, number: int, tpq: int) -> mido.MidiTrack:
    framed = b"MThd" + struct.pack(">LHHH", 6, 0, 1, tpq) + b"MTrk" + struct.pack(">L", len(chunk)) + chunk
    try:
        return mido.MidiFile(file=io.BytesIO(framed)).tracks[0]
    except (OSError, EOFError, ValueError, IndexError, LookupError, TypeError, KeySignatureError) as error:
        reason = str(error) or "it breaks off"
        raise UnreadableFile(f"Track {number} cannot be read: {reason}. Export the file again.") from error


def _read_meta(track: mido.MidiTrack, number: int, tempos: dict, meters: dict, markers: dict) -> tuple[int, int]:
    """Adds the track's tempo and meter changes and its markers; returns (length in ticks, number of SysEx
    messages)."""
    tick = exclusive = 0
    for message in track:
        if message.time > LONGEST_DELTA:
            raise UnreadableFile(
                f"Track {number} holds a wait of {message.time} ticks, which no such file can: at most "
                f"{LONGEST_DELTA:,} (Standard MIDI Files 1.0). It is damaged; export it again."
            )
        tick += message.time
        if message.type == "set_tempo":
            if message.tempo == 0:
                raise UnsupportedScore(f"Track {number} sets a tempo of zero at tick {tick}. Remove that event.")
            tempos[tick] = message.tempo
        elif message.type == "time_signature":
            if message.numerator == 0:
                raise UnsupportedScore(f"Track {number} sets a meter of 0/{message.denominator} at tick {tick}.")
            meters[tick] = (message.numerator, message.denominator)
        elif message.type == "marker" and len(markers) < MOST_MARKERS and (name := _as_text(message.text)):
            markers.setdefault(tick, name[:LONGEST_MARKER])
        elif message.type == "sysex":
            exclusive += 1
    return tick, exclusive


def check_length(tempo: TempoMap, end_tick: int) -> None:
    """Raises UnsupportedScore for a piece of more than four hours."""
    # In Python's integers: a hostile file may overflow the arrays.
    total, ends = 0, [tick for tick, _ in tempo.tempos[1:]] + [end_tick]
    for (tick, us), end in zip(tempo.tempos, ends, strict=True):
        total += max(0, end - tick) * us
    seconds = total / tempo.ticks_per_quarter / 1e6
    if seconds > MAX_SECONDS:
        raise UnsupportedScore(
            f"The piece lasts {seconds / 3600:.1f} hours; up to 4 can be used. A stray event far behind the end is "
            "the usual cause."
        )


def _split_by_channel(track: mido.MidiTrack, number: int, length: int) -> list[ScorePart]:
    notes: dict[int, list] = defaultdict(list)
    controls: dict[int, list] = defaultdict(list)
    sounding: dict[tuple[int, int], deque] = defaultdict(deque)
    name, tick = "", 0
    for message in track:
        tick += message.time
        kind = message.type
        if kind == "note_on" and message.velocity > 0:
            entry = [tick, None, message.note, message.velocity]
            notes[message.channel].append(entry)
            sounding[message.channel, message.note].append(entry)
        elif kind in ("note_on", "note_off"):
            waiting = sounding[message.channel, message.note]
            if waiting:
                entry = waiting.popleft()
                entry[1] = tick - entry[0]
        elif kind in _STATUS:
            status, first, second = _STATUS[kind]
            row = (tick, status, getattr(message, first), getattr(message, second) if second else 0)
            controls[message.channel].append(row)
        elif kind == "pitchwheel":
            bend = message.pitch + 8192
            controls[message.channel].append((tick, PITCH_BEND, bend & 0x7F, bend >> 7))
        elif kind == "track_name" and not name:
            name = _as_text(message.name)
    parts = []
    for channel in sorted(notes):
        rows = [(tick, length - tick if span is None else span, *rest) for tick, span, *rest in notes[channel]]
        array = np.array(rows, dtype=NOTE)
        array = array[np.argsort(array, order=("tick", "note"), kind="stable")]
        sound, kept = _first_sound(controls[channel], int(array["tick"][0]))
        title = name or f"Track {number}"
        if len(notes) > 1:
            title = f"{title}, channel {channel + 1}"
        part = ScorePart(title[:80], channel + 1, array, kept, track=number)
        parts.append(called_by(part, sound) if sound else part)
    return parts


def _as_text(name: str) -> str:
    """Names are bytes without a declared encoding: UTF-8 where they are valid, otherwise Latin-1."""
    raw = name.encode("latin-1")
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError:
        text = name
    return "".join(char for char in text if char.isprintable()).strip()


def _first_sound(rows: list, first_note: int) -> tuple[Program | None, np.ndarray]:
    """The sound in force at the first note, its messages and those it outdates taken out of the controls, and the rest
    of them."""
    before = [row[1:] for row in rows if row[0] <= first_note]
    sound, settled = program_in_force(before)
    kept = [row for place, row in enumerate(rows) if place not in settled]
    return sound, np.array(kept, dtype=CONTROL) if kept else no_controls()


def _part_messages(part: ScorePart) -> list[tuple[int, mido.Message]]:
    channel = part.channel - 1
    rows: list[tuple[int, int, mido.Message]] = []
    if part.sound is not None:
        rows += [(0, CONTROLS, mido.Message.from_bytes(call)) for call in change_messages(part.channel, part.sound)]
    for tick, status, data1, data2 in part.controls.tolist():
        data = [status_of(status, part.channel), data1, data2][: 1 + DATA_BYTES[status]]
        rows.append((tick, CONTROLS, mido.Message.from_bytes(data)))
    for tick, duration, note, velocity in part.notes.tolist():
        on = mido.Message("note_on", channel=channel, note=note, velocity=velocity)
        off = mido.Message("note_off", channel=channel, note=note, velocity=RELEASED)
        rows.append((tick, BEGINS if duration else BRIEF, on))
        rows.append((tick + duration, ENDS if duration else BRIEF, off))
    rows.sort(key=lambda row: row[:2])
    return [(tick, message) for tick, _, message in rows]


def _to_track(timed: Iterable[tuple[int, mido.Message]], name: str, end_tick: int) -> mido.MidiTrack:
    track = mido.MidiTrack()
    if name:
        track.append(mido.MetaMessage("track_name", name=name))
    now = 0
    for tick, message in sorted(timed, key=lambda pair: pair[0]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, end_tick - now)))
    return track
