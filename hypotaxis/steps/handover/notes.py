"""The notes that are handed over, on the time line of the sounds: all parts, each alone, as their boxes want them or
clean for other sounds."""

from dataclasses import replace

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.midi.messages import CONTROL_CHANGE, PROGRAM_CHANGE
from hypotaxis.core.midi.programs import BANK_LSB, BANK_MSB, in_form
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.handover import FileLine, with_preroll
from hypotaxis.core.session.score import Score, ScorePart, called_by
from hypotaxis.records.models import Session
from hypotaxis.records.patch_lists import programs_of
from hypotaxis.records.plan import controls_of, notes_of


def score_of(session: Session, plan: Plan) -> Score:
    """The session's notes as they sound, patterns and generators printed: each track on its instrument's channel, its
    program with the bank that its box wants, the sections as markers."""
    parts, tracks = [], list(session.tracks.written())
    called = programs_of(tracks)
    for track in tracks:
        instrument = plan.instrument(track.instrument_uid)
        channel = instrument.seat(track.part_uid).channel if instrument else track.file_channel
        part = ScorePart(track.name, channel, notes_of(track), controls_of(track))
        sound = called[track.uid]
        form = instrument.bank_form if instrument else "both"
        parts.append(called_by(part, in_form(sound, form)) if sound else part)
    markers = tuple((tick, name) for tick, name in session.sections)
    return Score(session.tempo_map, tuple(parts), session.end_tick, markers=markers)


def score_file(score: Score, line: FileLine) -> bytes:
    """Notes with their program changes as a type 1 MIDI file, on the time line of the audio files."""
    return write_smf(with_preroll(score, line.bars))


def part_files(score: Score, line: FileLine) -> list[tuple[str, bytes, bytes]]:
    """Each part alone that has notes: its name, as its box wants it, and clean for another sound."""
    return [
        (part.name, *(score_file(replace(score, parts=(one,)), line) for one in (part, clean(part))))
        for part in score.parts
        if len(part.notes)
    ]


def clean(part: ScorePart) -> ScorePart:
    """A part without what calls up a sound: neither program nor bank."""
    controls = part.controls
    bank = (controls["status"] == CONTROL_CHANGE) & ((controls["data1"] == BANK_MSB) | (controls["data1"] == BANK_LSB))
    kept = controls[~bank & (controls["status"] != PROGRAM_CHANGE)]
    return replace(part, controls=kept, program=None, msb=None, lsb=None)
