"""What does what was heard of the lines say, and what is the likeliest cause?

A line is held against the plan and against the other lines: what two lines have in common, or not, is what tells causes
apart. Causes are ranked: the first is the one that explains most of what all lines show.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from hypotaxis.core.findings.finding import Fix
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.linecheck.hearing import InputHeard, LineHeard, other_sound
from hypotaxis.core.linecheck.lines import Line
from hypotaxis.core.linecheck.questions import Question, Said, Silent, ask
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import set_instrument, set_loop
from hypotaxis.core.rig.trips import heard_from, returns_text, way_home
from hypotaxis.core.units import level_text

AS_PLANNED, NOISY, LATE, CLIPPED, LOW = "as planned", "noisy", "late", "clipped", "too low"
ELSEWHERE, SWAPPED, ONE_SIDE, TWICE = "elsewhere", "swapped", "one side", "twice"
OTHER_BOX, OTHER_SOUND, SILENT, CHANNEL = "another box", "other sound", "silent", "other channel"
AWAY = "not there"
FROM_OUTSIDE = frozenset({NOISY, ELSEWHERE, SWAPPED, ONE_SIDE, TWICE, OTHER_BOX, OTHER_SOUND, LATE, CLIPPED})
"""Kinds that someone who plays meanwhile may have made; such a line is heard twice."""
LATE_OFF_MS = 4.0
"""By how much the first edge may be off a known lateness: it is read from one note only."""
SOUND_DB = 9.0
NOISY_DB = -50.0
"""Where an input rests without anything played."""
SIDES_DB = 6.0
"""How much better the sides must fit crossed than straight."""
LOW_DB, LOWER_DB = -45.0, 12.0
"""A note this low, or so much below its last good check, is told (common practice leaves 20 dB and more above it)."""


@dataclass(frozen=True)
class Cause:
    """Why it may be so. told: in a sentence; desk: what to do by hand; fix: one move in the plan that makes it so."""

    told: str
    desk: str = ""
    fix: Fix | None = field(default=None, compare=False)


OTHER_SOUND_CALLED = Cause("Another sound is called up on the box.", "Send all sounds, or choose it on the box.")


@dataclass(frozen=True)
class Verdict:
    """What is said of a line. kind: one of the above; causes: the likeliest first."""

    line: Line
    heard: LineHeard
    kind: str
    told: str
    causes: tuple[Cause, ...] = ()
    question: Question | None = None
    """What the person could say next."""

    @property
    def fine(self) -> bool:
        return self.kind == AS_PLANNED

    @property
    def peak_db(self) -> float:
        """The loudest of its own inputs."""
        return max((one.peak_db for uid in self.line.inputs if (one := self.heard.of(uid))), default=-120.0)

    @property
    def late_ms(self) -> float | None:
        """Of the first edge at its own inputs."""
        known = [one.late_ms for uid in self.line.inputs if (one := self.heard.of(uid)) and one.late_ms is not None]
        return min(known, default=None)


def verdicts(
    plan: Plan,
    heard: Mapping[Line, LineHeard],
    *,
    answers_on: Mapping[str, int] | None = None,
    good: Mapping[str, LineHeard] | None = None,
    away: Mapping[str, Sequence[str]] | None = None,
    replied: Mapping[str, bool] | None = None,
    told: Mapping[str, Mapping[str, bool]] | None = None,
) -> tuple[Verdict, ...]:
    """Of all lines that were asked for. By their keys: answers_on: the channel on which a silent one was found; good:
    what its last good check heard; away: system names that were not there, so that it was not played; replied: whether
    a silent one's box told who it is; told: what the person answered (see `questions`)."""
    away = away or {}
    there = {line: one for line, one in heard.items() if not away.get(line.key)}
    desk = _Desk(plan, there, answers_on or {}, good or {}, replied or {}, told or {})
    return tuple(
        _away(line, heard[line], away[line.key]) if away.get(line.key) else desk.verdict(line) for line in heard
    )


def _away(line: Line, found: LineHeard, names: Sequence[str]) -> Verdict:
    told = f"Not checked: {' and '.join(names)} {'is' if len(names) == 1 else 'are'} not there now."
    cause = Cause(
        "Its device is off or unplugged, or has another name now.",
        "Switch it on; or recognise it on Ports.",
    )
    return Verdict(line, found, AWAY, told, (cause,))


