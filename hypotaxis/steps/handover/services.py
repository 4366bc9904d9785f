"""What another host needs, made from a session: placed takes as Broadcast Wave, notes as SMF."""

import zipfile
from collections.abc import Iterable, Iterator, Sequence
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO

import numpy as np
from django.utils import timezone
from django.utils.text import slugify

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.formats.wave import Broadcast, write_wave
from hypotaxis.core.midi.programs import in_form
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.handover import FileLine, file_line, with_preroll
from hypotaxis.core.session.score import Score, ScorePart, called_by
from hypotaxis.records import audio
from hypotaxis.records.models import Session, Take
from hypotaxis.records.patch_lists import sound_of
from hypotaxis.records.plan import controls_of, notes_of
from hypotaxis.records.track_sound import TrackSound

KEPT_WAVES, KEPT_ARCHIVES = 100, 2
"""How many handed-over files are kept; all of them can be made again."""


def placed_takes(session: Session) -> list[Take]:
    """The placed takes of a session, in the order of its tracks."""
    takes = (
        session.takes.kept()
        .filter(placement__isnull=False, track__away=False)
        .select_related("track", "run__session", "session")
    )
    return sorted(takes, key=lambda take: (take.track.order, -take.number))


def line_of(session: Session, takes: list[Take]) -> FileLine:
    """The time line of a session's files: with whole bars in front where a take begins before its zero."""
    rate = takes[0].sample_rate if takes else session.rig.sample_rate
    return file_line(session.tempo_map, [take.start for take in takes], rate)


def wave_file(take: Take, line: FileLine, *, from_zero: bool) -> Path:
    """A take as a 24-bit Broadcast Wave file. from_zero: filled with silence from the files' zero, so that it can
    be dropped at the very beginning; otherwise its time reference says where it stands."""
    file, frames = take.sound_file
    fit = f"-{take.fitted_ppm:g}" if take.fitted else ""
    reference = line.reference(take.start)
    silence = reference if from_zero else 0
    bext = Broadcast(
        description=_description(take, line),
        reference=str(take.uid).replace("-", "")[:32],
        recorded=timezone.localtime(take.made).replace(tzinfo=None),
        time_reference=0 if from_zero else reference,
        history=f"A=PCM,F={take.sample_rate},W=24,M={'mono' if take.channels == 1 else 'stereo'},T=Hypotaxis",
    )

    def write(stream: BinaryIO) -> None:
        with audio.take_blocks(file, frames, "float64") as blocks:
            form = {"rate": take.sample_rate, "channels": take.channels, "frames": frames + silence}
            write_wave(stream, _frames(take, blocks, silence), **form, bext=bext)

    name = f"{take.uid}-{take.placement}-{line.samples}-{int(from_zero)}{fit}-{take.factor:.4f}.wav"
    return audio.made_once("handover", name, write, keep=KEPT_WAVES)


def joined_tracks(session: Session, takes: Sequence[Take]) -> list[TrackSound]:
    """The tracks for which several takes stand, each as what stands of it."""
    found = []
    for track in session.tracks.shown():
        mine = [take for take in takes if take.track_id == track.uid and not take.beside]
        sound = TrackSound(track, mine, only_placed=True) if len(mine) > 1 else None
        if sound and sound.is_joined:
            found.append(sound)
    return found


def joined_file(sound: TrackSound, line: FileLine) -> Path:
    """What stands of a track as one 24-bit Broadcast Wave file, its takes joined in seams."""
    first, last = sound.span
    channels = sound.channels
    bext = Broadcast(
        description=f"{sound.track.session.name}: {sound.track.name}, what stands: {', '.join(sound.told)}"[:256],
        recorded=timezone.localtime().replace(tzinfo=None),
        time_reference=max(0, line.reference(first)),
        history=f"A=PCM,F={sound.rate},W=24,M={'mono' if channels == 1 else 'stereo'},T=Hypotaxis",
    )
    # What lies before the files' own zero is the lead-in, in which nothing stands.
    early = max(0, -line.reference(first))

    def write(stream: BinaryIO) -> None:
        form = {"rate": sound.rate, "channels": channels, "frames": last - first - early}
        write_wave(stream, _without(sound.standing_blocks(), early), **form, bext=bext)

    name = sha256(f"{sound.key}-{line.samples}".encode()).hexdigest()[:32]
    return audio.made_once("handover", f"{name}.wav", write, keep=KEPT_WAVES)


