"""What hands played becomes notes of a part: when was each meant, and what of it is kept?

Hands strike on what they hear. What they play to is late by its way to the ears, and what they play arrives later by
the keys' way in; both are taken off, so that what was aimed at a beat stands on it. The lateness of their own sound is
no part of it. Times are ns from the beginning of a run; ticks are the session's.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import (
    DATA_BYTES,
    EXCLUSIVE,
    FIRST_STATUS,
    NOTE_OFF,
    NOTE_ON,
    PROGRAM_CHANGE,
    channel_of,
    kind_of,
    struck,
)
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.evenness import Even, evenness
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.session.arrange import Part, together
from hypotaxis.core.session.score import CONTROL, NOTE, no_controls, no_notes
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message
from hypotaxis.core.timing.budget import way_out_of
from hypotaxis.core.units import counted

KEYS_MS = (1.0, 1.0)
"""(value, half-width) of a key's way into the computer: its scan, the link, the driver (common practice)."""
EARLY_MS = 150.0
"""What is struck so long before the first bar is meant for its beginning."""
BEHIND_MS = 25.0
"""What is struck so shortly before the end of the last bar is meant for the bar behind it."""
PAUSE_S = 4.0
"""A phrase is over where no key is struck for so long."""
CLICKS = {"": "count-in and bars", "count-in": "only the count-in", "bars": "only the bars"}
"""When it clicks."""
FINEST_MS = 1.2
"""Played notes want ticks that are no longer than this."""


@dataclass(frozen=True, kw_only=True)
class TakenOff:
    """What is taken off played notes, in ms, each with its half-width."""

    ears_ms: float
    """Until what they play to is heard."""
    ears_half_ms: float
    keys_ms: float
    keys_half_ms: float

    @property
    def ms(self) -> float:
        return self.ears_ms + self.keys_ms

    @property
    def half_ms(self) -> float:
        return float(np.hypot(self.ears_half_ms, self.keys_half_ms))


def taken_off(plan: Plan, output: str) -> TakenOff:
    """What a click that is played on an output (socket uid) takes to the ears, and the keys take in; without a click
    only the latter."""
    ears = way_out_of(plan, output)
    half = float(np.sqrt(sum(leg.half_ms**2 for leg in ears)))
    return TakenOff(ears_ms=sum(leg.ms for leg in ears), ears_half_ms=half, keys_ms=KEYS_MS[0], keys_half_ms=KEYS_MS[1])


@dataclass(frozen=True)
class PlayedLine:
    """A standing line as a run froze it: what comes by this port (system name) and channel (0 = all) is of another
    instrument than the one that is played to."""

    port: str
    channel: int
    instrument: str
    """Uid."""

    def holds(self, message: Message) -> bool:
        """Whether a message came by it."""
        channels = (0, channel_of(message.data[0])) if FIRST_STATUS <= message.data[0] < EXCLUSIVE else ()
        return message.port == self.port and self.channel in channels


def lines_of(plan: Plan) -> tuple[PlayedLine, ...]:
    """Every standing line of a port that is played from."""
    ports = {end.socket.uid: end.socket.system_name for end in keys_in(plan.rig) if end.socket.system_name}
    return tuple(
        PlayedLine(ports[port], channel, one.uid)
        for one in plan.instruments
        for port, channel in one.standing
        if port in ports
    )


def hands_told(plan: Plan) -> list[str]:
    """Where what is heard under the hands is not only what the chosen track plays, in sentences."""
    told = []
    for one in plan.instruments:
        for port, channel in one.standing:
            end = next((end for end in keys_in(plan.rig) if end.socket.uid == port), None)
            on = f", channel {channel}," if channel else ""
            if end:
                name = plan.rig.socket_text(port)
                told.append(f"{name}{on} always plays {one.name}, and is kept for its track, whichever you choose.")
    for one in plan.instruments:
        if one.parts:
            told.append(f"On {one.name} your keys sound on all its parts; the part of the track you choose keeps them.")
    if not plan.rig.echo:
        told.append("The host’s echo is off: only standing lines, and boxes with local control on, are heard.")
    return told


def parted(messages: Sequence[Message], lines: Sequence[PlayedLine]) -> dict[str, list[Message]]:
    """What arrived, by the instrument (uid) that it is of; "" = the one that is played to. What two lines claim is of
    both of them."""
    found: dict[str, list[Message]] = {}
    for message in messages:
        for owner in {line.instrument for line in lines if line.holds(message)} or {""}:
            found.setdefault(owner, []).append(message)
    return found


