"""Where does what hands play go? Standing lines first, keys in otherwise.

A message from a port that is played from plays every instrument that has a standing line on that port and channel;
where there is none it plays the selected instrument, if the host's echo is on. That is written down as rules, which can
be handed to whoever runs them; notes are shaped on their way.
"""

from collections.abc import Sequence

from hypotaxis.core.midi.messages import (
    EXCLUSIVE,
    FIRST_STATUS,
    NOTE_OFF,
    NOTE_ON,
    channel_of,
    kind_of,
    note_off,
    note_on,
    status_of,
)
from hypotaxis.core.midi.shaping import shaped
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.playing.stand_keys import is_of
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.studio import EchoRule, KeptOut, Message

CHANNELS = range(1, 17)


def plays_and_sounds(plan: Plan, instrument: Instrument) -> str:
    """What happens to a key of a box that both plays and sounds, in a sentence; empty for other boxes, and where local
    control is not known."""
    box = plan.rig.box(instrument.box)
    if box is None or box.setup.local not in ("on", "off", "always on"):
        return ""
    if not any(end.box.uid == box.uid for end in keys_in(plan.rig)):
        return ""
    local = "off" if box.setup.local == "off" else "on"
    echo = "on" if plan.rig.echo else "off"
    heard = {
        ("off", "on"): "a key sounds once, by way of the host, and plays whatever is selected",
        ("on", "off"): "a key sounds once, inside the box, and reaches no other instrument",
        ("on", "on"): "a key sounds twice: switch local control off on the box, or the host's echo where it cannot be",
        ("off", "off"): "a key sounds nothing: switch the host's echo on",
    }[local, echo]
    return f"{box.name} both plays and sounds. Local control is {local}, the host's echo is {echo}: {heard}."


def echo_rules(plan: Plan, selected: Instrument | None) -> tuple[EchoRule, ...]:
    """What leaves for what hands play, port by port. selected: the instrument that keys in play, None = nothing is."""
    rules = []
    for end in keys_in(plan.rig):
        played = {channel: _played(plan, selected, end.socket.uid, channel) for channel in CHANNELS}
        for instrument in plan.instruments:
            channels = tuple(channel for channel in CHANNELS if instrument.uid in played[channel])
            if channels and end.socket.system_name:
                rules += _rules(plan, instrument, end.socket.system_name, channels)
    return tuple(rules)


def _played(plan: Plan, selected: Instrument | None, port: str, channel: int) -> frozenset[str]:
    """The instruments (uids) that a port (socket uid) and a channel play."""
    standing = [one.uid for one in plan.instruments if {(port, channel), (port, 0)} & set(one.standing)]
    if standing:
        return frozenset(standing)
    return frozenset({selected.uid} if selected and plan.rig.echo else ())


def _rules(plan: Plan, instrument: Instrument, port: str, channels: tuple[int, ...]) -> list[EchoRule]:
    """A rule for each part; none where one of them has no send socket."""
    ends = [plan.rig.find(seat.send) for seat in instrument.seats]
    if not all(ends):
        return []
    shapings = (instrument.shaping, *(part.shaping for part in instrument.parts))
    rows = zip(instrument.seats, ends, shapings, strict=False)
    return [
        EchoRule(port, channels, end[1].system_name, seat.channel, shaping, instrument.uid)
        for seat, end, shaping in rows
    ]


class Echo:
    """Rules at work: turns messages that come in into those that leave at once. A key that is let go ends exactly what
    it began."""

    def __init__(self, rules: Sequence[EchoRule], kept_out: Sequence[KeptOut] = ()) -> None:
        self.rules, self.kept_out = rules, kept_out
        self._held: dict[tuple[str, int, int], list[tuple[str, int, int]]] = {}

    def rules_for(self, message: Message) -> list[EchoRule]:
        """The rules that a message falls under; none for system bytes."""
        if not _is_played(message) or any(is_of(key, message) for key in self.kept_out):
            return []
        channel = channel_of(message.data[0])
        return [rule for rule in self.rules if rule.port == message.port and channel in rule.channels]

    def __call__(self, message: Message) -> list[Message]:
        """What leaves for a message that came in; nothing for ports that are not played from, and for system bytes."""
        if not _is_played(message):
            return []
        rules, kind = self.rules_for(message), kind_of(message.data[0])
        if kind in (NOTE_ON, NOTE_OFF):
            return self._note(message, rules)
        return [
            Message(message.time_ns, rule.out, bytes([status_of(kind, rule.channel), *message.data[1:]]))
            for rule in rules
        ]

    def _note(self, message: Message, rules: Sequence[EchoRule]) -> list[Message]:
        status, note, velocity = message.data[:3]
        key = message.port, channel_of(status), note
        sent = [Message(message.time_ns, out, note_off(at, one)) for out, at, one in self._held.pop(key, [])]
        if kind_of(status) == NOTE_OFF or velocity == 0:
            return sent
        for rule in rules:
            for one, force in shaped(note, velocity, rule.shaping):
                self._held.setdefault(key, []).append((rule.out, rule.channel, one))
                sent.append(Message(message.time_ns, rule.out, note_on(rule.channel, one, force)))
        return sent


def _is_played(message: Message) -> bool:
    """Whether it is of a channel: not system bytes, nor the rest of a long SysEx."""
    return bool(message.data) and FIRST_STATUS <= message.data[0] < EXCLUSIVE
