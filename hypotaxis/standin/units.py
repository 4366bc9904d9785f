"""The boxes on the stand-in's desk: what each does with the messages it hears.

A unit turns heard messages into voices: when they really begin is the unit's own affair (reaction time, jitter,
time per simultaneous note) and hidden from the application.
"""

import zlib
from collections import deque
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from heapq import heappop, heappush

import numpy as np

from hypotaxis.core.midi.messages import (
    CLOCK,
    CONTINUE,
    NOTE_OFF,
    NOTE_ON,
    PROGRAM_CHANGE,
    SONG_POSITION,
    START,
    STOP,
    channel_of,
    kind_of,
    status_of,
)
from hypotaxis.core.rig.shapes import SHAPES
from hypotaxis.core.rig.values import Box
from hypotaxis.core.units import CLOCKS_A_QUARTER
from hypotaxis.standin.memory import BY_PANEL, DUMPS, HURRIED
from hypotaxis.standin.sound import DRUMS, MONO_PATCHES, POLY_PATCHES, TOM, Patch, Voice, pitch_hz
from hypotaxis.standin.wire import FOLLOWED, Heard

TOGETHER_NS = 3_000_000
"""Notes within this of each other count as simultaneous for the unit's processor."""
FIRST_CHANNEL = {"drum-machine": 10}
"""Receive channel as delivered; others begin at 1."""
DUMPED = {"drum-machine": HURRIED, "module": BY_PANEL}
"""How kinds of boxes let their memory out; others when they are asked."""
ONE_VOICE = ("mono-synth", "modular-midi", "modular-voice")


DEMO_NOTES = (48, 55, 60, 64, 67, 64, 60, 55)
DEMO_FROM_S, DEMO_STEP_S = 0.2, 0.3
CLOCKS_A_STEP = 6
"""A sixteenth (MIDI 1.0: 24 clocks a quarter)."""
GATE_CLOCKS = 3
STEP_RINGS_NS = 100_000_000
"""A step lasts half of its sixteenth; one that a stop cuts short, so long."""
HOT_DB = 9.19
"""A modular signal above line level: 10 V peak to peak, +13.19 dBu, against +4 dBu (common practice)."""
HEARS = ("MIDI and USB", "MIDI", "USB")
RESTART = "start while it runs"
IGNORES = ("start", "continue", "song position", RESTART)


@dataclass(frozen=True)
class FrontPanel:
    """A box's own settings, changeable only as if on the box; the plan knows nothing of them."""

    channels: tuple[int, ...] = ()
    """Receive channel (1–16) of each part."""
    level_db: float = 0.0
    omni: bool = False
    hears: str = HEARS[0]
    """Where it takes notes from, one of HEARS."""
    off: bool = False
    """The power switch."""
    demo: bool = False
    """It plays its own demo, whatever it hears; on a keyboard or pads someone plays."""
    to_the_click: bool = False
    """Who plays strikes on the click, as he hears it, from the second bar of it on."""
    sequences: bool = False
    """It steps by itself in time with the click: sixteenths on channel 1, quarters on channel 2."""
    gains: Mapping[str, float] = field(default_factory=dict)
    """Of an interface's inputs in dB, by label."""
    steps: bool = False
    """Its arpeggiator steps through the keys that are held, a sixteenth at a time, by the clock it hears."""
    pattern_bars: int = 0
    """How many bars of 4/4 its own pattern has, which it plays by the clock it hears; 0 = it plays none."""
    program: int = 0
    """The sound it stands on while none was called up, as on the wire."""
    swings_ticks: int = 0
    """Period of its LFO in clocks, by which its sound swells and falls; 0 = it has none that goes by clock."""
    ignores: frozenset[str] = frozenset()
    """Of IGNORES: what it does not obey."""
    loses: bool = False
    """It does not count the first clock after a start or continue."""
    leads_bpm: float = 0.0
    """It leads: sends clock at this tempo, and someone presses its start key; 0 = it follows."""
    leads_bars: int = 0
    """After how many bars of 4/4 someone stops it; 0 = it goes on."""
    local: bool = False
    """What is played on it sounds in it, whatever the computer does."""
    played: bool = False
    """Somebody presses its keys, of a box that both plays and sounds."""
    dumps: str = ""
    """How it lets its memory out, one of memory.DUMPS; "" = as its kind does."""
    sends_memory: bool = False
    """In each run someone has it sent from its panel."""
    loose: frozenset[str] = frozenset()
    """Labels of sockets whose cable has slipped out."""
    taken: frozenset[str] = frozenset()
    """Labels of its ports that another program holds."""

    def takes_from(self, kind: str) -> bool:
        """Whether notes that come by "midi" (DIN), "usb" or voltage are heard."""
        return kind == "cv" or {"midi": "MIDI", "usb": "USB"}[kind] in self.hears

    @property
    def follows_click(self) -> bool:
        """Whether somebody, or something, plays on it to the click."""
        return self.to_the_click or self.sequences


