"""A whole session as one value, to be kept outside the program and opened again, here or on another desk.

Its JSON is documented in docs/formats/session.md with a schema that is made from these classes (`session_schema`). Uids
name things only within the archive: what is opened gets new ones. Notes are (tick, duration, note, velocity), controls
(tick, status without channel, first byte, second byte).
"""

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import Any

from cattrs.errors import BaseValidationError

from hypotaxis.core.errors import HypotaxisError, UnreadableFile
from hypotaxis.core.formats.filenames import check_pattern
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.sound import FORMS
from hypotaxis.core.formats.text import json_of
from hypotaxis.core.grid.values import Grid
from hypotaxis.core.midi.dumps import messages_in
from hypotaxis.core.mixing.desk import Fader, Mixing, check_fader
from hypotaxis.core.session.generators import Generator
from hypotaxis.core.session.handover import ITEMS, SOUNDS, Wish
from hypotaxis.core.session.passes import PassSetup
from hypotaxis.core.session.standing import Stretch
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.led import LedRun
from hypotaxis.core.sync.values import LoopSetting
from hypotaxis.core.timing.doubt import Doubt
from hypotaxis.core.timing.measurement import Measurement

FORMAT, VERSION = "hypotaxis-session", 2
MOST_TRACKS, MOST_TAKES, MOST_FAULTS = 256, 20_000, 8
RATES = (8_000, 192_000)
_UID = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}")


@dataclass(frozen=True)
class ArchivedTrack:
    """A track; fields as of records.models.Track, uids of others as text, "" = none."""

    uid: str
    name: str
    order: int
    file_channel: int = 1
    instrument_uid: str = ""
    part_uid: str = ""
    program: int | None = None
    msb: int | None = None
    lsb: int | None = None
    patch_uid: str = ""
    armed: bool = False
    notes: tuple[tuple[int, int, int, int], ...] = ()
    controls: tuple[tuple[int, int, int, int], ...] = ()
    played: tuple[tuple[int, int, int, int], ...] = ()
    grid: dict[str, Any] | None = None
    generator: dict[str, Any] | None = None
    generated: str = ""
    chosen: list[Any] = field(default_factory=list)
    voice_of: str = ""
    voice_notes: tuple[int, ...] = ()
    committed: bool = False
    loop_uid: str = ""
    fed_by: str = ""
    holds_dry: bool = False
    group: str = ""
    mix: dict[str, Any] = field(default_factory=dict)
    away: bool = False


@dataclass(frozen=True)
class ArchivedPass:
    """A pass as it was recorded; fields as of records.models.Pass. started: ISO 8601, "" = not known."""

    uid: str
    number: int
    first_bar: int
    last_bar: int
    setup: dict[str, Any]
    fast: bool = False
    place: bool = True
    seconds: float = 0.0
    accepted: bool = False
    started: str = ""
    tempo: dict[str, Any] | None = None
    led: dict[str, Any] | None = None
    kept_rig: str = ""
    """Among the session's rigs, that on which it was recorded."""
    meters: list[Any] = field(default_factory=list)
    moved: list[Any] = field(default_factory=list)
    lost: list[Any] = field(default_factory=list)


@dataclass(frozen=True)
class ArchivedTake:
    """A take; fields as of records.models.Take. sound: its file in the archive's folder of takes, fitted: that of the
    same sound with its drift taken out; both are Broadcast Waves as they were kept, or FLAC with the wave's head beside
    it (core.formats.flactake). made: ISO 8601."""

    uid: str
    track: str
    run: str
    number: int
    sound: str
    sample_rate: int
    channels: int
    frames: int
    first_sample: int
    made: str = ""
    round: int = 0
    instrument_uid: str = ""
    instrument_name: str = ""
    returns_text: str = ""
    return_uid: str = ""
    return_name: str = ""
    beside: bool = False
    inverted: bool = False
    home_trim_db: float = 0.0
    gain_db: float = 0.0
    trimmed: tuple[int, ...] = ()
    clipped: int = 0
    peak_db: float | None = None
    complete: bool = True
    kept: bool = True
    placement: int | None = None
    measurement: dict[str, Any] | None = None
    hits: list[Any] = field(default_factory=list)
    unmeasured: str = ""
    borrowed: str = ""
    doubts: list[Any] = field(default_factory=list)
    accepted: bool = False
    fitted: str = ""
    fitted_frames: int = 0
    fitted_ppm: float = 0.0


@dataclass(frozen=True)
class ArchivedDump:
    """A box's memory; fields as of records.models.Dump. data: its system exclusive messages as hexadecimal digits;
    made, verified: ISO 8601, "" = never."""

    box_uid: str
    box_name: str
    data: str
    source: str
    made: str = ""
    verified: str = ""


