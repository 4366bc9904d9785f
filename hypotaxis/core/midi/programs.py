"""How is a sound called up? Bank select and program change in the form that a box wants, byte by byte.

Bank select is controller 0 (MSB) and 32 (LSB); it takes effect at the next program change (MIDI 1.0 Detailed
Specification). Channels count from 1, everything else as on the wire: 0–127.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from hypotaxis.core.midi.messages import CONTROL_CHANGE, PROGRAM_CHANGE, control_change, program_change
from hypotaxis.core.units import BYTE_US

BANK_MSB, BANK_LSB = 0, 32
BANK_FORMS = {
    "none": "no bank: program change alone",
    "msb": "MSB only",
    "lsb": "LSB only",
    "both": "MSB, then LSB",
    "always": "both, before every program: it counts only right after a bank",
}
"""Which bank messages a box wants before a program change."""
GAP_MS = 20.0
"""Left after a change before the next note where nothing else is said of a box (common practice)."""


@dataclass(frozen=True)
class Program:
    """A sound on the wire. program: None for one that is called up by controllers alone; msb, lsb: None where the list
    names none; controls: other controllers that belong to it, (number, value), sent last."""

    program: int | None
    msb: int | None = None
    lsb: int | None = None
    controls: tuple[tuple[int, int], ...] = ()


def change_messages(
    channel: int, wanted: Program, form: str = "both", *, current: Program | None = None
) -> list[bytes]:
    """The messages that call up a sound, in their order: bank MSB, bank LSB, program, and what controls belong to it.

    current: what is called up now, None = unknown. A bank that is called up already is not sent again, unless the box
    wants it before every program. A bank number the list does not name is left out.
    """
    same = current is not None and (current.msb, current.lsb) == (wanted.msb, wanted.lsb)
    sent = in_form(wanted, "none" if same and form != "always" else form)
    banks = ((BANK_MSB, sent.msb), (BANK_LSB, sent.lsb))
    messages = [control_change(channel, bank, number) for bank, number in banks if number is not None]
    if sent.program is not None:
        messages.append(program_change(channel, sent.program))
    return [*messages, *(control_change(channel, number, value) for number, value in sent.controls)]


def in_form(wanted: Program, form: str) -> Program:
    """A sound with those bank numbers only that a box of this form wants.

    >>> in_form(Program(5, 1, 2), "lsb")
    Program(program=5, msb=None, lsb=2, controls=())
    """
    msb = None if form in ("none", "lsb") else wanted.msb
    lsb = None if form in ("none", "msb") else wanted.lsb
    return replace(wanted, msb=msb, lsb=lsb)


def is_bank_select(status: int, number: int) -> bool:
    """Whether a message (status without its channel, first data byte) is a bank select."""
    return status == CONTROL_CHANGE and number in (BANK_MSB, BANK_LSB)


def program_in_force(messages: Sequence[tuple[int, int, int]]) -> tuple[Program | None, frozenset[int]]:
    """What messages of one channel (status without its channel, two data bytes) leave called up: the last program with
    the bank that was selected before it, and the places of the messages that are settled by it. A bank selected after
    the last program waits for another one and is not among them.

    >>> program_in_force([(0xB0, 0, 3), (0xC0, 5, 0), (0xB0, 32, 1)])
    (Program(program=5, msb=3, lsb=None, controls=()), frozenset({0, 1}))
    """
    last = max((place for place, row in enumerate(messages) if row[0] == PROGRAM_CHANGE), default=None)
    if last is None:
        return None, frozenset()
    banks: dict[int, int] = {}
    settled = {last}
    for place, (status, number, value) in enumerate(messages[:last]):
        if is_bank_select(status, number):
            banks[number] = value
        if status == PROGRAM_CHANGE or is_bank_select(status, number):
            settled.add(place)
    return Program(messages[last][1], banks.get(BANK_MSB), banks.get(BANK_LSB)), frozenset(settled)


def wire_bytes(messages: list[bytes], *, running_status: bool = False) -> bytes:
    """What stands on the wire: all bytes, or without a status byte that repeats the one before."""
    if not running_status:
        return b"".join(messages)
    last, found = None, bytearray()
    for message in messages:
        found += message[1:] if message[0] == last else message
        last = message[0]
    return bytes(found)


def wire_ms(messages: list[bytes], *, running_status: bool = False) -> float:
    """Time on a DIN wire in ms: 320 µs a byte.

    >>> wire_ms(change_messages(1, Program(5, 0, 3)))
    2.56
    """
    return len(wire_bytes(messages, running_status=running_status)) * BYTE_US / 1000


def hexed(messages: list[bytes]) -> str:
    """Messages as they are shown.

    >>> hexed(change_messages(10, Program(4, 1, None), "msb"))
    'B9 00 01 · C9 04'
    """
    return " · ".join(" ".join(f"{byte:02X}" for byte in message) for message in messages)


def mix_messages(channel: int, level: int | None, pan: int | None) -> list[bytes]:
    """Controllers 7 (channel volume) and 10 (pan) on a channel 1–16, each where it is given (MIDI 1.0 Detailed
    Specification).

    >>> [message.hex(" ") for message in mix_messages(3, 100, None)]
    ['b2 07 64']
    """
    values = ((7, level), (10, pan))
    return [control_change(channel, number, value) for number, value in values if value is not None]


def wire_told(program: int | None, msb: int | None, lsb: int | None) -> str:
    """The numbers that call a sound up, as they stand on the wire.

    >>> wire_told(5, 3, None), wire_told(None, None, None)
    ('program 5 on the wire, bank MSB 3', 'no program')
    """
    banks = [f", bank {name} {value}" for name, value in (("MSB", msb), ("LSB", lsb)) if value is not None]
    return "".join(["no program" if program is None else f"program {program} on the wire", *banks])
