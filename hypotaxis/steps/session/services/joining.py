"""A further file brought into a session: held while it is looked at, each of its parts given to a track."""

from dataclasses import dataclass
from pathlib import Path

from hypotaxis.core.errors import CannotSchedule, UnsupportedScore
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.session.joining import joined
from hypotaxis.core.session.score import Score
from hypotaxis.core.units import counted
from hypotaxis.records.audio import folder, write_whole
from hypotaxis.records.models import Session
from hypotaxis.steps.session.services.arranging import arrange, piece_of, track_fields
from hypotaxis.steps.session.services.importing import meant_for, read_notes

LARGEST = 300_000
"""Bytes; a larger file is imported as a session of its own, in the background."""
TRACK, NEW, OUT = "track", "new", ""
"""How a destination begins: "track/uid", "new/instrument/part"; "" leaves the part out."""


@dataclass(frozen=True)
class Coming:
    """A part of the file. to: where it goes, as it is proposed."""

    number: int
    name: str
    channel: int
    notes: int
    to: str


def hold(data: bytes) -> str:
    """Keep a file until it is brought in; its name. Raises UnreadableFile, UnsupportedScore."""
    if len(data) > LARGEST:
        raise UnsupportedScore(
            f"The file has {len(data) / 1e3:,.0f} kB, and up to {LARGEST / 1e3:.0f} kB are brought into a session. "
            "Import it as a session of its own."
        )
    read_notes(data)
    return write_whole("joining", ".mid", lambda stream: stream.write(data)).stem


def held(name: str) -> Score:
    """A file that is kept. Raises CannotSchedule where it is gone."""
    path = _path(name)
    try:
        return read_notes(path.read_bytes())
    except FileNotFoundError as error:
        raise CannotSchedule("The file is not kept any more. Choose it again.") from error


def _path(name: str) -> Path:
    return folder("joining") / f"{Path(name).stem}.mid"


def coming(session: Session, plan: Plan, score: Score, module: str = "") -> list[Coming]:
    """The parts of a file with where they would go: to the parts of one module (instrument uid) by their channels, or
    to what they seem to be meant for."""
    tracks = {(row.instrument_uid, row.part_uid): str(row.uid) for row in session.tracks.playing()}
    instruments = [one for one in plan.instruments if module in ("", one.uid)]
    found = []
    for number, part in enumerate(score.parts):
        seat = meant_for(part, instruments, only_channel=bool(module))
        key = (seat.get("instrument_uid", ""), seat.get("part_uid", ""))
        to = OUT
        if key[0]:
            to = f"{TRACK}/{tracks[key]}" if key in tracks else f"{NEW}/{key[0]}/{key[1]}"
        found.append(Coming(number, part.name, part.channel, len(part.notes), to))
    return found


def bring_in(session: Session, plan: Plan, name: str, to: dict[int, str], *, bar: int, rules: str) -> str:
    """Bring a kept file into a session as one step of the journal; what was done, in words. to: where each part goes.
    Raises BadBars, CannotSchedule."""
    score = held(name)
    where, new, tracks = {}, {}, {str(row.uid) for row in session.tracks.all()}
    made: dict[str, str] = {}
    for number, target in to.items():
        kind, _, rest = target.partition("/")
        if kind == TRACK and rest in tracks:
            where[number] = rest
        elif kind == NEW:
            # Two parts that go to one seat share a track.
            if rest not in made:
                uid, _, part = rest.partition("/")
                made[rest] = new_uid()
                fields = track_fields(session, plan.instrument(uid), part, behind=len(new))
                came = score.parts[number]
                sound = {"program": came.program, "msb": came.msb, "lsb": came.lsb}
                new[made[rest]] = {"session_id": str(session.uid)} | fields | sound
            where[number] = made[rest]
    if not where:
        raise CannotSchedule("Every part is left out, so nothing would be brought in. Give one of them a track.")
    done = joined(piece_of(session), score, where, bar=bar, rules=rules)
    notes = sum(len(score.parts[number].notes) for number in where)
    arrange(session, f"A file from bar {bar}", done.piece, new)
    _path(name).unlink(missing_ok=True)
    told = f"{counted(notes, 'note')} of {counted(len(where), 'part')} brought in from bar {bar}."
    return " ".join([told, *done.remarks, *score.remarks])
