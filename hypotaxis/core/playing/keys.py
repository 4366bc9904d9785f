"""Where does what hands play go? Standing lines first, keys in otherwise.

A message from a port that is played from plays every instrument that has a standing line on that port and channel;
where there is none it plays the selected instrument, if the host's echo is on. Notes are shaped on their way; a key
that is let go ends exactly what it began.
"""

from collections.abc import Iterator

from hypotaxis.core.midi.messages import EXCLUSIVE, NOTE_OFF, NOTE_ON, channel_of, kind_of, note_off, note_on, status_of
from hypotaxis.core.midi.shaping import shaped
from hypotaxis.core.plan import Instrument, Plan, Seat
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.studio import Message


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


class KeysIn:
    """Turns messages that come in into those that leave at once. selected: the instrument that keys in play, None =
    nothing is selected."""

    def __init__(self, plan: Plan, selected: Instrument | None) -> None:
        self.plan, self.selected = plan, selected
        self.ports = {end.socket.system_name: end.socket.uid for end in keys_in(plan.rig) if end.socket.system_name}
        self.held: dict[tuple[str, int, int], list[tuple[str, int, int]]] = {}

    def __call__(self, message: Message) -> list[Message]:
        """What leaves for a message that came in; nothing for ports that are not played from, and for system bytes."""
        port = self._port_of(message)
        if port is None:
            return []
        kind, channel = kind_of(message.data[0]), channel_of(message.data[0])
        if kind in (NOTE_ON, NOTE_OFF):
            return self._note(message, port, channel)
        return [
            Message(message.time_ns, out, bytes([status_of(kind, seat.channel), *message.data[1:]]))
            for instrument in self.played(port, channel)
            for out, seat in self._seats(instrument)
        ]

    def _port_of(self, message: Message) -> str | None:
        """The port (socket uid) by which hands sent it; None for other ports and for system bytes."""
        passes = message.data and message.data[0] < EXCLUSIVE
        return self.ports.get(message.port) if passes else None

    def played_by(self, message: Message) -> list[Instrument]:
        """The instruments that a message from the hands plays."""
        port = self._port_of(message)
        return [] if port is None else self.played(port, channel_of(message.data[0]))

    def played(self, port: str, channel: int) -> list[Instrument]:
        """The instruments that a port (socket uid) and a channel play."""
        standing = [one for one in self.plan.instruments if {(port, channel), (port, 0)} & set(one.standing)]
        if standing:
            return standing
        return [self.selected] if self.selected and self.plan.rig.echo else []

    def _note(self, message: Message, port: str, channel: int) -> list[Message]:
        note, velocity = message.data[1], message.data[2]
        key = message.port, channel, note
        ended = self.held.pop(key, [])
        sent = [Message(message.time_ns, out, note_off(at, one)) for out, at, one in ended]
        if kind_of(message.data[0]) == NOTE_OFF or velocity == 0:
            return sent
        for instrument in self.played(port, channel):
            for out, at, one, force in self._shaped(instrument, note, velocity):
                self.held.setdefault(key, []).append((out, at, one))
                sent.append(Message(message.time_ns, out, note_on(at, one, force)))
        return sent

    def _shaped(self, instrument: Instrument, note: int, velocity: int) -> Iterator[tuple[str, int, int, int]]:
        parts = (None, *instrument.parts)
        for (out, seat), part in zip(self._seats(instrument), parts, strict=False):
            for one, force in shaped(note, velocity, part.shaping if part else instrument.shaping):
                yield out, seat.channel, one, force

    def _seats(self, instrument: Instrument) -> list[tuple[str, Seat]]:
        """(system name of the port, seat) of each part; empty without a send socket."""
        found = [(self.plan.rig.find(seat.send), seat) for seat in instrument.seats]
        return [(end[1].system_name, seat) for end, seat in found if end] if all(end for end, _ in found) else []
