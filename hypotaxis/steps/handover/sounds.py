"""The sounds that are handed over: which they are, and each as a file on the time line of them all.

What stands of a track leaves as its take as it was recorded where one take stands whole, otherwise joined in seams.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO
from uuid import UUID

import numpy as np
from django.utils import timezone

from hypotaxis.core.formats.sound import BYTES, FLAC, WAVE_FLOAT, Form, at_rate, resampled, write_sound
from hypotaxis.core.formats.wave import Broadcast, Naming
from hypotaxis.core.mixing.desk import Heard, Strip, heard, mixed
from hypotaxis.core.mixing.joined import Joined
from hypotaxis.core.mixing.one_sided import live_side
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.handover import GROUPS, TAKES, FileLine, Wish, file_line
from hypotaxis.core.units import factor_to_db
from hypotaxis.records import audio
from hypotaxis.records.models import Session, Take, Track
from hypotaxis.records.patch_lists import programs_of
from hypotaxis.records.plan import notes_of, tracks_of
from hypotaxis.records.session_mix import SessionMix
from hypotaxis.records.standing import KnownTake, placed_takes, whole_takes
from hypotaxis.records.track_sound import TrackSound

SIDES = ("left", "right")
KEPT_WAVES = 100
"""How many handed-over files are kept; all of them can be made again."""
Told = Callable[[int], None]
"""Told how many frames have been worked off."""


@dataclass(frozen=True, eq=False)
class Source:
    """A sound that can be handed over."""

    title: str
    words: Mapping[str, str]
    """What its file may be named by (core.formats.filenames)."""
    rate: int
    channels: int
    first: int
    """Session position of its first frame."""
    frames: int
    blocks: Callable[[], Iterator[np.ndarray]]
    """Its frames, shape (frames, channels), as they are handed over; raises SoundLost, also on the way."""
    told: str
    """What it is, in words."""
    recorded: datetime
    key: str = ""
    """What its sound depends on, where it is kept for a while."""
    uid: str = ""
    """Of its take, "" of what is joined or summed."""
    over: bool = False

    @cached_property
    def live_side(self) -> int | None:
        """The only side that is alive, of two; read once for all of its files. Raises SoundLost."""
        return live_side(self.blocks()) if self.channels == 2 else None

    """It may go beyond full scale: it is a sum, or turned up."""


@dataclass(frozen=True)
class Delivered:
    """A file that was made. begins: sample of the files' time line, at its rate; told: what is to be said of it."""

    name: str
    title: str
    begins: int
    frames: int
    rate: int
    channels: int
    told: tuple[str, ...] = ()
    track: str = ""
    """Name of its track, or group."""


def time_line(session: Session, plan: Plan) -> FileLine:
    """The time line of a session's files as it is now."""
    tracks = tracks_of(session)
    return line_of(session, plan, tracks, placed_takes(session, tracks))


def line_of(session: Session, plan: Plan, tracks: Sequence[Track], takes: Sequence[KnownTake]) -> FileLine:
    """The time line of files of these tracks and takes: with whole bars in front where a take begins before the
    session's zero, or a sound must be called up before it, a gap ahead of the first note."""
    rate = takes[0].rate if takes else session.rig.sample_rate
    starts = [take.start for take in takes]
    called = programs_of(tracks)
    for track in tracks:
        instrument = plan.instrument(track.instrument_uid)
        if track.is_written and instrument and called[track.uid] and len(notes := notes_of(track)):
            first = float(session.tempo_map.samples_at(notes["tick"].min(), rate))
            starts.append(round(first - instrument.gap_ms * rate / 1000))
    return file_line(session.tempo_map, starts, rate)


def sources(
    session: Session, tracks: Sequence[Track], takes: Sequence[KnownTake], stands: Mapping[UUID, TrackSound], wish: Wish
) -> list[Source]:
    """The sounds that a wish asks for, of takes of these tracks that are placed and whose sound is there. stands: of
    each track (uid) what stands of it."""
    wanted = [take for take in takes if not wish.tracks or str(take.track) in wish.tracks]
    if wish.sounds == TAKES:
        whole = whole_takes(session, [take.uid for take in wanted], tracks)
        return [_of_take(whole[take.uid], wish) for take in wanted if take.uid in whole]
    if wish.sounds == GROUPS:
        return _of_groups(session, wanted)
    return list(_of_tracks(session, wanted, stands, wish))


def of_take(take: Take) -> Source:
    """A take by itself, as it is set."""
    return _of_take(take, Wish(whole=True))


def of_track(sound: TrackSound, wish: Wish | None = None) -> Source:
    """What stands of a track, joined."""
    first, last = sound.span
    track = sound.track
    bars = (sound.stretches[0].first_bar, sound.stretches[-1].last_bar)
    return Source(
        title=track.name,
        words=_words(track.session, track, timezone.now(), bars) | {"take": "what stands"},
        rate=sound.rate,
        channels=sound.channels,
        first=first,
        frames=last - first,
        blocks=sound.standing_blocks,
        told=f"{track.session.name}: {track.name}, what stands: {', '.join(sound.told)}",
        recorded=timezone.localtime().replace(tzinfo=None),
        key=sound.key,
        over=wish is None or wish.as_set,
    )