@dataclass(frozen=True)
class ArchivedSession:
    """A session with all that belongs to it. rig: the rig it was made on, as a rig file (docs/formats/rig.md)."""

    name: str
    ticks_per_quarter: int
    tempos: tuple[tuple[int, int], ...]
    meters: tuple[tuple[int, int, int], ...]
    end_tick: int
    rig: dict[str, Any]
    tracks: tuple[ArchivedTrack, ...]
    passes: tuple[ArchivedPass, ...] = ()
    takes: tuple[ArchivedTake, ...] = ()
    sections: tuple[tuple[int, str], ...] = ()
    loop: dict[str, Any] = field(default_factory=dict)
    mix: dict[str, Any] = field(default_factory=dict)
    handover: dict[str, Any] = field(default_factory=dict)
    created: str = ""
    rigs: dict[str, dict[str, Any]] = field(default_factory=dict)
    """The rigs as they stood when its passes were recorded, as rig files, each once, by a name of their own."""
    dumps: tuple[ArchivedDump, ...] = ()
    format: str = FORMAT
    version: int = VERSION


def write_session(session: ArchivedSession) -> str:
    """As text."""
    return json.dumps(to_json(session), ensure_ascii=False, separators=(",", ":"))


def read_session(text: str) -> ArchivedSession:
    """A session out of text. Raises UnreadableFile with what is wrong, the first few faults together."""
    plain = json_of(text, "session.json")
    if not isinstance(plain, dict) or plain.get("format") != FORMAT:
        raise UnreadableFile("This is no session of Hypotaxis: session.json does not say so.")
    version = plain.get("version")
    if not isinstance(version, int) or version < 1:
        raise UnreadableFile("session.json does not say of which version it is.")
    if version > VERSION:
        raise UnreadableFile(
            f"This archive was written by a newer Hypotaxis (version {version} of the format); this one reads up to "
            f"{VERSION}. Nothing was taken in. Open it with the newer one."
        )
    try:
        session = from_json(ArchivedSession, plain)
    except (BaseValidationError, TypeError, ValueError, KeyError, RecursionError) as error:
        raise UnreadableFile(f"session.json is damaged: {_where(error)}. Take the archive anew.") from error
    if faults := _faults(session):
        more = f", and {len(faults) - MOST_FAULTS} more" if len(faults) > MOST_FAULTS else ""
        raise UnreadableFile(f"session.json does not hold together: {'; '.join(faults[:MOST_FAULTS])}{more}.")
    return session


def _where(error: BaseException) -> str:
    """The innermost reason of a fault, with the fields that lead to it."""
    notes = getattr(error, "__notes__", ())
    inner = getattr(error, "exceptions", ())
    if inner:
        return _where(inner[0])
    place = notes[-1].removeprefix("Structuring ") if notes else ""
    return f"{place}: {error}" if place else str(error)


def _faults(session: ArchivedSession) -> list[str]:
    """What does not hold together, in words."""
    found = []
    tracks, runs = {one.uid for one in session.tracks}, {one.uid for one in session.passes}

    def wrong(amiss: bool, told: str) -> None:
        if amiss:
            found.append(told)

    wrong(not session.name.strip() or len(session.name) > 80, "the name is empty or longer than 80 letters")
    wrong(not 1 <= session.ticks_per_quarter <= 32_767, "ticks a quarter are not 1 to 32767")
    wrong(not 0 <= session.end_tick < 2**40, "the end is nowhere")
    tempos, meters = ([row[0] for row in rows] for rows in (session.tempos, session.meters))
    wrong(not tempos or not meters or tempos[0] != 0 or meters[0] != 0, "tempo or meter do not begin at the beginning")
    wrong(tempos != sorted(set(tempos)) or meters != sorted(set(meters)), "tempo or meter changes are out of order")
    wrong(any(not 1000 <= us <= 60_000_000 for _, us in session.tempos), "a tempo is none")
    wrong(any(not 1 <= n <= 255 or d not in (1, 2, 4, 8, 16, 32, 64) for _, n, d in session.meters), "a meter is none")
    wrong(len(session.tracks) > MOST_TRACKS, f"more than {MOST_TRACKS} tracks")
    wrong(len(session.takes) > MOST_TAKES, f"more than {MOST_TAKES} takes")
    uids = [one.uid for rows in (session.tracks, session.passes, session.takes) for one in rows]
    wrong(any(not _UID.fullmatch(uid) for uid in uids), "a uid is none")
    wrong(len(set(uids)) < len(uids), "two things have one uid")
    for one in session.tracks:
        for rows, top in ((one.notes, 127), (one.played, 127), (one.controls, 255)):
            if any(row[0] < 0 or row[1] < 0 or not all(0 <= value <= top for value in row[2:]) for row in rows):
                found.append(f"track {one.name[:40]} has notes or controls out of range")
        others = {one.voice_of, one.fed_by} - {""}
        wrong(not others <= tracks - {one.uid}, f"track {one.name[:40]} belongs to one that is not there")
        wrong(not 1 <= one.file_channel <= 16, f"track {one.name[:40]} has channel {one.file_channel}")
    for one in session.passes:
        wrong(bool(one.kept_rig) and one.kept_rig not in session.rigs, f"the rig of pass {one.number} is not there")
        wrong(not 1 <= one.first_bar <= one.last_bar, f"pass {one.number} has no bars")
    for one in session.takes:
        wrong(one.track not in tracks or one.run not in runs, f"take {one.number} belongs to nothing")
        wrong(one.channels not in (1, 2) or one.frames < 1, f"take {one.number} has no sound")
        wrong(not RATES[0] <= one.sample_rate <= RATES[1], f"take {one.number} has {one.sample_rate} Hz")
        wrong(len(one.trimmed) not in (0, 2), f"take {one.number} is trimmed oddly")
    return found or list(_odd_values(session))


