"""The bytes of messages: one table, used by all that reads or writes them.

Status bytes and lengths as in the MIDI 1.0 Detailed Specification (tables of channel, common and real-time messages).
A status without its channel is a *kind*; channels count from 1, notes, velocities and values are 0–127.
"""

NOTE_OFF, NOTE_ON, KEY_PRESSURE, CONTROL_CHANGE = 0x80, 0x90, 0xA0, 0xB0
PROGRAM_CHANGE, CHANNEL_PRESSURE, PITCH_BEND = 0xC0, 0xD0, 0xE0
DATA_BYTES = {
    NOTE_OFF: 2,
    NOTE_ON: 2,
    KEY_PRESSURE: 2,
    CONTROL_CHANGE: 2,
    PROGRAM_CHANGE: 1,
    CHANNEL_PRESSURE: 1,
    PITCH_BEND: 2,
}
"""Data bytes by kind."""
FIRST_STATUS = 0x80
"""Bytes below are data."""
EXCLUSIVE, EXCLUSIVE_END = 0xF0, 0xF7
"""From EXCLUSIVE on a status has no channel."""
QUARTER_FRAME, SONG_POSITION = 0xF1, 0xF2
"""Of time code, one data byte; of song position, two."""
CLOCK, START, CONTINUE, STOP = 0xF8, 0xFA, 0xFB, 0xFC
REAL_TIME = 0xF8
"""From here on single bytes that may stand between the others."""
SUSTAIN, ALL_SOUND_OFF, ALL_NOTES_OFF = 64, 120, 123
"""Controllers and channel modes that end what sounds."""
RELEASED = 64
"""Velocity of a note off of which nothing is known."""


def kind_of(status: int) -> int:
    """A channel message's status without its channel."""
    return status & 0xF0


def channel_of(status: int) -> int:
    """A channel message's channel."""
    return (status & 0x0F) + 1


def status_of(kind: int, channel: int) -> int:
    """A status with its channel.

    >>> hex(status_of(NOTE_ON, 3))
    '0x92'
    """
    return kind | channel - 1


def note_on(channel: int, note: int, velocity: int) -> bytes:
    """A key that is struck.

    >>> note_on(3, 60, 100).hex(" ")
    '92 3c 64'
    """
    return bytes([status_of(NOTE_ON, channel), note, velocity])


def note_off(channel: int, note: int) -> bytes:
    """A key that is let go."""
    return bytes([status_of(NOTE_OFF, channel), note, RELEASED])


def struck(data: bytes) -> int | None:
    """The note that a message strikes; None where it strikes none.

    >>> struck(note_on(3, 60, 100)), struck(note_on(3, 60, 0)), struck(note_off(3, 60))
    (60, None, None)
    """
    strikes = len(data) == 3 and FIRST_STATUS <= data[0] < EXCLUSIVE and kind_of(data[0]) == NOTE_ON and data[2] > 0
    return data[1] if strikes else None


def control_change(channel: int, number: int, value: int) -> bytes:
    """A controller's value."""
    return bytes([status_of(CONTROL_CHANGE, channel), number, value])


def program_change(channel: int, program: int) -> bytes:
    """A sound called up."""
    return bytes([status_of(PROGRAM_CHANGE, channel), program])
