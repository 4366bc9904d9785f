"""Which keys of a controller press the stand view's buttons, and what counts as a press?

A key is a note, a controller or a program change on a channel of a port. What belongs to one is a note's beginning, end
and pressure, or every value of the controller; pressed it is by a note on, by a controller that rises to 64 or beyond
(as of a switch, MIDI 1.0 Detailed Specification: 0–63 off, 64–127 on), or by the program change.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from hypotaxis.core.midi.messages import (
    CONTROL_CHANGE,
    EXCLUSIVE,
    FIRST_STATUS,
    KEY_PRESSURE,
    NOTE_OFF,
    NOTE_ON,
    PROGRAM_CHANGE,
    channel_of,
    kind_of,
)
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.studio import KeptOut, Message

KINDS = (NOTE_ON, CONTROL_CHANGE, PROGRAM_CHANGE)
ON = 64
_OF_NOTES = (NOTE_ON, NOTE_OFF, KEY_PRESSURE)


@dataclass(frozen=True)
class StandKey:
    """A key and what it presses. act: a button of the stand view."""

    act: str
    key: KeptOut

    @property
    def told(self) -> str:
        """The key in words.

        >>> StandKey("record", KeptOut("Heron", NOTE_ON, 1, 36)).told
        'key C2 on channel 1 of Heron'
        """
        key = self.key
        what = {
            NOTE_ON: f"key {note_name(key.number)}",
            CONTROL_CHANGE: f"controller {key.number}",
            PROGRAM_CHANGE: f"program change {key.number}",
        }[key.kind]
        return f"{what} on channel {key.channel} of {key.port}"


def is_of(key: KeptOut, message: Message) -> bool:
    """Whether a message belongs to a key."""
    data = message.data
    if message.port != key.port or len(data) < 2 or not FIRST_STATUS <= data[0] < EXCLUSIVE:
        return False
    kind = NOTE_ON if kind_of(data[0]) in _OF_NOTES else kind_of(data[0])
    return (kind, channel_of(data[0]), data[1]) == (key.kind, key.channel, key.number)


def without(keys: Sequence[KeptOut], messages: Sequence[Message]) -> tuple[Message, ...]:
    """The messages that belong to none of the keys."""
    return tuple(message for message in messages if not any(is_of(key, message) for key in keys))


def key_of(message: Message) -> KeptOut | None:
    """The key that a message presses; None where it presses none."""
    data = message.data
    if len(data) < 2 or not FIRST_STATUS <= data[0] < EXCLUSIVE or kind_of(data[0]) not in KINDS:
        return None
    kind = kind_of(data[0])
    if (kind == NOTE_ON and not data[2]) or (kind == CONTROL_CHANGE and data[2] < ON):
        return None
    return KeptOut(message.port, kind, channel_of(data[0]), data[1])


class Presses:
    """What a stream of messages presses, of these keys."""

    def __init__(self, keys: Sequence[StandKey]) -> None:
        self.keys = tuple(keys)
        self._down: set[KeptOut] = set()
        """Controllers that stand at 64 or beyond: they press once they have come down."""

    @property
    def kept_out(self) -> tuple[KeptOut, ...]:
        """What is neither echoed nor recorded."""
        return tuple(dict.fromkeys(one.key for one in self.keys))

    def pressed(self, messages: Sequence[Message]) -> Iterator[str]:
        """The buttons that these messages press, in their order."""
        for message in messages:
            for one in self.keys:
                if is_of(one.key, message) and self._presses(one.key, message):
                    yield one.act

    def _presses(self, key: KeptOut, message: Message) -> bool:
        down = key_of(message) == key
        if key.kind != CONTROL_CHANGE:
            return down
        was_down = key in self._down
        (self._down.add if down else self._down.discard)(key)
        return down and not was_down
