"""Which of the settings on the boxes' panels does what was heard confirm, and which does it contradict?

A setting that nothing heard speaks of is left out: silence has many causes, so it contradicts nothing by itself.
"""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import date

from hypotaxis.core.linecheck.lines import Line, free_channel
from hypotaxis.core.linecheck.verdicts import LOW, Verdict
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.panels import BoxSettings, panel_settings
from hypotaxis.core.rig.shapes import parts_of
from hypotaxis.core.rig.startup import StartStep
from hypotaxis.core.rig.trips import heard_from, trip_of
from hypotaxis.core.units import level_text

CHANNEL, OMNI, LOCAL, CLOCK, NOTES, LEVEL = "channel", "omni", "local", "clock", "notes-from", "level"


@dataclass(frozen=True)
class Found:
    """What was found of a box by a test of its own. on: whether it is so; told: in a sentence; day: ISO 8601."""

    on: bool
    told: str
    day: str


@dataclass(frozen=True)
class HeardSetting:
    """What was heard of a setting. key: it is ticked under; holds: it is as the plan wants it; told: what was heard."""

    key: str
    holds: bool
    told: str
    day: str

    @property
    def on(self) -> date | None:
        """The day as a date."""
        with suppress(ValueError):
            return date.fromisoformat(self.day[:10])
        return None


def heard_settings(
    plan: Plan,
    verdicts: Sequence[tuple[Verdict, str]],
    *,
    channels: Mapping[str, int],
    omni: Mapping[str, Found],
    local: Mapping[str, Found],
    clock: Mapping[str, Found],
) -> dict[str, HeardSetting]:
    """By their keys. verdicts: with the day on which each line was heard; channels: by keys of lines that were silent,
    the channel on which they were found; omni, local, clock: by uids of boxes, what a test of its own has found."""
    found: dict[str, HeardSetting] = {}
    for one in panel_settings(plan):
        mine = [(verdict, day) for verdict, day in verdicts if verdict.line.box == one.box.uid]
        rows = [*_channels(plan, one, mine, channels), *_notes_and_level(one, mine), *_omni(one, omni)]
        rows += [*_local(one, local), *_clock(one, clock)]
        found |= {row.key: row for row in rows}
    return found


def omni_asked(plan: Plan, lines: Sequence[Line]) -> list[tuple[Line, int]]:
    """Lines that ask whether their boxes answer to every channel, one a port, with a channel on which nothing there is
    meant to listen."""
    asked: dict[str, tuple[Line, int]] = {}
    for line in lines:
        free = free_channel(plan, line) if line.port and line.port not in asked else 0
        if free:
            asked[line.port] = (line, free)
    return list(asked.values())


def omni_found(plan: Plan, lines: Sequence[Line], asked: Line, channel: int, moved: Sequence[str]) -> dict[str, bool]:
    """Of the boxes (uids) that hear a port: whether they answered on that channel. Those of several parts listen to
    many channels and are left out, and so are those whose way home they share with others that answered."""
    there = {one.box for one in heard_from(plan.rig, asked.send) if one.channels[channel - 1]}
    found: dict[str, bool] = {}
    for line in lines:
        box = plan.rig.box(line.box)
        if line.port != asked.port or line.box not in there or box is None or parts_of(box.shape, box.setup) > 1:
            continue
        shared = any(one.box != line.box and set(one.inputs) & set(line.inputs) for one in lines)
        if not shared:
            found[line.box] = found.get(line.box, False) or bool(set(line.inputs) & set(moved))
    return found


def _channels(plan: Plan, one: BoxSettings, mine, channels: Mapping[str, int]) -> list[HeardSetting]:
    found = []
    for verdict, day in mine:
        line = verdict.line
        instrument = plan.instrument(line.owner)
        seat = next((seat for seat in instrument.seats if seat.channel == line.channel), None) if instrument else None
        if seat is None:
            continue
        arrives = trip_of(plan.rig, instrument).arrives_on if seat.part == "" else 0
        step = _step(one, CHANNEL, f"-{arrives or line.channel}")
        if step is None:
            continue
        other = channels.get(line.key, 0)
        if set(verdict.heard.moved) & set(line.inputs):
            found.append(HeardSetting(step.key, True, f"It answered on channel {arrives or line.channel}.", day))
        elif other:
            found.append(HeardSetting(step.key, False, f"It answers on channel {other}.", day))
    return found


def _notes_and_level(one: BoxSettings, mine) -> list[HeardSetting]:
    found = []
    for verdict, day in mine:
        if verdict.line.is_effect or not set(verdict.heard.moved) & set(verdict.line.inputs):
            continue
        if step := _step(one, NOTES):
            found.append(HeardSetting(step.key, True, "Its notes came by there.", day))
        if verdict.kind == LOW and (step := _step(one, LEVEL)):
            found.append(HeardSetting(step.key, False, f"It came home at {level_text(verdict.peak_db)} dBFS.", day))
    return found


def _omni(one: BoxSettings, omni: Mapping[str, Found]) -> list[HeardSetting]:
    found, step = omni.get(one.box.uid), _step(one, OMNI)
    if found is None or step is None:
        return []
    return [HeardSetting(step.key, found.on == one.box.setup.omni, found.told, found.day)]


def _local(one: BoxSettings, local: Mapping[str, Found]) -> list[HeardSetting]:
    found, step = local.get(one.box.uid), _step(one, LOCAL)
    if found is None or step is None or one.box.setup.local not in ("on", "off"):
        return []
    return [HeardSetting(step.key, found.on == (one.box.setup.local == "on"), found.told, found.day)]


def _clock(one: BoxSettings, clock: Mapping[str, Found]) -> list[HeardSetting]:
    found, step = clock.get(one.box.uid), _step(one, CLOCK)
    if found is None or step is None:
        return []
    return [HeardSetting(step.key, found.on == (one.box.setup.clock == "external"), found.told, found.day)]


def _step(one: BoxSettings, what: str, ends: str = "") -> StartStep | None:
    """The setting of a box of this kind."""
    begins = f"panel-{one.box.uid}-{what}"
    return next((step for step in one.settings if step.key.startswith(begins) and step.key.endswith(ends)), None)