@dataclass(frozen=True)
class Hidden:
    """What a measurement has to find out: milliseconds and their standard deviation."""

    reaction_ms: tuple[float, ...]
    jitter_ms: float
    per_note_ms: float


@dataclass(frozen=True)
class Played:
    """A hit really played, for tests: when its sound begins at the box's output, on the computer's clock."""

    box: str
    part: int
    note: int
    velocity: int
    heard_ns: int
    begins_s: float
    voice: str = ""


@dataclass
class Unit:
    """A sounding box. It hears in stretches of time that follow each other."""

    box: Box
    panel: FrontPanel
    hidden: Hidden
    outs: dict[str, list[Voice]] = field(default_factory=dict)
    """Voices by the label of the socket they leave from."""
    log: list[Played] = field(default_factory=list)
    _heads: dict[tuple[str, float], "_Head"] = field(default_factory=dict, repr=False)

    def begin(self, *, seed: int, cabled: frozenset[str]) -> None:
        """Before a run. cabled: labels of the audio outs that carry a cable; seed varies the jitter."""
        self.outs, self.log, self._heads = {}, [], {}
        self._cabled = cabled
        self._rng = np.random.default_rng([seed, zlib.crc32(self.box.uid.encode())])
        self._programs = [self.panel.program] * len(self.panel.channels)
        self._latest: list[int] = []
        self._sounding: dict[tuple[int, int], list[tuple[str, int]]] = {}
        self._last_voice: tuple[str, int] | None = None
        self._steps = Steps() if self.panel.steps else None
        self._pattern = Pattern(self.box, self.panel) if self.panel.pattern_bars else None
        self._demo_hits = 0
        self._clocks: deque[int] = deque(maxlen=CLOCKS_A_QUARTER + 1)
        self._swing = Swing(self.panel, self.hidden) if self.panel.swings_ticks else None

    @property
    def display_bpm(self) -> float | None:
        """The tempo its display shows: of the last beat of clock; None while none came."""
        if len(self._clocks) <= CLOCKS_A_QUARTER:
            return None
        return 60e9 / (self._clocks[-1] - self._clocks[0])

    def _seen(self, heard: Iterable[Heard]) -> Iterator[Heard]:
        for message in heard:
            if message.status == CLOCK:
                self._clocks.append(message.time_ns)
            if self._swing:
                self._swing.hear(message)
            yield message

    def hear(self, heard: Iterable[Heard], until_s: float) -> None:
        """What arrives before a time, in order; its own demo goes on until then, where that is switched on."""
        heard = self._seen(heard)
        if self.panel.demo and not self.panel.off:
            self._own_demo(until_s)
        heard = self._pattern.step(heard) if self._pattern else heard
        for message in self._steps.step(heard) if self._steps else heard:
            if message.status in FOLLOWED:
                continue
            kind, channel = kind_of(message.status), channel_of(message.status)
            for part, receives in enumerate(self.panel.channels):
                if receives == channel or (self.panel.omni and part == 0):
                    self._take(message, kind, part)

    def _take(self, message: Heard, kind: int, part: int) -> None:
        if kind == PROGRAM_CHANGE:
            self._programs[part] = message.data[0]
        elif kind == NOTE_ON and message.data[1] > 0:
            self._latest = [time for time in self._latest if message.time_ns - time < TOGETHER_NS]
            begin_s = self._begin(message.time_ns, part, len(self._latest), self._rng)
            self._latest.append(message.time_ns)
            if self.box.shape in ONE_VOICE and self._last_voice:
                self._change(self._last_voice, choke_s=begin_s)
            place = self._start(message, part, self._programs[part], begin_s)
            self._sounding.setdefault((part, message.data[0]), []).append(place)
            self._last_voice = place
        elif kind in (NOTE_OFF, NOTE_ON):
            for place in self._sounding.pop((part, message.data[0]), []):
                self._change(place, key_up_s=message.time_ns / 1e9 + self.hidden.reaction_ms[part] / 1e3)

    def _own_demo(self, until_s: float) -> None:
        notes = tuple(DRUMS) if self.box.shape == "drum-machine" else DEMO_NOTES
        while (begin_s := DEMO_FROM_S + DEMO_STEP_S * self._demo_hits) < until_s:
            told = Heard(round(begin_s * 1e9), NOTE_ON, (notes[self._demo_hits % len(notes)], 96))
            place = self._start(told, 0, 0, begin_s)
            self._change(place, key_up_s=begin_s + 0.8 * DEMO_STEP_S)
            self._demo_hits += 1

    def _begin(self, heard_ns: int, part: int, together: int, rng: np.random.Generator) -> float:
        reaction = self.hidden.reaction_ms[part] + self.hidden.per_note_ms * together
        # A processor can hesitate but never answer before it was asked.
        wobble = max(-0.8 * reaction, self.hidden.jitter_ms * float(rng.standard_normal()))
        return heard_ns / 1e9 + (reaction + wobble) / 1000

    def _start(self, message: Heard, part: int, program: int, begin_s: float) -> tuple[str, int]:
        note, velocity = message.data
        voice_name, patch = self._patch(note, program)
        out = next((s.label for s in self.box.sockets if s.separate and s.separate == voice_name), "")
        if out not in self._cabled:
            out = "main"
        chordal = self.box.shape not in (*ONE_VOICE, "drum-machine")
        hot = HOT_DB if self.box.shape.startswith("modular") else 0.0
        gain = (velocity / 127) ** 1.3 * 10 ** ((self.panel.level_db + hot - (11 if chordal else 6)) / 20)
        pan = 0.35 + 0.3 * ((note * 5) % 12) / 11 if chordal else 0.5
        voice = Voice(patch, pitch_hz(note), gain, pan, begin_s, np.inf, np.inf, seed=note * 7 + len(self.log))
        voices = self.outs.setdefault(out, [])
        voices.append(voice)
        self.log.append(Played(self.box.uid, part, note, velocity, message.time_ns, begin_s, voice_name))
        return out, len(voices) - 1

    def _patch(self, note: int, program: int) -> tuple[str, Patch]:
        if self.box.shape == "drum-machine":
            return DRUMS.get(note, TOM)
        patches = MONO_PATCHES if self.box.shape in ONE_VOICE else POLY_PATCHES
        return "", patches[program % len(patches)]

    def _change(self, place: tuple[str, int], **changes: float) -> None:
        out, index = place
        self.outs[out][index] = replace(self.outs[out][index], **changes)

    def render(self, time_s: np.ndarray, late_s: float = 0.0) -> dict[str, np.ndarray]:
        """What leaves each audio out at these ascending times, by label, where anything does. A lone left main out
        carries both sides. late_s: names a listener who hears it so much later; each goes on from where they last
        were."""
        outs: dict[str, np.ndarray] = {}
        labels = {s.label for s in self.box.sockets if s.kind == "audio" and s.direction == "out"}
        paired = {"L", "R"} <= labels & self._cabled
        mains = [s.label for s in self.box.sockets if s.label in labels and not s.separate]
        for out, voices in self.outs.items():
            head = self._heads.get((out, late_s)) or self._heads.setdefault((out, late_s), _Head(voices))
            for voice in head.sounding(time_s[0], time_s[-1]):
                sound = voice.render(time_s)
                for label in mains if out == "main" else (out,):
                    side = 1.0
                    if out == "main" and paired:
                        side = 1.4 * (1.0 - voice.pan if label == "L" else voice.pan)
                    outs[label] = outs[label] + side * sound if label in outs else side * sound
        if self._swing:
            gains = self._swing.at(time_s)
            outs = {label: sound * gains for label, sound in outs.items()}
        return outs


