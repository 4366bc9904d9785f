"""The archive of a session: what was chosen goes in, made in the background, taken up once more after a restart.

Its files stand in folders by kind. Each sound is written whole beside the archive before it goes in, so that an archive
costs the disk its own size and that of its largest file.
"""

import hashlib
import json
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import BinaryIO
from uuid import UUID

from django.db.models import F, Sum

from hypotaxis.core.errors import CannotHandOver, SoundLost
from hypotaxis.core.formats.cells import table_text
from hypotaxis.core.formats.filenames import apart, check_pattern, file_names, safe_name
from hypotaxis.core.formats.flactake import pack_take
from hypotaxis.core.formats.namedoc import write_name_document
from hypotaxis.core.formats.patchcsv import write_patch_table
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.programlist import write_program_list
from hypotaxis.core.formats.sheetpdf import write_sheet_pdf
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.formats.sound import BYTES, ENDINGS, FLAC, WAVE, WAVE_FLOAT
from hypotaxis.core.formats.timeline import MOST_INSIDE, Clip, write_beside, write_inside
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.archived import session_schema, write_session
from hypotaxis.core.session.handover import (
    AUDIO,
    FILLED,
    ITEMS,
    NAMES,
    NOTES,
    SESSION,
    SHEET,
    TABLE,
    TIMELINE,
    FileLine,
    Wish,
)
from hypotaxis.core.session.score import Score
from hypotaxis.records import audio, jobs
from hypotaxis.records.jobs import Reporter, ask, running, work
from hypotaxis.records.models import Job, Session, Take, Track
from hypotaxis.records.patch_lists import lists_of
from hypotaxis.records.plan import load_plan, song_of, tracks_of
from hypotaxis.records.session_rows import archived, sounds_of
from hypotaxis.records.stamps import kept_while, rows_while
from hypotaxis.records.standing import KnownTake, placed_takes, whole_takes
from hypotaxis.records.studio import look
from hypotaxis.records.track_sound import TrackSound, tracks_sound
from hypotaxis.steps.handover import opening
from hypotaxis.steps.handover.notes import part_files, score_file, score_of
from hypotaxis.steps.handover.sheet import settings_sheet
from hypotaxis.steps.handover.sounds import Delivered, Source, bytes_of, deliver, line_of, sources

KIND = "handover"
KEPT = 3
"""How many archives stay, the newest."""
SMALL_BYTES, SHEET_BYTES = 40_000, 120_000
"""What a table, notes or names take, and what the sheet does, about."""
BYTES_A_FRAME = 6
"""Of a stereo take, for how far the work is."""
FOLDERS = {AUDIO: "audio", FILLED: "audio from the beginning", NOTES: "notes", NAMES: "names"}


@dataclass(frozen=True)
class Made:
    """An archive that was made."""

    file: str
    size: int
    files: int
    told: tuple[str, ...] = ()
    """What is to be said of what went in, or did not."""


@dataclass(frozen=True, eq=False)
class KeptSound:
    """A sound of a take. name: in the session to be opened again."""

    name: str
    path: Path
    take: Take