class _Desk:
    def __init__(self, plan, heard, answers_on, good, replied, told) -> None:
        self.plan, self.heard, self.answers_on, self.good = plan, heard, answers_on, good
        self.replied, self.told = replied, told

    def text(self, uids: Sequence[str]) -> str:
        return returns_text(self.plan.rig, tuple(uids))

    def name(self, uid: str) -> str:
        box = self.plan.rig.box(uid)
        return box.name if box else "its box"

    def verdict(self, line: Line) -> Verdict:
        found = self.heard[line]
        mine = [uid for uid in line.inputs if uid in found.moved]
        other = [uid for uid in found.moved if uid not in line.inputs]
        if not found.moved:
            return self._silent(line, found)
        if not mine:
            return self._elsewhere(line, found, other)
        if len(mine) < len(line.inputs):
            return self._one_side(line, found, mine, other)
        if other:
            return self._more(line, found, mine, other)
        return self._compared(line, found)

    # --- it came somewhere

    def _elsewhere(self, line: Line, found: LineHeard, other: list[str]) -> Verdict:
        there, here = self.text(_in_order(self.plan, other)), self.text(line.inputs)
        partner = self._swapped_with(line, other)
        if partner:
            told = f"Came home on {there}, and {partner.name} on {here}: they are swapped."
            one, two = self.name(line.box), self.name(partner.box)
            cause = Cause(
                f"The cables of {one} and {two} are swapped at the inputs.",
                f"Plug {one} into {here}, and {two} into {self.text(partner.inputs)}.",
                self._comes_by(line, other),
            )
            return Verdict(line, found, SWAPPED, told, (cause, self._wrong_box(line, other)))
        told = f"Came home on {there} instead of {here}."
        causes = [
            Cause(
                f"The cable of {self.name(line.box)} is plugged into {there}.",
                f"Plug it back into {here}.",
                self._comes_by(line, other),
            )
        ]
        if self._owners(other) - {line.box}:
            # Another box's input: that box may have played instead.
            wrong = self._wrong_box(line, other)
            owner_lines = [one for one in self.heard if set(one.inputs) & set(other) and one.box != line.box]
            alike = any(set(self.heard[one].moved) & set(other) for one in owner_lines)
            causes = [wrong, *causes] if alike else [*causes, wrong]
        return Verdict(line, found, ELSEWHERE if len(causes) == 1 or causes[0].fix else OTHER_BOX, told, tuple(causes))

    def _wrong_box(self, line: Line, other: Sequence[str]) -> Cause:
        names = " and ".join(sorted(self.name(box) for box in self._owners(other) if box != line.box)) or "Another box"
        return Cause(
            f"{names} answers on channel {line.channel}, and {self.name(line.box)} does not.",
            f"Set {names} to its own channel, omni off; then look at {self.name(line.box)}.",
        )

    def _comes_by(self, line: Line, other: Sequence[str]) -> Fix | None:
        """Let the plan have it come home where it did."""
        inputs = tuple(_in_order(self.plan, other))[:2]
        if "/" in line.key and line.key.partition("/")[2]:
            return None
        words = f"Let {line.name} come home on {self.text(inputs)}"
        change = set_loop if self.plan.loop(line.owner) else set_instrument
        return Fix(words, lambda plan: change(plan, line.owner, returns=inputs))

    def _swapped_with(self, line: Line, other: Sequence[str]) -> Line | None:
        for one, found in self.heard.items():
            theirs, there = set(one.inputs), set(found.moved)
            if one.box != line.box and theirs & set(other) and there & set(line.inputs) and not there & theirs:
                return one
        return None

    def _one_side(self, line: Line, found: LineHeard, mine: list[str], other: list[str]) -> Verdict:
        missing = [uid for uid in line.inputs if uid not in mine]
        lost = self.text(missing)
        copied = bool(other) and found.copied(mine[0], other[0]) is not None
        if other and (copied or not self._owners(other) - {line.box}):
            told = f"One side came home on {self.text(other)} instead of {lost}."
            cause = Cause(
                f"One cable of {self.name(line.box)} is plugged into {self.text(other)}.", f"Plug it back into {lost}."
            )
            return Verdict(line, found, ELSEWHERE, told, (cause,))
        told = f"Only {self.text(mine)} heard it; {lost} stayed silent."
        causes = (
            Cause(
                f"The cable to {lost} is out, at {self.name(line.box)} or at the interface.", f"Plug it into {lost}."
            ),
            Cause(
                f"{self.name(line.box)} plays mono on one socket, or is panned to one side.",
                f"Set it to both sides; or let {line.name} come home in mono.",
            ),
        )
        return Verdict(line, found, ONE_SIDE, told, causes)

    def _more(self, line: Line, found: LineHeard, mine: list[str], other: list[str]) -> Verdict:
        apart = [(uid, found.copied(uid, mine[0])) for uid in other]
        copies = [(uid, ms) for uid, ms in apart if ms is not None]
        # Two boxes that play one note may sound alike: who hears the same wire answers, too.
        hearing = {reached.box for reached in heard_from(self.plan.rig, line.send)} - {line.box}
        if copies and len(copies) == len(other) and not self._owners(other) & hearing:
            uid, ms = copies[0]
            late = f"{abs(ms):.1f} ms {'later' if ms >= 0 else 'earlier'}"
            told = f"Came twice: on {self.text(mine)} and, {late}, on {self.text([uid])}."
            cause = Cause(
                f"{self.name(line.box)} is plugged twice, or a mixer sends it on to {self.text([uid])}.",
                f"Take the second way to {self.text([uid])} out, or mute it.",
            )
            return Verdict(line, found, TWICE, told, (cause,))
        owners = sorted(self.name(box) for box in self._owners(other) if box != line.box)
        names = " and ".join(owners) or "Something"
        told = f"{names} answered too, on {self.text(_in_order(self.plan, other))}."
        causes = (
            Cause(
                f"{names} is in omni, and plays channel {line.channel} beside its own.",
                f"On {names} set omni off, and its own channel alone.",
            ),
            Cause(f"{names} is set to channel {line.channel}, too.", f"Set {names} to its own channel."),
        )
        return Verdict(line, found, OTHER_BOX, told, causes)

    def _owners(self, uids: Sequence[str]) -> set[str]:
        """The boxes whose lines come home on these inputs."""
        return {line.box for line in self.heard if set(line.inputs) & set(uids)}

    # --- nothing came

    def _silent(self, line: Line, found: LineHeard) -> Verdict:
        box = self.name(line.box)
        if channel := self.answers_on.get(line.key):
            told = f"Silent on channel {line.channel}; it answers on channel {channel}."
            cause = Cause(
                f"{box} is set to channel {channel}.",
                f"On {box} set the receive channel to {line.channel}.",
                Fix(
                    f"Let {line.name} be sent on channel {channel}",
                    lambda p: set_instrument(p, line.owner, channel=channel),
                )
                if line.key.endswith("/")
                else None,
            )
            return Verdict(line, found, CHANNEL, told, (cause,))
        loud = [one for uid in line.inputs if (one := found.of(uid)) and one.rest_db > NOISY_DB]
        if loud:
            told = f"Cannot be told: at {self.text(line.inputs)} {_noise(loud)} sounds all the time."
            return Verdict(line, found, NOISY, told, self._why_noisy(line))
        told = "Silent: nothing came home anywhere."
        known = self.replied.get(line.key)
        if known is not None:
            told += f" {box} told who it is when it was asked." if known else f" {box} did not answer who it is."
        open_ends = list(self._on_the_sheet(line, box))
        # What the sheet itself says is open need not be asked for.
        next_ = None if open_ends else ask(self._as_asked(line, box), self.told.get(line.key, {}))
        by_answers = [Cause(f"By your answers: {next_.told}", next_.desk)] if isinstance(next_, Said) else []
        causes = (*by_answers, *open_ends, *self._why_silent(line, box))[:3]
        return Verdict(line, found, SILENT, told, causes, next_ if isinstance(next_, Question) else None)

    def _as_asked(self, line: Line, box: str) -> Silent:
        """What is known of a silent line before anything is asked of the person."""
        if line.is_effect:
            return Silent(box, "", self.text(line.inputs), is_effect=True)
        others = [one for one in self.heard if one is not line and one.send == line.send]
        leaves = any(self.heard[one].moved for one in others)
        arrives = bool(self.replied.get(line.key)) or self._passes_on(line)
        arrives = arrives or any(one.box == line.box and self.heard[one].moved for one in others)
        return Silent(box, self._send(line), self.text(line.inputs), leaves=leaves, arrives=arrives)

    def _passes_on(self, line: Line) -> bool:
        """Whether a box behind it in its chain answered."""
        order = list(dict.fromkeys(reached.box for reached in heard_from(self.plan.rig, line.send)))
        behind = order[order.index(line.box) + 1 :] if line.box in order else []
        return any(one.box in behind and one.send == line.send and self.heard[one].moved for one in self.heard)

    def _on_the_sheet(self, line: Line, box: str):
        """What the plan itself says is open."""
        rig = self.plan.rig
        if not line.is_effect and not any(one.box == line.box for one in heard_from(rig, line.send)):
            yield Cause(
                f"On the sheet no cable leads from {self._send(line)} to {box}.", "Cable it, and draw the cable."
            )
        lost = [uid for uid in line.inputs if not way_home(rig, uid, line.box)] if line.box else []
        if lost:
            yield Cause(
                f"On the sheet nothing brings {box} home to {self.text(lost)}.", "Cable it, and draw the cable."
            )

    def _why_silent(self, line: Line, box: str):
        home, others = self.text(line.inputs), [one for one in self.heard if one is not line]
        audio = Cause(f"The cable from {box} to {home} is out.", f"Plug {box} into {home}.")
        off = Cause(f"{box} is off, or its volume is down.", f"Switch {box} on, its level all the way up.")
        if line.is_effect:
            return [
                Cause(
                    f"The cable from the interface to {box}, or from it to {home}, is out.", f"Plug both ends of {box}."
                ),
                off,
            ]
        same = [one for one in others if one.box == line.box]
        if any(self.heard[one].moved for one in same):
            return [
                Cause(f"This part of {box} is set to another channel than {line.channel}, or switched off.",
                      f"On {box} set the part to channel {line.channel}."),
                audio,
            ]  # fmt: skip
        way = Cause(
            f"No note reaches {box}: its MIDI cable is out.", f"Plug its MIDI cable, from {self._send(line)} on."
        )
        order = list(dict.fromkeys(reached.box for reached in heard_from(self.plan.rig, line.send)))
        answered = {one.box for one in others if one.send == line.send and self.heard[one].moved}
        asked = {one.box for one in others if one.send == line.send}
        place = order.index(line.box) if line.box in order else 0
        before = [one for one in order[:place] if one in asked]
        behind = [one for one in order[place + 1 :] if one in asked]
        if self.replied.get(line.key) or self._passes_on(line):
            # Notes pass through it, so it is on and cabled; its channels have been asked.
            return [audio, Cause(f"{box}'s volume is down.", f"Turn {box} all the way up.")]
        if before and before[-1] not in answered:
            first = next(one for one in before if one not in answered)
            stops = Cause(
                f"Nothing passes {self.name(first)}, which is silent before it in the chain.",
                f"Mend {self.name(first)} first, then check {line.name} again.",
            )
            return [stops, way, off]
        if behind or (asked and not answered) or self.replied.get(line.key) is False:
            return [way, off, audio]
        return [audio, off, way]

    def _send(self, line: Line) -> str:
        return self.plan.rig.socket_text(line.send)

    # --- it came where it should

    def _compared(self, line: Line, found: LineHeard) -> Verdict:
        mine = {uid: found.of(uid) for uid in line.inputs}
        if any(one.clipped for one in mine.values()):
            cause = Cause("Too hot at the input.", "Turn the preamp down, the box all the way up.")
            return Verdict(line, found, CLIPPED, "Came home as planned, and clips.", (cause,))
        verdict = Verdict(line, found, AS_PLANNED, "As planned.")
        if line.late_ms is not None and abs(verdict.late_ms - line.late_ms) > LATE_OFF_MS:
            told = f"Came home as planned, {verdict.late_ms:+.1f} ms late; known is {line.late_ms:+.1f} ms."
            cause = Cause("Buffer, driver or sound is another than when it was measured.", "Take a sounding on Timing.")
            return replace(verdict, kind=LATE, told=told, causes=(cause,))
        before = self.good.get(line.key)
        if crossed := self._crossed(line, verdict, before):
            return crossed
        if low := self._low(line, verdict, before):
            return low
        if before:
            then = {uid: one for uid in line.inputs if (one := before.of(uid)) and one.moved}
            if then and other_sound(mine, then) > SOUND_DB:
                told = "Came home as planned, with another sound than before."
                return replace(verdict, kind=OTHER_SOUND, told=told, causes=(OTHER_SOUND_CALLED,))
        loud = [one for one in mine.values() if one.rest_db > NOISY_DB]
        if loud:
            told = f"Came home as planned, over {_noise(loud)}."
            return replace(verdict, kind=NOISY, told=told, causes=self._why_noisy(line))
        return verdict

    def _crossed(self, line: Line, verdict: Verdict, before: LineHeard | None) -> Verdict | None:
        """Left and right the other way round than in the last good check, where its sides can be told apart."""
        now, then = (
            [one.peak_db for uid in line.inputs if heard and (one := heard.of(uid))]
            for heard in (verdict.heard, before)
        )
        if len(now) != 2 or len(then) != 2:
            return None
        straight = abs(now[0] - then[0]) + abs(now[1] - then[1])
        crossed = abs(now[0] - then[1]) + abs(now[1] - then[0])
        if crossed + SIDES_DB > straight:
            return None
        left, right = (self.text([uid]) for uid in line.inputs)
        told = "Left and right are swapped, against its last good check."
        cause = Cause(
            f"The two cables of {self.name(line.box)} are swapped.",
            f"Plug its left into {left}, its right into {right}.",
        )
        return replace(verdict, kind=SWAPPED, told=told, causes=(cause, OTHER_SOUND_CALLED))

    def _low(self, line: Line, verdict: Verdict, before: LineHeard | None) -> Verdict | None:
        then = [one.peak_db for uid in line.inputs if before and (one := before.of(uid)) and one.moved]
        less = max(then) - verdict.peak_db if then else 0.0
        if verdict.peak_db >= LOW_DB and less <= LOWER_DB:
            return None
        known = f", {less:.0f} dB below its last good check" if less > LOWER_DB else ""
        told = f"Came home as planned, at {level_text(verdict.peak_db)} dBFS{known}: too low."
        cause = Cause(
            f"{self.name(line.box)}'s volume, or the gain of {self.text(line.inputs)}, is down.",
            "Turn the box all the way up first, then the gain.",
        )
        return replace(verdict, kind=LOW, told=told, causes=(cause,))

    def _why_noisy(self, line: Line) -> tuple[Cause, ...]:
        order = list(self.heard)
        before = order[order.index(line) - 1] if order.index(line) else None
        box = Cause(
            "Something sounds there without being played: a box that drones, or an open microphone.",
            "Mute it, or listen to it alone.",
        )
        mains = [one.hum_hz for uid in line.inputs if (one := self.heard[line].of(uid)) and one.hum_hz]
        if mains:
            cable = (
                "Power the box and the interface from one outlet; try a balanced cable, or an isolating transformer."
            )
            return (Cause(f"The mains hums there, at {mains[0]} Hz: a ground loop, or a broken shield.", cable), box)
        if before and set(before.inputs) & set(line.inputs):
            rings = Cause(f"{before.name}, played just before, rings on there.", f"Check {line.name} again alone.")
            return (rings, box)
        return (box,)


def _noise(loud: Sequence[InputHeard]) -> str:
    worst = max(loud, key=lambda one: one.rest_db)
    return f"{f'hum at {worst.hum_hz} Hz' if worst.hum_hz else 'noise'} of {level_text(worst.rest_db)} dBFS"


def _in_order(plan: Plan, uids: Sequence[str]) -> list[str]:
    """Inputs as they stand on the interface."""
    places = _places(plan)
    return sorted(uids, key=lambda uid: places.get(uid, 0))


@kept_with_it
def _places(plan: Plan) -> dict[str, int]:
    return {socket.uid: number for number, (_, socket) in enumerate(plan.rig.each_socket())}