class _Head:
    """Which voices sound in a stretch of time, found as a tape's head passes: what is past or to come costs nothing.
    Voices that are added meanwhile begin behind the head."""

    def __init__(self, voices: list[Voice]) -> None:
        self.voices = voices
        self._rewind()

    def _rewind(self) -> None:
        self._known, self._from_s = 0, -np.inf
        self._coming: list[tuple[float, int]] = []
        self._now: list[int] = []

    def sounding(self, first_s: float, last_s: float) -> Iterator[Voice]:
        """Voices that sound between two times, in the order in which they were struck."""
        if first_s < self._from_s:
            self._rewind()
        self._from_s = first_s
        for place in range(self._known, len(self.voices)):
            heappush(self._coming, (self.voices[place].begin_s, place))
        self._known = len(self.voices)
        while self._coming and self._coming[0][0] <= last_s:
            self._now.append(heappop(self._coming)[1])
        self._now = sorted(place for place in self._now if self.voices[place].end_s >= first_s)
        return (self.voices[place] for place in self._now)


class Steps:
    """What an arpeggiator makes of what it hears: keys are held, and each sixteenth of a clock that runs sounds the
    next of them for half its length. The first clock after start or continue is the first step (MIDI 1.0)."""

    def __init__(self) -> None:
        self._held: dict[tuple[int, int], Heard] = {}
        self._sounding: Heard | None = None
        self._running, self._count, self._turn = False, 0, 0

    def step(self, heard: Iterable[Heard]) -> Iterator[Heard]:
        """What it plays for these messages."""
        for message in heard:
            kind, channel = kind_of(message.status), channel_of(message.status)
            if message.status in (START, CONTINUE, STOP):
                self._running = message.status != STOP
                if message.status == START:
                    self._count, self._turn = 0, 0
                yield from self._stopped(message.time_ns) if message.status == STOP else ()
            elif message.status == CLOCK:
                yield from self._tick(message.time_ns) if self._running else ()
            elif kind == NOTE_ON and message.data[1] > 0:
                self._held[channel, message.data[0]] = message
            elif kind in (NOTE_OFF, NOTE_ON):
                self._held.pop((channel, message.data[0]), None)
            else:
                yield message

    def _tick(self, time_ns: int) -> Iterator[Heard]:
        if self._count % CLOCKS_A_STEP == 0:
            keys = [self._held[key] for key in sorted(self._held)]
            self._sounding = replace(keys[self._turn % len(keys)], time_ns=time_ns) if keys else None
            self._turn += 1
            if self._sounding:
                yield self._sounding
        elif self._count % CLOCKS_A_STEP == GATE_CLOCKS and self._sounding:
            yield _let_go(self._sounding, time_ns)
            self._sounding = None
        self._count += 1

    def _stopped(self, time_ns: int) -> Iterator[Heard]:
        """A step that a stop cuts short rings for its while."""
        if self._sounding:
            yield _let_go(self._sounding, max(time_ns, self._sounding.time_ns + STEP_RINGS_NS))
            self._sounding = None