@dataclass(frozen=True, eq=False)
class Contents:
    """What there is to go in, now."""

    session: Session
    plan: Plan
    wish: Wish
    line: FileLine
    tracks: Sequence[Track]
    """Those that are not put away."""
    stands: Mapping[UUID, TrackSound]
    """What stands of each track (uid) of which anything does."""
    sounds: Sequence[Source]
    placed: Sequence[KnownTake]
    """All that are placed, those that are lost among them."""

    @cached_property
    def lost(self) -> list[Take]:
        """Those of them that are lost."""
        lost = [take.uid for take in self.placed if take.lost]
        return list(whole_takes(self.session, lost, self.tracks).values())

    @cached_property
    def sizes(self) -> dict[str, int]:
        """How large each item is, in bytes: of sounds as their form makes them, of the others about."""
        sizes = dict.fromkeys(ITEMS, SMALL_BYTES) | {SHEET: SHEET_BYTES}
        share = BYTES[FLAC] / BYTES[WAVE] if self.wish.packed else 1.0
        sizes[SESSION] += round(share * BYTES[WAVE] * self._samples)
        return (
            sizes
            | {
                item: sum(bytes_of(one, self.line, self.wish, filled=item == FILLED) for one in self.sounds)
                for item in (AUDIO, FILLED)
            }
            | {TIMELINE: SMALL_BYTES + self.inside_bytes}
        )

    @property
    def _samples(self) -> int:
        """How many samples all takes hold, as they came and with their rate corrected."""
        takes = self.session.takes
        held = Sum((F("frames") + F("fitted_frames")) * F("channels"), default=0)
        return kept_while(("takes",), ("samples", str(self.session.uid)), lambda: takes.aggregate(held=held)["held"])

    @property
    def inside_bytes(self) -> int:
        """How large the sounds are inside a time line; 0 where they are too large to go there."""
        size = sum(bytes_of(one, self.line, self.inside, filled=False) for one in self.sounds)
        return size if size <= MOST_INSIDE else 0

    @property
    def inside(self) -> Wish:
        """How sounds go into a time line."""
        return replace(self.wish, form=WAVE)

    @cached_property
    def kept(self) -> list[KeptSound]:
        """Every take whose sound is there, also those that do not stand."""
        return [
            KeptSound(name, audio.take_path(file), take)
            for take in self.session.takes.all()
            for name, file in sounds_of(take, self.ending)
            if audio.take_path(file).exists()
        ]

    @property
    def ending(self) -> str:
        """Of the takes' files in the session to be opened again."""
        return opening.FLAC_ENDING if self.wish.packed else opening.WAVE_ENDING

    @property
    def size(self) -> int:
        """Of all that is chosen."""
        return sum(self.sizes[item] for item in self.wish.items)

    @property
    def needed(self) -> int:
        """Bytes on the disk while it is made: the archive, and its largest file beside it."""
        largest = max((bytes_of(one, self.line, self.wish, filled=True) for one in self.sounds), default=0)
        return self.size + largest


def contents(session: Session, plan: Plan, wish: Wish) -> Contents:
    """What a wish comes to, now."""
    tracks = tracks_of(session)
    takes = placed_takes(session, tracks)
    stands = tracks_sound(session, tracks, only_placed=True, plain=not wish.as_set)
    return Contents(
        session=session,
        plan=plan,
        wish=wish,
        line=line_of(session, plan, tracks, takes),
        tracks=tracks,
        stands=stands,
        sounds=sources(session, tracks, [take for take in takes if not take.lost], stands, wish),
        placed=takes,
    )


def start(session: Session, plan: Plan, wish: Wish, *, token: str = "") -> Job:
    """Let the worker make it. Raises CannotHandOver, BadPattern."""
    check_pattern(wish.pattern)
    if not wish.items:
        raise CannotHandOver("Nothing is chosen. Tick what is to go into the archive.")
    found = contents(session, plan, wish)
    if set(wish.items) <= {AUDIO, FILLED} and not found.sounds:
        raise CannotHandOver("No take is placed yet, so there is no sound to hand over. Record a pass and place it.")
    if (free := audio.free_bytes()) < found.needed:
        raise CannotHandOver(
            f"The disk has room for {free / 1e6:,.0f} MB, and the archive needs {found.needed / 1e6:,.0f} while it is "
            "made. Free some, or choose less."
        )
    return ask(KIND, about=str(session.uid), request=to_json(wish), token=token)


def newest(session: Session) -> Job | None:
    """The last one that was asked for."""
    about = str(session.uid)
    return rows_while(("work",), ("newest", KIND, about), lambda: jobs.newest(KIND, about))


def came_of(job: Job) -> Made | None:
    """What came of one that is done, while its file is there."""
    found = from_json(Made, job.result) if job.state == Job.DONE and job.result else None
    return found if found and path_of(found).exists() else None


def path_of(one: Made) -> Path:
    """Where it is."""
    return audio.folder("archives") / one.file


