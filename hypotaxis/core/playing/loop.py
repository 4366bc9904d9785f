"""Notes that go round until they are stopped, and may be changed while they do: a change holds for all that has not
left yet."""

import heapq
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message


@dataclass(frozen=True, eq=False)
class Line:
    """Notes for a port (system name) and a channel, in ns from the beginning of a time round. starts: ascending, some
    may lie before it."""

    port: str
    channel: int
    starts: np.ndarray
    ends: np.ndarray
    notes: np.ndarray
    velocities: np.ndarray


def line_of(notes: np.ndarray, tempo: TempoMap, end: tuple[str, int], *, first_tick: int, end_tick: int) -> Line:
    """Notes (core.session.score.NOTE) between two ticks as a line; those before tick 0 are of the round's upbeat."""
    inside = notes[(notes["tick"] < end_tick) & ((notes["tick"] >= first_tick) | (notes["tick"] < 0))]
    zero, last = float(tempo.us_at(first_tick)), float(tempo.us_at(end_tick))
    starts = np.rint((tempo.us_at(inside["tick"]) - zero) * 1000).astype(np.int64)
    ends = np.minimum(tempo.us_at(inside["tick"] + inside["duration"]), last) - zero
    return Line(*end, starts, np.rint(ends * 1000).astype(np.int64), inside["note"], inside["velocity"])


class Loop:
    """A source (core.studio.Source) of lines that go round. first: what is sent at the beginning; begins_ns: of the
    first time round."""

    def __init__(
        self, lines: Mapping[str, Line], round_ns: int, *, first: Sequence[Message] = (), begins_ns: int = 0
    ) -> None:
        self._lines = dict(lines)
        self.round_ns, self.begins_ns = round_ns, begins_ns
        self.ports = frozenset({line.port for line in lines.values()} | {one.port for one in first})
        self.over = False
        self._first = sorted(first, key=lambda one: one.time_ns)
        self._asked = 0
        self._ends: list[tuple[int, str, int, int]] = []

    def change(self, key: str, line: Line) -> None:
        """Play this from now on in the place of what the key played."""
        self._lines[key] = line

    def share(self, now_ns: int) -> float:
        """Where in a time round it is at a moment, 0 to 1."""
        return max(0, now_ns - self.begins_ns) % self.round_ns / self.round_ns

    def messages(self, until_ns: int) -> list[Message]:
        """What leaves before this time."""
        found = [one for one in self._first if one.time_ns < until_ns]
        self._first = self._first[len(found) :]
        if not self.over:
            for at, port, channel, note, velocity, ends in sorted(self._beginning(until_ns)):
                found += self._ended(at, (port, channel, note))
                found.append(Message(at, port, note_on(channel, note, velocity)))
                heapq.heappush(self._ends, (ends, port, channel, note))
        found += self._ended(until_ns)
        self._asked = max(self._asked, until_ns)
        return sorted(found, key=lambda one: one.time_ns)

    def _ended(self, until_ns: int, key: tuple[str, int, int] | None = None) -> list[Message]:
        """The ends of notes before a time; of one key also that which would come later, since it begins anew."""
        found = [one for one in self._ends if one[0] < until_ns or (key and one[1:] == key)]
        for one in found:
            self._ends.remove(one)
        heapq.heapify(self._ends)
        return [Message(min(at, until_ns), port, note_off(channel, note)) for at, port, channel, note in found]

    def _beginning(self, until_ns: int) -> Iterator[tuple[int, str, int, int, int, int]]:
        low = (self._asked - self.begins_ns) // self.round_ns
        high = (until_ns - self.begins_ns) // self.round_ns + 1
        for turn in range(max(0, low - 1), max(0, high) + 1):
            zero = self.begins_ns + turn * self.round_ns
            for line in self._lines.values():
                first, last = np.searchsorted(line.starts, [self._asked - zero, until_ns - zero])
                for place in range(int(first), int(last)):
                    at, ends = zero + int(line.starts[place]), zero + int(line.ends[place])
                    yield at, line.port, line.channel, int(line.notes[place]), int(line.velocities[place]), ends

    def sound(self, output: str, start: int, frames: int) -> np.ndarray:
        """Nothing."""
        return np.zeros(frames)

    def ended(self) -> bool:
        """Whether it is stopped, and all that sounded has ended."""
        return self.over and not self._ends