def _of_tracks(
    session: Session, takes: Sequence[KnownTake], stands: Mapping[UUID, TrackSound], wish: Wish
) -> Iterator[Source]:
    # What else came home of a take that stands stands with it.
    runs = {track: {sound.takes[one.uid].run_id for one in sound.stretches} for track, sound in stands.items()}
    beside = [take for take in takes if take.beside and take.run in runs.get(take.track, ())]
    whole = whole_takes(session, [take.uid for take in beside], [sound.track for sound in stands.values()])
    for track in dict.fromkeys(take.track for take in takes if take.track in stands):
        sound = stands[track]
        if sound.is_joined:
            yield of_track(sound, wish)
        else:
            yield _of_take(sound.takes[sound.stretches[0].uid], wish)
        for take in beside:
            if take.track == track and take.uid in whole:
                yield _of_take(whole[take.uid], wish)


def _of_take(take: Take, wish: Wish) -> Source:
    bars = take.bars_left if take.trimmed and not wish.whole else take.bars
    first, frames, blocks = take.start, take.sound_file[1], _blocks(take, wish)
    if take.trimmed and not wish.whole and not take.beside:
        cut = TrackSound(take.track, [take], only_placed=True, plain=not wish.as_set)
        (first, last), blocks = cut.span, cut.standing_blocks
        frames = last - first
    return Source(
        title=f"{take.title}, take {take.number}",
        words=_words(take.session, take.track, take.made, bars)
        | {"take": f"take {take.number}", "instrument": take.instrument_name}
        | ({"track": take.title} if take.beside else {}),
        rate=take.sample_rate,
        channels=take.channels,
        first=first,
        frames=frames,
        blocks=blocks,
        told=_told(take, wish),
        recorded=timezone.localtime(take.made).replace(tzinfo=None),
        key=f"{take.uid}-{take.placement}-{take.fitted_ppm:g}-{take.factor:.4f}",
        uid=str(take.uid).replace("-", "")[:32],
        over=wish.as_set and abs(take.factor) > 1,
    )


def _blocks(take: Take, wish: Wish) -> Callable[[], Iterator[np.ndarray]]:
    file, frames = take.sound_file
    gain = take.factor if wish.as_set else 1.0

    def read() -> Iterator[np.ndarray]:
        with audio.take_blocks(file, frames, "float64") as blocks:
            for block in blocks:
                # Untouched samples stay exactly as recorded.
                yield block if gain == 1 else block * gain

    return read


def _of_groups(session: Session, takes: Sequence[KnownTake]) -> list[Source]:
    """The sum of each group, its tracks at their levels and sides in it; what is muted is in it, too."""
    mix = SessionMix(session, rate=session.rig.sample_rate)
    wanted = {str(take.track) for take in takes}
    tracks = [one for one in mix.tracks if one.sound and one.key in wanted and one.row.group]
    found = []
    for name in dict.fromkeys(one.row.group for one in tracks):
        mine = [one for one in tracks if one.row.group == name]
        strips = [Strip(one.key, replace(one.row.fader, muted=False, soloed=False), name) for one in mine]
        group = replace(session.mixing.of_group(name), muted=False, soloed=False)
        faders = heard(strips, {name: group})
        spans = [one.sound.span for one in mine]
        first, last = min(span[0] for span in spans), max(span[1] for span in spans)
        found.append(
            Source(
                title=name,
                words=_words(session, mine[0].row, timezone.now(), None)
                | {"track": name, "group": name, "take": "group", "instrument": "", "bars": ""},
                rate=mix.rate,
                channels=2,
                first=first,
                frames=last - first,
                blocks=lambda mine=mine, faders=faders, first=first, last=last: _summed(mix, mine, faders, first, last),
                told=f"{session.name}: {name}, the sum of {', '.join(one.row.name for one in mine)}",
                recorded=timezone.localtime().replace(tzinfo=None),
                over=True,
            )
        )
    return found


def _summed(mix: SessionMix, tracks: Sequence, faders: Mapping, first: int, last: int) -> Iterator[np.ndarray]:
    wholes = [(Joined(one.sound.pieces(), mix.rate), faders[one.key]) for one in tracks]
    sounds = [Heard(whole.read, whole.channels, fader) for whole, fader in wholes]
    for start in range(first, last, audio.FRAMES_A_BLOCK):
        yield mixed(sounds, start, min(last, start + audio.FRAMES_A_BLOCK))


def _words(session: Session, track: Track, made: datetime, bars: tuple[int, int] | None) -> dict[str, str]:
    return {
        "session": session.name,
        "rig": session.rig.name,
        "track": track.name,
        "group": track.group,
        "instrument": "",
        "bars": f"bars {bars[0]}-{bars[1]}" if bars else "",
        "date": timezone.localtime(made).strftime("%Y-%m-%d"),
    }