def _odd_values(session: ArchivedSession) -> Iterator[str]:
    """What is inside of it and none of the values that the program knows, in words."""

    def odd(told: str, kind: type, plain: Any, check: Callable[[Any], bool] = lambda value: True) -> Iterator[str]:
        try:
            fine = not plain or check(from_json(kind, plain))
        except (BaseValidationError, HypotaxisError, TypeError, ValueError, KeyError, AttributeError, RecursionError):
            fine = False
        if not fine:
            yield f"{told} is none"

    for one in session.dumps:
        # Of one without data zeros are looked at, which are none either.
        data = one.data or "00"
        yield from odd(f"a dump of {one.box_name[:40]}", str, data, lambda text: messages_in(bytes.fromhex(text)))
    yield from odd("the mix", Mixing, session.mix, lambda one: all(map(check_fader, one.groups.values())))
    yield from odd("the loop", LoopSetting, session.loop, lambda one: 1 <= one.first_bar < 2**20 and one.times >= 0)
    yield from odd("what it hands over", Wish, session.handover, _is_wish)
    for track in session.tracks:
        name = f"of track {track.name[:40]}"
        yield from odd(f"the grid {name}", Grid, track.grid)
        yield from odd(f"the generator {name}", Generator, track.generator)
        yield from odd(f"the level {name}", Fader, track.mix, check_fader)
        yield from odd(f"what stands {name}", list[Stretch], [_stretch(one) for one in track.chosen])
    days = [("it was made", session.created), *((f"pass {one.number} began", one.started) for one in session.passes)]
    days += [(f"take {one.number} was made", one.made) for one in session.takes]
    days += [(f"the dump of {one.box_name[:40]} was kept", one.made) for one in session.dumps]
    days += [(f"the dump of {one.box_name[:40]} was found the same", one.verified) for one in session.dumps]
    for told, day in days:
        yield from odd(f"the day on which {told}", str, day, datetime.fromisoformat)
    rounds = {}
    for run in session.passes:
        yield from odd(
            f"what was frozen of pass {run.number}", PassSetup, run.setup, lambda one: one.rate in range(*RATES)
        )
        yield from odd(f"the tempo of pass {run.number}", TempoMap, run.tempo, lambda one: one.tempos and one.meters)
        yield from odd(f"what led pass {run.number}", LedRun, run.led)
        rounds[run.uid] = max(1, len(run.setup.get("rounds", ())))
    for take in session.takes:
        yield from odd(f"the lateness of take {take.number}", Measurement, take.measurement)
        yield from odd(f"a hit of take {take.number}", list[tuple[float, float, bool]], take.hits)
        yield from odd(f"a doubt of take {take.number}", list[Doubt], take.doubts)
        if not 0 <= take.round < rounds[take.run]:
            yield f"take {take.number} is of a time round that was none"


def _stretch(row: Any) -> dict[str, Any]:
    """A row of what stands by its names; anything else as it is, to be refused."""
    names = ("uid", "first_bar", "last_bar", "moved")
    return dict(zip(names, row, strict=False)) if isinstance(row, list) and len(row) in (3, 4) else row


def _is_wish(wish: Wish) -> bool:
    check_pattern(wish.pattern)
    known = wish.form in FORMS and wish.sounds in SOUNDS and set(wish.items) <= set(ITEMS)
    return known and (not wish.rate or RATES[0] <= wish.rate <= RATES[1])


def with_other_uids(session: ArchivedSession, new: Mapping[str, str]) -> ArchivedSession:
    """The same with other uids wherever one is named, also inside what its passes froze; its rigs stay as they are."""
    plain = to_json(session)
    rigs = {name: plain.pop(name) for name in ("rig", "rigs")}
    text = _UID.sub(lambda found: new.get(found[0], found[0]), json.dumps(plain))
    return from_json(ArchivedSession, json.loads(text) | rigs)


def session_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of what `write_session` writes."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema"} | _schema_of(ArchivedSession)


def _schema_of(kind: Any) -> dict[str, Any]:
    plain = {str: "string", int: "integer", float: "number", bool: "boolean", type(None): "null"}
    if kind in plain:
        return {"type": plain[kind]}
    if hasattr(kind, "__dataclass_fields__"):
        named = {one.name: _schema_of(one.type) for one in fields(kind)}
        return {"type": "object", "properties": named, "required": list(named), "additionalProperties": False}
    origin, inner = getattr(kind, "__origin__", None), getattr(kind, "__args__", ())
    if origin is tuple:
        if inner[-1] is Ellipsis:
            return {"type": "array", "items": _schema_of(inner[0])}
        return {"type": "array", "prefixItems": [_schema_of(one) for one in inner], "items": False}
    if origin in (list, dict):
        return {"type": "array" if origin is list else "object"}
    return {"anyOf": [_schema_of(one) for one in inner]}
