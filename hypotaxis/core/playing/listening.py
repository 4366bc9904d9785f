"""Listening to a whole studio: what comes in by each port and input, with a test note or tone where it is wished."""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.studio import Message, Sound, Written, sound_of

LISTEN_S = 20.0
NOTE, VELOCITY, CHANNEL = 60, 100, 1
BEGINS_S, NOTE_S, TONE_S = 0.3, 0.6, 1.5
TONE_HZ, TONE_DB = 440.0, -20.0


@dataclass(frozen=True, kw_only=True)
class ListenWish:
    """What is sent while listening, by system name; "" = nothing."""

    note: str = ""
    """The port that gets a note."""
    tone: str = ""
    """The output that gets a tone."""


@dataclass(frozen=True, kw_only=True)
class EndHeard:
    """An input: its level now and the highest so far, in dBFS."""

    name: str
    level: float
    peak: float


@dataclass(frozen=True, kw_only=True)
class StudioHeard:
    """What has come in so far."""

    inputs: tuple[EndHeard, ...] = ()
    received: tuple[tuple[str, str], ...] = ()
    """(port, the bytes that came last, clock apart) of each port by which something came."""
    tempos: tuple[tuple[str, str], ...] = ()
    """(port, its tempo in words) of each port by which clock comes."""


def test_signals(wish: ListenWish, rate: int) -> Written:
    """The test note and tone, a moment after the beginning."""
    messages = []
    if wish.note:
        begins_ns = round(BEGINS_S * 1e9)
        messages.append(Message(begins_ns, wish.note, note_on(CHANNEL, NOTE, VELOCITY)))
        messages.append(Message(begins_ns + round(NOTE_S * 1e9), wish.note, note_off(CHANNEL, NOTE)))
    return Written(messages, {wish.tone: _tone(rate)} if wish.tone else {})


def _tone(rate: int) -> Sound:
    at = np.arange(round(TONE_S * rate)) / rate
    faded = np.minimum(1.0, np.minimum(at, at[::-1]) / 0.02)
    silence = np.zeros(round(BEGINS_S * rate))
    return sound_of(np.concatenate([silence, 10 ** (TONE_DB / 20) * faded * np.sin(2 * np.pi * TONE_HZ * at)]))