def _without(blocks: Iterable[np.ndarray], early: int) -> Iterator[np.ndarray]:
    """The blocks without so many frames at their beginning."""
    for block in blocks:
        cut = min(early, len(block))
        early -= cut
        if cut < len(block):
            yield block[cut:]


def _description(take: Take, line: FileLine) -> str:
    where = f"placed {take.placement:+d} samples"
    where += f", rate corrected by {take.fitted_ppm:+.1f} ppm" if take.fitted else ""
    zero = f"session bar 1 is sample {line.samples} of this time line" if line.samples else "time line from bar 1"
    trim = f", home trim {take.home_trim_db:+.1f} dB" if take.home_trim_db else ""
    trim += f", gain {take.gain_db:+.1f} dB" if take.gain_db else ""
    turned = ", polarity inverted" if take.inverted else ""
    return f"{take.session.name}: {take.title}, take {take.number}, {where}{trim}{turned}; {zero}"


def _frames(take: Take, blocks: Iterable[np.ndarray], silence: int) -> Iterator[np.ndarray]:
    while silence > 0:
        count = min(silence, audio.FRAMES_A_BLOCK)
        yield np.zeros((count, take.channels))
        silence -= count
    gain = take.factor
    for block in blocks:
        # Untouched samples stay exactly as recorded.
        yield block if gain == 1 else block * gain


def score_of(session: Session, plan: Plan) -> Score:
    """The session's notes, each track on its instrument's channel, its program with the bank that its box wants."""
    parts = []
    for track in session.tracks.written():
        instrument = plan.instrument(track.instrument_uid)
        channel = instrument.seat(track.part_uid).channel if instrument else track.file_channel
        part = ScorePart(track.name, channel, notes_of(track), controls_of(track))
        sound = sound_of(track)
        form = instrument.bank_form if instrument else "both"
        parts.append(called_by(part, in_form(sound, form)) if sound else part)
    return Score(session.tempo_map, tuple(parts), session.end_tick)


def score_file(session: Session, plan: Plan, line: FileLine) -> bytes:
    """The notes with their program changes as a type 1 MIDI file, on the time line of the audio files."""
    return write_smf(with_preroll(score_of(session, plan), line.bars))


def file_name(session: Session, *words: object) -> str:
    """A plain file name of letters, digits and dashes."""
    return "-".join(slugify(str(word)) or "untitled" for word in (session.name, *words))[:100]


def everything(session: Session, plan: Plan, sheet: bytes) -> Path:
    """All placed takes, the notes and the sheet of settings (PDF) in one archive on disk, with a note on what is what;
    takes whose sound is lost are named there instead."""
    takes = placed_takes(session)
    line = line_of(session, takes)
    lost = [take for take in takes if take.lost]
    takes = [take for take in takes if not take.lost]
    audio.forget_old("handover", "*.zip", KEPT_ARCHIVES - 1)

    def write(stream: BinaryIO) -> None:
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as bundle:
            bundle.writestr(f"{file_name(session)}.mid", score_file(session, plan, line))
            for take in takes:
                path = wave_file(take, line, from_zero=False)
                bundle.write(path, f"{file_name(session, take.title, 'take', take.number)}.wav")
            for sound in joined_tracks(session, takes):
                bundle.write(joined_file(sound, line), f"{file_name(session, sound.track.name, 'what stands')}.wav")
            bundle.writestr(f"{file_name(session, 'settings')}.pdf", sheet)
            bundle.writestr("read-me.txt", read_me(session, takes, line, lost))

    return audio.write_whole("handover", ".zip", write)


def read_me(session: Session, takes: list[Take], line: FileLine, lost: Sequence[Take] = ()) -> str:
    """What the files are, in words."""
    rows = [f"{session.name}: handed over by Hypotaxis", ""]
    if line.bars:
        rows.append(f"The files begin {line.bars} bar(s) before bar 1, so that nothing recorded earlier is cut:")
        rows.append(
            f"bar 1 of the session is bar {line.bars + 1} of the MIDI file and sample {line.samples} of the audio."
        )
    rows += ["Each audio file carries its place as a time reference (Broadcast Wave).", ""]
    for take in takes:
        rows.append(
            f"{take.title}, take {take.number}: begins at sample {line.reference(take.start)}, "
            f"placed by {take.placement:+d} samples, {take.sample_rate} Hz, {take.channels} channel(s)"
            + (f", its rate corrected by {take.fitted_ppm:+.1f} ppm" if take.fitted else "")
        )
    rows += [f"{take.title}, take {take.number}: not here, {take.lost}" for take in lost]
    return "\r\n".join(rows) + "\r\n"