@dataclass(frozen=True, kw_only=True)
class PlaySetup:
    """A run in which hands play, as it was asked for."""

    tempo: TempoMap
    first_bar: int
    last_bar: int
    count_in: int
    """Bars of click before."""
    first_s: float
    """When the first bar begins, from the beginning of the run."""
    frames: int
    rate: int
    ports: tuple[str, ...]
    """System names of the ports whose keys are kept."""
    output: str = ""
    """System name of the output that plays the click, "" = none does."""
    level_db: float = -12.0
    anew: bool = False
    """What was in these bars goes."""
    off_ms: float = 0.0
    """What is taken off."""
    times: int = 1
    """How often the bars go round."""
    open_end: bool = False
    """They go round until it is stopped."""
    lines: tuple[PlayedLine, ...] = ()
    """What is played to other tracks meanwhile."""
    click: str = ""
    """One of CLICKS."""
    on_page: bool = False
    """The page clicks, too."""
    fast: bool = False

    @property
    def round_s(self) -> float:
        """How long the bars take."""
        ticks = [self.tempo.bar_tick(bar) for bar in (self.first_bar, self.last_bar + 1)]
        begins, ends = self.tempo.us_at(np.array(ticks)) / 1e6
        return float(ends - begins)

    @property
    def zero_ns(self) -> float:
        """When the session's zero is in the run, the first time round."""
        return self.first_s * 1e9 - float(self.tempo.us_at(self.tempo.bar_tick(self.first_bar))) * 1000


@dataclass(frozen=True, eq=False)
class PlayedIn:
    """What was played, a part for each time round, and what is to be said of it."""

    rounds: tuple[Part, ...]
    told: tuple[str, ...] = ()
    even: Even | None = None
    """Where it was no hands that played: a box that generates."""

    def whole(self, *, anew: bool) -> Part:
        """All rounds laid over each other; anew: the last in which a key was struck stands alone."""
        struck = [part for part in self.rounds if len(part.notes)]
        if anew:
            return struck[-1] if struck else self.rounds[-1]
        found = self.rounds[0]
        for part in self.rounds[1:]:
            found = together(found, part)
        return found