@work(KIND, resumed=True)
def make(job_uid: str) -> None:
    """The task: write what was chosen into one archive."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        session = Session.objects.select_related("rig").get(uid=reporter.job.about)
        plan = load_plan(session.rig)
        plan = replace(plan, reported=look(plan), song=song_of(session))
        wish = from_json(Wish, reporter.job.request)
        audio.forget_old("archives", "*.zip", KEPT - 1)
        found = contents(session, plan, wish)
        bundle = _Bundle(found, reporter)
        path = audio.folder("archives") / f"{job_uid}.zip"
        audio.write_whole("archives", ".zip", bundle.write).replace(path)
        made = Made(path.name, path.stat().st_size, bundle.count, tuple(bundle.told))
        Job.objects.filter(uid=job_uid).update(result=to_json(made))


class _Bundle:
    """An archive on its way."""

    def __init__(self, found: Contents, reporter: Reporter) -> None:
        self.found, self.told, self.count = found, [], 0
        self._sums: list[tuple[str, str]] = []
        self._delivered: list[Delivered] = []
        both = sum(item in found.wish.items for item in (AUDIO, FILLED, TIMELINE))
        kept = sum(one.path.stat().st_size for one in found.kept) // BYTES_A_FRAME if SESSION in found.wish.items else 0
        self._whole = max(1, both * sum(one.frames for one in found.sounds) + kept)
        self._done = 0
        self._reporter = reporter

    def write(self, stream: BinaryIO) -> None:
        """All of it."""
        found, items = self.found, self.found.wish.items
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as self._zip:
            for item in (AUDIO, FILLED):
                if item in items:
                    self._sounds(item)
            if TIMELINE in items:
                self._timeline()
            for wanted, texts in ((NOTES, self._notes), (NAMES, self._names)):
                if wanted in items:
                    for name, data in texts():
                        self._put(f"{FOLDERS[wanted]}/{name}", data)
            if TABLE in items:
                self._put("what begins where.csv", _table(self._delivered).encode("utf-8-sig"))
            if SESSION in items:
                self._session()
            if SHEET in items:
                self._put(
                    f"{safe_name(found.session.name)} settings.pdf",
                    write_sheet_pdf(settings_sheet(found.plan, found.session)),
                )
            self.told += [f"{take.title}, take {take.number}: left out, {take.lost}." for take in found.lost]
            self._put("read-me.txt", _read_me(found, self._delivered, self.told).encode())
            # As sha256sum reads it, to check a copy by.
            lines = "".join(f"{digest} *{name}\n" for name, digest in self._sums)
            self._zip.writestr("checksums.sha256", lines.encode())
            self.count = len(self._sums) + 1

    def _sounds(self, item: str) -> None:
        found, wish = self.found, self.found.wish
        names = file_names(wish.pattern, [one.words for one in found.sounds], ENDINGS[wish.form])
        for source, name in zip(found.sounds, names, strict=True):
            place = f"{FOLDERS[item]}/{name}"
            try:
                with audio.scratch("archives", ENDINGS[wish.form]) as path:
                    with path.open("w+b") as stream:
                        made = deliver(
                            source, found.line, wish, stream, name=place, filled=item == FILLED, tell=self._tell
                        )
                    self._put_file(place, path)
            except SoundLost as error:
                self.told.append(f"{source.title}: left out. {error}")
                continue
            self._delivered.append(made)
            self.told += [f"{source.title}: {one}." for one in made.told if item == AUDIO or AUDIO not in wish.items]

    def _timeline(self) -> None:
        """The sounds at their places: beside it where they are in the archive as WAV files, and inside."""
        found, wish = self.found, self.found.wish
        name = safe_name(found.session.name)
        beside = [self._clip(one, one.name) for one in self._delivered if one.name.startswith(f"{FOLDERS[AUDIO]}/")]
        if beside and wish.form != FLAC:
            with audio.scratch("archives", ".aaf") as path:
                write_beside(path, found.session.name, beside, width=round(BYTES[wish.form]))
                self._put_file(f"{name} time line, sounds beside.aaf", path)
        if found.sounds and not found.inside_bytes:
            self.told.append("The time line holds no sounds: they are more than 2 GB. Those beside it are named in it.")
            return
        with audio.scratch("archives", ".aaf") as path:
            write_inside(path, found.session.name, self._inside())
            self._put_file(f"{name} time line, sounds inside.aaf", path)
        if wish.form == WAVE_FLOAT:
            self.told.append("The sounds inside the time line are 24 bit: it holds no float.")

    def _inside(self) -> Iterator[tuple[Clip, Path]]:
        for source in self.found.sounds:
            with audio.scratch("archives", ENDINGS[WAVE]) as path:
                try:
                    with path.open("w+b") as stream:
                        made = deliver(
                            source, self.found.line, self.found.inside, stream, name="", filled=False, tell=self._tell
                        )
                except SoundLost as error:
                    self.told.append(f"{source.title}: not in the time line. {error}")
                    continue
                yield self._clip(made, ""), path

    def _clip(self, made: Delivered, file: str) -> Clip:
        colour = self._colours.get(made.track, "")
        return Clip(made.track, made.title, file, made.begins, made.frames, made.rate, made.channels, colour)

    @cached_property
    def _colours(self) -> dict[str, str]:
        """The owner's colours by the names of tracks."""
        plan = self.found.plan
        played = {row.name: plan.instrument(row.instrument_uid) for row in self.found.session.tracks.all()}
        return {name: one.colour for name, one in played.items() if one}

    def _tell(self, frames: int) -> None:
        self._done += frames
        self._reporter.tell(min(1.0, self._done / self._whole))

    def _put(self, name: str, data: bytes) -> None:
        self._sums.append((name, hashlib.sha256(data).hexdigest()))
        self._zip.writestr(name, data)

    def _put_file(self, name: str, path: Path) -> None:
        with path.open("rb") as stream:
            self._sums.append((name, hashlib.file_digest(stream, "sha256").hexdigest()))
        self._zip.write(path, name)

    @cached_property
    def _score(self) -> Score:
        return score_of(self.found.session, self.found.plan)

    def _session(self) -> None:
        """The session to be opened again, with all its takes."""
        found = self.found
        there = {one.name for one in found.kept}
        for one in found.kept:
            if found.wish.packed:
                self._packed(one)
            else:
                self._put_file(f"{opening.TAKES}{one.name}", one.path)
            self._tell(one.path.stat().st_size // BYTES_A_FRAME)
        for number, dump in enumerate(found.session.dumps.all(), start=1):
            # For other readers; what is read again stands in the text.
            self._put(f"{opening.SESSION}/dumps/{number} {safe_name(dump.box_name)}.syx", bytes(dump.data))
        kept = archived(found.session, without=lambda sound: sound not in there, ending=found.ending)
        self._put(opening.TEXT, write_session(kept).encode())
        self._put(f"{opening.SESSION}/schema.json", json.dumps(session_schema(), indent=1).encode())
        self._put(f"{opening.SESSION}/notes.mid", write_smf(self._score))

    def _packed(self, one: KeptSound) -> None:
        """A take as FLAC, with the head of its file."""
        take = one.take
        frames = take.fitted_frames if one.path.name == take.fitted else take.frames
        with audio.scratch("archives", opening.FLAC_ENDING) as path:
            head = pack_take(
                one.path, path, rate=take.sample_rate, channels=take.channels, frames=frames,
                tell=lambda share: self._tell(0),
            )  # fmt: skip
            self._put_file(f"{opening.TAKES}{one.name}", path)
        self._put(f"{opening.TAKES}{one.name}{opening.HEAD}", head)

    def _notes(self) -> Iterator[tuple[str, bytes]]:
        found = self.found
        yield f"{safe_name(found.session.name)}.mid", score_file(self._score, found.line)
        parts = part_files(self._score, found.line)
        names = apart((safe_name(name) for name, *_ in parts), ".mid")
        for name, (_, wanted, plain) in zip(names, parts, strict=True):
            yield f"each part/{name}", wanted
            yield f"each part, without its sound/{name}", plain

    def _names(self) -> Iterator[tuple[str, bytes]]:
        lists = lists_of(self.found.plan)
        names = apart((safe_name(one.name) for one in lists), "")
        for name, one in zip(names, lists, strict=True):
            yield f"{name}.midnam", write_name_document(one).encode()
            if one.patches:
                yield f"{name}.csv", write_patch_table(one).encode("utf-8-sig")
                yield f"{name}.json", write_program_list(one).encode()


def _table(delivered: Sequence[Delivered]) -> str:
    """What begins where, as a table."""
    heads = ("file", "what", "sample rate", "begins at sample", "begins at s", "frames", "channels", "remark")
    return table_text([heads, *map(_row, delivered)])


def _row(one: Delivered) -> tuple:
    place = (one.rate, one.begins, round(one.begins / one.rate, 6))
    return one.name, one.title, *place, one.frames, one.channels, "; ".join(one.told)


def _read_me(found: Contents, delivered: Sequence[Delivered], told: Sequence[str]) -> str:
    """What the files are, in words."""
    session, line = found.session, found.line
    rows = [f"{session.name}: handed over by Hypotaxis", ""]
    if line.bars:
        rows.append(f"The files begin {line.bars} bar(s) before bar 1, so that nothing recorded earlier is cut:")
        rows.append(f"bar 1 of the session is bar {line.bars + 1} of the MIDI files")
        rates = sorted({one.rate for one in delivered})
        base = found.sounds[0].rate if found.sounds else session.rig.sample_rate
        rows += [f"and sample {round(line.samples * rate / base)} of the audio at {rate} Hz." for rate in rates]
    rows += ["Each audio file carries its place as a time reference (Broadcast Wave).", ""]
    rows += [
        f"{one.name}: {one.title}, begins at sample {one.begins}, {one.frames} frames, {one.rate} Hz, "
        f"{one.channels} channel(s)"
        for one in delivered
    ]
    rows += ["", *told] if told else []
    rows += ["", "Whether a copy is whole: sha256sum -c checksums.sha256"]
    return "\r\n".join(rows) + "\r\n"