def _told(take: Take, wish: Wish) -> str:
    where = f"placed {take.placement:+d} samples"
    where += f", rate corrected by {take.fitted_ppm:+.1f} ppm" if take.fitted else ""
    set_to = [
        f"home trim {take.home_trim_db:+.1f} dB" if take.home_trim_db else "",
        f"gain {take.gain_db:+.1f} dB" if take.gain_db else "",
        "polarity inverted" if take.inverted else "",
    ]
    applied = "".join(f", {one}" for one in set_to if one and wish.as_set)
    return f"{take.session.name}: {take.title}, take {take.number}, {where}{applied}"


def bytes_of(source: Source, line: FileLine, wish: Wish, *, filled: bool) -> int:
    """How large its file will be, about where its form depends on the sound."""
    frames = source.frames + (max(0, line.reference(source.first)) if filled else 0)
    return round(at_rate(frames, source.rate, wish.rate or source.rate) * source.channels * BYTES[wish.form])


def deliver(
    source: Source, line: FileLine, wish: Wish, stream: BinaryIO, *, name: str, filled: bool, tell: Told | None = None
) -> Delivered:
    """Write a sound as a file. filled: with silence from the files' zero, so that it can be dropped at the very
    beginning; otherwise its time reference says where it stands. Raises SoundLost."""
    tell = tell or (lambda frames: None)
    side = source.live_side if wish.fold else None
    channels = 1 if side is not None else source.channels
    begins = line.reference(source.first)
    # What lies before the files' own zero is a lead-in, in which nothing stands.
    early, begins = max(0, -begins), max(0, begins)
    silence = begins if filled else 0
    rate = wish.rate or source.rate
    frames = at_rate(source.frames - early + silence, source.rate, rate)
    told = [f"mono: its {SIDES[1 - side]} side is silent"] if side is not None else []
    highest = 0.0

    def blocks() -> Iterator[np.ndarray]:
        nonlocal highest
        for block in _filled(_without(source.blocks(), early), silence, source.channels):
            mine = block if side is None else block[:, side : side + 1]
            tell(len(mine))
            highest = max(highest, float(np.abs(mine).max(initial=0.0)))
            yield mine

    made = resampled(blocks(), channels=channels, rate=source.rate, to_rate=rate, frames=frames)
    at = at_rate(begins, source.rate, rate)
    zero = at_rate(line.samples, source.rate, rate)
    where = f"session bar 1 is sample {zero} of this time line" if zero else "time line from bar 1"
    form = Form(wish.form, rate, channels, frames)
    write_sound(stream, made, form, bext=_bext(source, form, 0 if filled else at, where), naming=_naming(source, form))
    if source.over and highest > 1 and wish.form != WAVE_FLOAT:
        told.append(f"clipped by {factor_to_db(highest):.1f} dB: turn it down, or hand it over as float")
    return Delivered(
        name, source.title, 0 if filled else at, frames, rate, channels, tuple(told), source.words["track"]
    )


def _bext(source: Source, form: Form, reference: int, where: str) -> Broadcast:
    words = {WAVE_FLOAT: 32, FLAC: 24}
    mode = "mono" if form.channels == 1 else "stereo"
    history = f"A=PCM,F={source.rate},W=24,M={'mono' if source.channels == 1 else 'stereo'},T=Hypotaxis"
    if (form.rate, form.channels) != (source.rate, source.channels) or form.kind == WAVE_FLOAT:
        history += f"\r\nA=PCM,F={form.rate},W={words.get(form.kind, 24)},M={mode},T=Hypotaxis"
    # The chunk holds 256 letters; where its zero is must not be what is cut.
    room = 256 - len(where) - 2
    return Broadcast(
        description=f"{source.told[:room]}; {where}",
        reference=source.uid,
        recorded=source.recorded,
        time_reference=reference,
        history=history,
    )


def _naming(source: Source, form: Form) -> Naming:
    track = source.words["track"]
    names = (track,) if form.channels == 1 else tuple(f"{track} {side}" for side in SIDES)
    return Naming(source.words["session"], source.title, source.told, names)


def _without(blocks: Iterable[np.ndarray], early: int) -> Iterator[np.ndarray]:
    """The blocks without so many frames at their beginning."""
    for block in blocks:
        cut = min(early, len(block))
        early -= cut
        if cut < len(block):
            yield block[cut:]


def _filled(blocks: Iterable[np.ndarray], silence: int, channels: int) -> Iterator[np.ndarray]:
    """The blocks behind so many frames of silence."""
    while silence > 0:
        count = min(silence, audio.FRAMES_A_BLOCK)
        yield np.zeros((count, channels))
        silence -= count
    yield from blocks


def made_file(source: Source, line: FileLine, *, filled: bool) -> Path:
    """A sound as a 24-bit file of its own, to be downloaded; kept for a while."""

    def write(stream: BinaryIO) -> None:
        deliver(source, line, Wish(fold=False), stream, name="", filled=filled)

    name = sha256(f"{source.key}-{line.samples}-{filled}".encode()).hexdigest()[:32]
    return audio.made_once("handover", f"{name}.wav", write, keep=KEPT_WAVES)