def played_in(
    messages: Sequence[Message],
    tempo: TempoMap,
    *,
    zero_ns: float,
    first_tick: int,
    end_tick: int,
    off_ms: float = 0.0,
    times: int = 1,
) -> PlayedIn:
    """Notes and controls of what arrived, in order of time. zero_ns: when the session's zero is in the run; off_ms:
    what is taken off; times: how often first_tick up to end_tick went round. Kept is what was meant for them; keys that
    are still down at the end of a round end there."""
    begins_us, ends_us = (float(one) for one in tempo.us_at(np.array([first_tick, end_tick])))
    rows: list[tuple[list, list]] = [([], []) for _ in range(times)]
    held: dict[tuple[str, int, int], tuple[int, int, int]] = {}
    left: Counter[str] = Counter()
    hanging = 0

    def place(time_ns: int, behind_ms: float) -> tuple[int, int]:
        """(which round, tick in it) that something was meant for; −1 and `times`: before and behind all of them.
        behind_ms: what is so shortly before the end of a round belongs to the next."""
        away_us = (time_ns - zero_ns) / 1000 - off_ms * 1000 - begins_us
        if away_us < 0:
            return (0, first_tick) if away_us >= -EARLY_MS * 1000 else (-1, first_tick)
        number = int((away_us + behind_ms * 1000) // (ends_us - begins_us))
        inside_us = max(0.0, away_us - number * (ends_us - begins_us))
        tick = int(np.rint(tempo.ticks_at_us(begins_us + inside_us)))
        return min(number, times), min(tick, end_tick)

    def end(key: tuple[str, int, int], number: int, tick: int) -> None:
        nonlocal hanging
        began, start, velocity = held.pop(key)
        hanging += number > began
        # A key that was meant for a round may be let go before that begins.
        ends = max(tick, start) if number == began else (end_tick if number > began else start + 1)
        rows[began][0].append((start, ends - start, key[2], velocity))

    for message in messages:
        status = message.data[0]
        if not FIRST_STATUS <= status < EXCLUSIVE:
            left["SysEx"] += status == EXCLUSIVE
            continue
        kind = kind_of(status)
        if len(message.data) != 1 + DATA_BYTES[kind]:
            left["broken"] += 1
            continue
        one, two = (*message.data[1:], 0)[:2]
        key = (message.port, channel_of(status), one)
        if kind in (NOTE_ON, NOTE_OFF) and key in held:
            end(key, *place(message.time_ns, 0.0))
        number, tick = place(message.time_ns, BEHIND_MS)
        if kind == NOTE_ON and two:
            if 0 <= number < times:
                held[key] = (number, tick, two)
            else:
                left["early" if number < 0 else "late"] += 1
        elif kind == PROGRAM_CHANGE:
            left["program"] += 1
        elif kind not in (NOTE_ON, NOTE_OFF) and 0 <= number < times:
            rows[number][1].append((tick, kind, one, two))
    for key in list(held):
        end(key, times, end_tick)
    parts = tuple(
        Part(np.array(sorted(notes, key=lambda row: (row[0], row[2])), dtype=NOTE), np.array(controls, dtype=CONTROL))
        for notes, controls in rows
    )
    meant_us = [(one.time_ns - zero_ns) / 1000 - off_ms * 1000 for one in messages if _strikes(one)]
    return PlayedIn(parts, tuple(_told(left, hanging)), _evenness(np.array(meant_us), tempo, first_tick))


def _evenness(meant_us: np.ndarray, tempo: TempoMap, first_tick: int) -> Even | None:
    quarters = (tempo.ticks_at_us(meant_us) - first_tick) / tempo.ticks_per_quarter
    return evenness(quarters, tempo.us_of_quarter(first_tick) / 1000)


def _told(left: Counter[str], hanging: int) -> list[str]:
    words = {
        "early": "{} before the first bar left out.",
        "late": "{} behind the last bar left out.",
    }
    told = [words[why].format(counted(left[why], "note")) for why in words if left[why]]
    if hanging:
        told.append(f"{counted(hanging, 'key was', 'keys were')} still down at the end of the bars, and let go there.")
    if left["program"]:
        told.append(f"{counted(left['program'], 'program change')} not kept: a track calls its own sound.")
    if left["SysEx"]:
        told.append(f"{counted(left['SysEx'], 'SysEx message')} not kept.")
    if left["broken"]:
        told.append(f"{counted(left['broken'], 'broken message')} left out.")
    return told


def last_phrase(messages: Sequence[Message]) -> list[Message]:
    """What was played last, of messages in order of time: back to where no key was struck for PAUSE_S."""
    struck = [one.time_ns for one in messages if _strikes(one)]
    first = struck[-1] if struck else 0
    for at in reversed(struck):
        if first - at > PAUSE_S * 1e9:
            break
        first = at
    return [one for one in messages if one.time_ns >= first] if struck else []


def fetched(messages: Sequence[Message], tempo: TempoMap, *, first_tick: int) -> PlayedIn:
    """The last phrase as a part that begins at a tick, at this tempo and as long as it is."""
    phrase = last_phrase(messages)
    if not phrase:
        return PlayedIn((Part(no_notes(), no_controls()),))
    begins_us = float(tempo.us_at(first_tick))
    zero_ns = phrase[0].time_ns - begins_us * 1000
    ends_us = (phrase[-1].time_ns - zero_ns) / 1000 + BEHIND_MS * 2000
    bar = tempo.position(int(tempo.ticks_at_us(ends_us))).bar
    return played_in(phrase, tempo, zero_ns=zero_ns, first_tick=first_tick, end_tick=tempo.bar_tick(bar + 1))


def _strikes(message: Message) -> bool:
    return struck(message.data) is not None


def laid_in(was: Part, came: Part, *, first_tick: int, end_tick: int, anew: bool) -> Part:
    """A part with what was played in these bars: beside what is there, or in its place; a note from before that reaches
    into them ends where they begin then."""
    notes, controls = was.notes, was.controls
    if anew:
        inside = (notes["tick"] >= first_tick) & (notes["tick"] < end_tick)
        notes = notes[~inside].copy()
        over = (notes["tick"] < first_tick) & (notes["tick"] + notes["duration"] > first_tick)
        notes["duration"][over] = first_tick - notes["tick"][over]
        controls = controls[(controls["tick"] < first_tick) | (controls["tick"] >= end_tick)]
    return together(Part(notes, controls), came)


def fine_enough(tempo: TempoMap, finest_ms: float = FINEST_MS) -> bool:
    """Whether its ticks are short enough for what hands play, or as short as is said."""
    return max(us for _, us in tempo.tempos) / tempo.ticks_per_quarter <= finest_ms * 1000