class Pattern:
    """What a drum machine or sequencer makes of what it hears: its own pattern, a sixteenth every six clocks, begun by
    start, gone on with by continue, from where song position puts it. The first clock after start is its first step
    (MIDI 1.0). No bar is like another, so that where it stands can be heard."""

    def __init__(self, box: Box, panel: FrontPanel) -> None:
        self.panel, self.channel = panel, panel.channels[0]
        rng = np.random.default_rng(zlib.crc32(f"pattern {box.uid}".encode()))
        drums = box.shape == "drum-machine"
        self._hits = [self._bar(rng, bar, drums) for bar in range(panel.pattern_bars)]
        self._running, self._fresh, self.count = False, False, 0
        self._sounding: list[Heard] = []

    @staticmethod
    def _bar(rng: np.random.Generator, bar: int, drums: bool) -> dict[int, tuple[int, int]]:
        """(note, velocity) by the sixteenth of one bar."""
        places = sorted({0, *rng.choice(16, size=6 + bar % 3, replace=False).tolist()})
        notes = tuple(DRUMS) if drums else (36, 39, 41, 43, 46, 48, 51, 53)
        return {place: (int(notes[int(rng.integers(len(notes)))]), int(rng.integers(80, 120))) for place in places}

    def step(self, heard: Iterable[Heard]) -> Iterator[Heard]:
        """What it hears besides, and what it plays."""
        for message in heard:
            if message.status == START and "start" not in self.panel.ignores:
                if not self._running or RESTART not in self.panel.ignores:
                    self._running, self._fresh, self.count = True, True, 0
            elif message.status == CONTINUE and "continue" not in self.panel.ignores:
                self._running, self._fresh = True, True
            elif message.status == STOP:
                self._running = False
                yield from self._silenced(message.time_ns + STEP_RINGS_NS)
            elif message.status == SONG_POSITION and not self._running and "song position" not in self.panel.ignores:
                self.count = CLOCKS_A_STEP * (message.data[0] | message.data[1] << 7)
            elif message.status == CLOCK and self._running:
                yield from self._tick(message.time_ns)
            yield message

    def _tick(self, time_ns: int) -> Iterator[Heard]:
        fresh, self._fresh = self._fresh, False
        if fresh and self.panel.loses:
            return
        bar, place = divmod(self.count // CLOCKS_A_STEP, 16)
        if self.count % CLOCKS_A_STEP == 0:
            yield from self._silenced(time_ns)
            hit = self._hits[bar % len(self._hits)].get(place)
            if hit:
                self._sounding = [Heard(time_ns, status_of(NOTE_ON, self.channel), hit)]
                yield self._sounding[0]
        elif self.count % CLOCKS_A_STEP == GATE_CLOCKS:
            yield from self._silenced(time_ns)
        self.count += 1

    def _silenced(self, time_ns: int) -> Iterator[Heard]:
        for one in self._sounding:
            yield _let_go(one, time_ns)
        self._sounding = []


class Swing:
    """An LFO that goes by clock: the sound swells at once and falls over its period. Start begins it anew, song
    position puts it where it belongs; every clock counts, whether the song runs or stands."""

    DEPTH = 0.9

    def __init__(self, panel: FrontPanel, hidden: Hidden) -> None:
        self._period, self._ignores = panel.swings_ticks, panel.ignores
        self._late_s = hidden.reaction_ms[0] / 1000
        self._count = 0
        self._times: list[float] = []
        self._counts: list[int] = []

    def hear(self, message: Heard) -> None:
        """Take in what it follows by."""
        if message.status == START and "start" not in self._ignores:
            self._count = 0
        elif message.status == SONG_POSITION and "song position" not in self._ignores:
            self._count = CLOCKS_A_STEP * (message.data[0] | message.data[1] << 7)
        elif message.status == CLOCK:
            self._times.append(message.time_ns / 1e9 + self._late_s)
            self._counts.append(self._count)
            self._count += 1

    def at(self, time_s: np.ndarray) -> np.ndarray:
        """How loud the sound is at these times; before any clock it does not swing."""
        if len(self._times) < 2:
            return np.ones(len(time_s))
        times, counts = np.array(self._times), np.array(self._counts)
        last = np.clip(np.searchsorted(times, time_s, side="right") - 1, 0, len(times) - 1)
        a_clock = float(np.median(np.diff(times[-CLOCKS_A_QUARTER:])))
        since = np.clip((time_s - times[last]) / a_clock, 0.0, 1.0)
        phase = (counts[last] + since) % self._period / self._period
        return np.where(time_s < times[0], 1.0, 1.0 - self.DEPTH * phase)


def _let_go(sounding: Heard, time_ns: int) -> Heard:
    return replace(sounding, time_ns=time_ns, status=status_of(NOTE_OFF, channel_of(sounding.status)))


def panel_as_delivered(box: Box) -> FrontPanel:
    """A unit's settings before anyone touched them; a box that makes no sound has no channels."""
    first = FIRST_CHANNEL.get(box.shape, 1)
    parts = SHAPES[box.shape].parts if box.shape in SHAPES else 0
    return FrontPanel(tuple(range(first, first + parts)))


def dumps_of(box: Box, panel: FrontPanel) -> str:
    """How a box lets its memory out."""
    return panel.dumps or DUMPED.get(box.shape, DUMPS[0])


def hidden_values(box: Box, uid: str) -> Hidden:
    """A unit's nature, fixed by a uid."""
    rng = np.random.default_rng(zlib.crc32(uid.encode()))
    first = float(rng.uniform(2.0, 7.5))
    parts = tuple(round(first + 0.7 * min(part, 3), 3) for part in range(SHAPES[box.shape].parts))
    return Hidden(parts, round(float(rng.uniform(0.1, 0.45)), 3), round(float(rng.uniform(0.05, 0.25)), 3))
