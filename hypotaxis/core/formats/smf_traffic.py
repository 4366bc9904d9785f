"""A Standard MIDI File as traffic for a wire: every channel and system exclusive message, byte for byte.

Unlike `smf`, which makes a score of notes, nothing is paired, moved or left out here; at one time messages keep the
order of the tracks and, within a track, of the file. Times are integers in 1/(24 · ticks a quarter) µs, so that clocks
fall on whole units, too.
"""

import numpy as np

from hypotaxis.core.errors import UnreadableFile, UnsupportedScore
from hypotaxis.core.formats.smf import MAX_EVENTS, check_length, chunks_of
from hypotaxis.core.midi.messages import DATA_BYTES, EXCLUSIVE, FIRST_STATUS, channel_of, kind_of
from hypotaxis.core.midi.wire import Traffic
from hypotaxis.core.session.tempo import DEFAULT_US_PER_QUARTER, TempoMap
from hypotaxis.core.units import CLOCKS_A_QUARTER

MAX_CLOCKS = 5_000_000
META, CONTINUED = 0xFF, 0xF7
SET_TEMPO = 0x51


def read_traffic(data: bytes, *, clock: bool = False) -> Traffic:
    """The messages of a MIDI file of type 0 or 1; parts are channels 1–16, 0 for system exclusive messages.

    clock: with 24 clocks a quarter from tick zero to the last message. Raises UnreadableFile for a file that is none or
    breaks off, UnsupportedScore for what cannot be timed (see `smf.read_smf`).
    """
    ticks_per_quarter, chunks = chunks_of(data)
    rows: list[tuple[int, int, int]] = []
    tempos = {0: DEFAULT_US_PER_QUARTER}
    for number, chunk in enumerate(chunks, start=1):
        _read_track(chunk, number, rows, tempos)
    table = np.array(rows, dtype=np.int64).reshape(-1, 3)
    ticks, statuses, sizes = table[np.argsort(table[:, 0], kind="stable")].T
    last = int(ticks[-1]) if len(ticks) else 0
    tempo = TempoMap(ticks_per_quarter, tuple(sorted(tempos.items())))
    check_length(tempo, last)
    clocks = np.zeros(0, dtype=np.int64)
    if clock and len(ticks):
        count = last * CLOCKS_A_QUARTER // ticks_per_quarter + 1
        if count > MAX_CLOCKS:
            raise UnsupportedScore(f"The file would need {count:,} clocks. Is its tempo right?")
        clocks = tempo.exact_us(np.arange(count) * ticks_per_quarter, CLOCKS_A_QUARTER)
    return Traffic(
        ready=tempo.exact_us(ticks * CLOCKS_A_QUARTER, CLOCKS_A_QUARTER),
        statuses=statuses,
        sizes=sizes,
        parts=np.where(statuses < EXCLUSIVE, channel_of(statuses), 0),
        clocks=clocks,
        per_us=ticks_per_quarter * CLOCKS_A_QUARTER,
    )


def _read_track(chunk: bytes, number: int, rows: list, tempos: dict[int, int]) -> None:
    at = tick = running = 0
    try:
        while at < len(chunk):
            delta, at = _length(chunk, at)
            tick += delta
            status = chunk[at]
            if status < FIRST_STATUS:
                if not running:
                    raise _wrong(number, at, f"a data byte {status:02X} stands where a message should begin")
                status = running
            else:
                at += 1
            if status < EXCLUSIVE:
                running = status
                count = DATA_BYTES[kind_of(status)]
                if at + count > len(chunk):
                    raise IndexError
                rows.append((tick, status, 1 + count))
                at += count
            elif status in (EXCLUSIVE, CONTINUED, META):
                kind = chunk[at] if status == META else 0
                size, at = _length(chunk, at + (status == META))
                if at + size > len(chunk):
                    raise IndexError
                if status == META and kind == SET_TEMPO:
                    tempos[tick] = _tempo(chunk[at : at + size], number, tick)
                elif status != META and (size or status == EXCLUSIVE):
                    rows.append((tick, status, size + (status == EXCLUSIVE)))
                at += size
            else:
                raise _wrong(number, at - 1, f"{status:02X} is no event of a file")
            if len(rows) > MAX_EVENTS:
                raise UnsupportedScore(f"The file has more than {MAX_EVENTS:,} events; that many cannot be played.")
    except IndexError as error:
        raise _wrong(number, len(chunk), "it breaks off") from error


def _length(chunk: bytes, at: int) -> tuple[int, int]:
    """(value, place behind it) of a variable-length quantity of at most four bytes (RP-001)."""
    value = 0
    for place in range(at, at + 4):
        value = value << 7 | chunk[place] & 0x7F
        if chunk[place] < FIRST_STATUS:
            return value, place + 1
    raise UnreadableFile(f"A length at byte {at} of a track has more than four bytes. Export the file again.")


def _tempo(value: bytes, number: int, tick: int) -> int:
    tempo = int.from_bytes(value, "big")
    if len(value) != 3 or not tempo:
        raise UnsupportedScore(f"Track {number} sets a tempo of zero at tick {tick}. Remove that event.")
    return tempo


def _wrong(number: int, at: int, reason: str) -> UnreadableFile:
    return UnreadableFile(f"Track {number} cannot be read: {reason}, at byte {at}. Export the file again.")
