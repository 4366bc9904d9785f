"""Opening an archive: what is in it is checked first, laid beside the rig in use, and taken in only then, all of it or
nothing.

The session is what stands in the folder SESSION of an archive; its other folders are for other hosts. Every file of it
is held against the archive's own checksums before any row is stored.
"""

import hashlib
import io
import json
import uuid
import zipfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.flactake import unpack_take, wave_bytes
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.rigfile import read_rig_file
from hypotaxis.core.formats.sound import ENDINGS, FLAC, WAVE
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import renaming, with_new_uids
from hypotaxis.core.session.archived import ArchivedSession, ArchivedTake, read_session
from hypotaxis.core.units import counted
from hypotaxis.records import audio
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.jobs import Reporter, ask, running, work
from hypotaxis.records.models import Job, Rig, Session
from hypotaxis.records.pictures import with_pictures
from hypotaxis.records.session_rows import Seat, store

KIND = "opening"
SESSION = "session"
"""The folder of an archive in which it is, and its takes below."""
TEXT = f"{SESSION}/session.json"
TAKES = f"{SESSION}/takes/"
HEAD = ".head"
"""What follows the name of a take's FLAC: the head of its Broadcast Wave."""
SUMS = "checksums.sha256"
OWN_RIG = "own"
"""Instead of a mapping: its rig comes along."""
MOST_TEXT, MOST_FILES, MOST_TIMES = 64 * 2**20, 100_000, 200
"""Bytes of the text, files in an archive, and how many times its size a file may hold that is packed."""
MOST_HEAD = 4096
WAVE_ENDING, FLAC_ENDING = ENDINGS[WAVE], ENDINGS[FLAC]
WAITS = 8
"""How many archives that were sent and not opened are kept."""


@dataclass(frozen=True)
class Wish:
    """How an archive that waits is to be opened. seats: (instrument, part) of the archive to those of the rig (uids),
    loops likewise; own_rig: its rig comes along instead."""

    file: str
    rig: str
    own_rig: bool = False
    seats: tuple[tuple[str, str, str, str], ...] = ()
    loops: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Opened:
    """What came of it: uid of the session and of its rig."""

    session: str
    rig: str
    told: str


class Archive:
    """An archive that is looked into. Raises UnreadableFile with what is wrong, before anything of it is taken in."""

    def __init__(self, bundle: zipfile.ZipFile) -> None:
        self._zip = bundle
        entries = bundle.infolist()
        if len(entries) > MOST_FILES:
            raise UnreadableFile(f"The archive holds {len(entries):,} files; up to {MOST_FILES:,} can be opened.")
        self._entries = {one.filename: one for one in entries}
        if len(self._entries) < len(entries):
            raise UnreadableFile("The archive holds two files of one name. Make it anew.")
        for one in entries:
            if one.file_size > MOST_TIMES * max(one.compress_size, 1024):
                raise UnreadableFile(f"{one.filename[:80]} would unpack to {one.file_size:,} bytes: it is no sound.")
            if one.flag_bits & 1:
                raise UnreadableFile("The archive is locked with a password. Unlock it, and send it again.")
        if TEXT not in self._entries:
            raise UnreadableFile(
                "The archive holds no session to be opened: session/session.json is not in it. When it is made, tick "
                "“The session, to open again”."
            )
        self.sums = self._read_sums()
        self.session = read_session(self._text())
        try:
            self.plan = read_rig_file(json.dumps(self.session.rig))
        except UnreadableFile as error:
            raise UnreadableFile(f"The rig in the archive cannot be read: {error}") from error
        for number, rig in enumerate(self.session.rigs.values(), start=1):
            try:
                read_rig_file(json.dumps(rig))
            except UnreadableFile as error:
                raise UnreadableFile(f"Rig {number} of its passes cannot be read: {error}") from error
        self._check_takes()

    def _read_sums(self) -> Mapping[str, str]:
        if SUMS not in self._entries:
            raise UnreadableFile(f"The archive has no {SUMS}, so nothing says whether it is whole. Make it anew.")
        lines = self._bytes(SUMS).decode(errors="replace").splitlines()
        return {name: digest for digest, _, name in (line.partition(" *") for line in lines)}

    def _text(self) -> str:
        data = self._bytes(TEXT)
        if hashlib.sha256(data).hexdigest() != self.sums.get(TEXT):
            raise UnreadableFile(f"{TEXT} is not what was written: its checksum differs. Take the archive anew.")
        try:
            return data.decode()
        except UnicodeDecodeError as error:
            raise UnreadableFile(f"{TEXT} is no text: byte {error.start} cannot be read.") from error

    def _bytes(self, name: str) -> bytes:
        if self._entries[name].file_size > MOST_TEXT:
            raise UnreadableFile(f"{name} is larger than {MOST_TEXT // 2**20} MB; that is no session.")
        try:
            return self._zip.read(name)
        except (zipfile.BadZipFile, OSError, EOFError, NotImplementedError, ValueError) as error:
            raise UnreadableFile(f"{name} cannot be unpacked: {error}. Take the archive anew.") from error

    def _check_takes(self) -> None:
        for take, name in self._files:
            if f"{TAKES}{name}" not in self._entries or f"{TAKES}{name}" not in self.sums:
                raise UnreadableFile(
                    f"The sound of take {take.number} is not in the archive ({name[:80]}). Take the archive anew."
                )

    @property
    def sound_bytes(self) -> int:
        """How large its takes are, unpacked."""
        return sum(wave_bytes(take.channels, _frames(take, name)) for take, name in self._sounds)

    @property
    def _sounds(self) -> Iterator[tuple[ArchivedTake, str]]:
        """Each take with the files of its sound."""
        for take in self.session.takes:
            for name in filter(None, (take.sound, take.fitted)):
                yield take, name

    @property
    def _files(self) -> Iterator[tuple[ArchivedTake, str]]:
        """Each take with all the files that it needs."""
        for take, name in self._sounds:
            yield take, name
            if name.endswith(FLAC_ENDING):
                yield take, f"{name}{HEAD}"

    def check_sounds(self) -> None:
        """Hold every take against its checksum. Raises UnreadableFile where one is not what was written."""
        for _, name in self._files:
            self._copied(name, lambda data: None)

    def keep_sounds(self, tell: Callable[[float], None], kept: dict[str, str]) -> None:
        """Unpack every take into the audio store; kept is filled with their names there by those in the archive. Raises
        UnreadableFile where one is not what was written, DiskFull where there is no room for them all."""
        done, whole = 0, max(1, self.sound_bytes)
        audio.check_room(whole)
        for take, name in self._sounds:
            frames = _frames(take, name)
            kept[name] = self._keep(name, take.channels, take.sample_rate, frames)
            done += wave_bytes(take.channels, frames)
            tell(done / whole)

    def _keep(self, name: str, channels: int, rate: int, frames: int) -> str:
        with audio.scratch("takes", WAVE_ENDING) as path:
            if name.endswith(FLAC_ENDING):
                digest = self._unpacked(name, path, channels, frames)
            else:
                with path.open("wb") as target:
                    digest = self._copied(name, target.write)
            if not audio.is_take(path, rate=rate, channels=channels, frames=frames):
                raise UnreadableFile(f"{name} is no take of {channels} channel(s), {rate} Hz and {frames} samples.")
            return audio.kept_as_take(path, digest)

    def _unpacked(self, name: str, path: Path, channels: int, frames: int) -> str:
        """Write a take's file out of its FLAC; its checksum."""
        head = io.BytesIO()
        if self._entries[f"{TAKES}{name}{HEAD}"].file_size <= MOST_HEAD:
            self._copied(f"{name}{HEAD}", head.write)
        with audio.scratch("takes", FLAC_ENDING) as packed:
            with packed.open("wb") as target:
                self._copied(name, target.write)
            unpack_take(packed, head.getvalue(), path, channels=channels, frames=frames, name=name)
        with path.open("rb") as stream:
            return hashlib.file_digest(stream, "sha256").hexdigest()

    def _copied(self, name: str, write: Callable[[bytes], object]) -> str:
        """Write a take's file; its checksum, which must be the one that was written down."""
        digest, place = hashlib.sha256(), f"{TAKES}{name}"
        try:
            with self._zip.open(place) as source:
                while data := source.read(1 << 20):
                    digest.update(data)
                    write(data)
        except (zipfile.BadZipFile, EOFError, NotImplementedError) as error:
            raise UnreadableFile(f"{name} cannot be unpacked: {error}. Take the archive anew.") from error
        if digest.hexdigest() != self.sums[place]:
            raise UnreadableFile(f"{name} is not what was written: its checksum differs. Take the archive anew.")
        return digest.hexdigest()


def _frames(take: ArchivedTake, name: str) -> int:
    return take.fitted_frames if name == take.fitted else take.frames


@contextmanager
def archive_in(path: Path) -> Iterator[Archive]:
    """Look into an archive. Raises UnreadableFile."""
    try:
        bundle = zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise UnreadableFile(f"This is no archive: {error}. Choose the .zip that Hypotaxis made.") from error
    with bundle:
        yield Archive(bundle)


def receive(data: BinaryIO) -> str:
    """Keep an archive that was sent until it is opened; its name. Raises UnreadableFile where it cannot be."""

    def write(target: BinaryIO) -> None:
        while block := data.read(1 << 20):
            target.write(block)

    audio.forget_old("opening", "*.zip", WAITS - 1)
    path = audio.write_whole("opening", ".zip", write)
    try:
        with archive_in(path):
            return path.replace(path.with_name(f"{uuid.uuid4().hex}.zip")).stem
    except UnreadableFile:
        path.unlink(missing_ok=True)
        raise


def waiting(file: str) -> Path | None:
    """Where an archive is that waits; None where it is gone."""
    path = audio.folder("opening") / f"{file}.zip"
    return path if len(file) == 32 and file.isalnum() and path.exists() else None


# --- beside the rig in use ----------------------------------------------------------------------


@dataclass(frozen=True)
class Place:
    """Something that tracks of the archive play, and what it is proposed to be here. seat: of the archive; tracks:
    names of those that play it; proposed: of the rig in use, None = nothing fits."""

    seat: Seat
    name: str
    told: str
    tracks: tuple[str, ...]
    proposed: Seat | None

    @property
    def key(self) -> str:
        return f"{self.seat.instrument}/{self.seat.part}"


class Beside:
    """An archive's instruments beside those of a rig."""

    def __init__(self, session: ArchivedSession, theirs: Plan, mine: Plan) -> None:
        self.session, self.theirs, self.mine = session, theirs, mine

    @cached_property
    def places(self) -> list[Place]:
        """What its tracks play, in their order."""
        found: dict[Seat, list[str]] = {}
        for track in self.session.tracks:
            if track.instrument_uid:
                found.setdefault(Seat(track.instrument_uid, track.part_uid), []).append(track.name)
        places, taken = [], set()
        for seat, tracks in found.items():
            proposed = self._proposed(seat, taken)
            taken |= {proposed} - {None}
            name, told = _told(self.theirs, seat)
            places.append(Place(seat, name, told, tuple(tracks), proposed))
        return places

    @cached_property
    def seats(self) -> list[tuple[Seat, str]]:
        """What parts can play here, with their names."""
        return [
            (Seat(one.uid, seat.part), f"{one.name}: {seat.name}" if seat.part else one.name)
            for one in self.mine.instruments
            for seat in one.seats
        ]

    def _proposed(self, seat: Seat, taken: set[Seat]) -> Seat | None:
        """The same one where this is its rig; otherwise of the same name, or of the same shape with as many returns."""
        here = [one for one, _ in self.seats]
        if seat in here:
            return seat
        theirs = self.theirs.instrument(seat.instrument)
        if theirs is None:
            return None
        wanted = _told(self.theirs, seat)[0].casefold()
        for one, name in self.seats:
            if name.casefold() == wanted and one not in taken:
                return one
        for one in here:
            mine = self.mine.instrument(one.instrument)
            alike = (_shape(self.mine, mine), len(mine.returns)) == (_shape(self.theirs, theirs), len(theirs.returns))
            if alike and bool(one.part) == bool(seat.part) and one not in taken:
                return one
        return None

    @cached_property
    def loops(self) -> list[tuple[str, str, str]]:
        """The effect loops that its tracks use: (uid, name, uid of the one proposed here, "" = none)."""
        used = dict.fromkeys(track.loop_uid for track in self.session.tracks if track.loop_uid)
        names = {one.name.casefold(): one.uid for one in self.mine.loops}
        found = []
        for uid in used:
            loop = self.theirs.loop(uid)
            same = uid if self.mine.loop(uid) else ""
            name = loop.name if loop else "a loop that is not in its rig"
            found.append((uid, name, same or names.get(name.casefold(), "")))
        return found


def _shape(plan: Plan, instrument: Instrument) -> str:
    box = plan.rig.box(instrument.box)
    return box.shape if box else ""


def _told(plan: Plan, seat: Seat) -> tuple[str, str]:
    """(its name, where it is cabled) of what a seat names."""
    one = plan.instrument(seat.instrument)
    if one is None:
        return "an instrument that is not in its rig", ""
    part = one.seat(seat.part)
    name = f"{one.name}: {part.name}" if part.part else one.name
    return name, f"{plan.rig.socket_text(part.send or one.send)}, ch {part.channel}"


# --- taken in -----------------------------------------------------------------------------------


def start(wish: Wish, *, token: str = "") -> Job:
    """Let the worker take an archive in. Raises UnreadableFile where it is gone."""
    if waiting(wish.file) is None:
        raise UnreadableFile("The archive is gone meanwhile. Send it again.")
    return ask(KIND, about=wish.rig, request=to_json(wish), token=token)


@work(KIND, resumed=True)
def take_in(job_uid: str) -> None:
    """The task: unpack the takes, then store all rows at once; whatever stops it, nothing of it is left."""
    with running(job_uid) as reporter:
        if reporter is None or reporter.job.result:
            # It was interrupted between the session and its end.
            return
        wish = from_json(Wish, reporter.job.request)
        path = waiting(wish.file)
        if path is None:
            raise UnreadableFile("The archive is gone meanwhile. Send it again.")
        opened = open_archive(path, wish, reporter)
        Job.objects.filter(uid=job_uid).update(result=to_json(opened))
        path.unlink(missing_ok=True)


def open_archive(path: Path, wish: Wish, reporter: Reporter | None = None) -> Opened:
    """Take an archive in; all of it, or nothing. Raises UnreadableFile, DiskFull."""
    files: dict[str, str] = {}
    before = {one.name for one in audio.folder("takes").iterdir()}
    try:
        with audio.told_when_full(), archive_in(path) as archive:
            archive.keep_sounds(reporter.tell if reporter else lambda share: None, files)
            session = _store(archive, wish, files)
    except BaseException:
        for name in set(files.values()) - before:
            audio.remove_take(name)
        raise
    held = f"{counted(len(archive.session.tracks), 'track')}, {counted(len(archive.session.takes), 'take')}"
    return Opened(str(session.uid), str(session.rig_id), f"{session.name} is open: {held}.")


def _store(archive: Archive, wish: Wish, files: Mapping[str, str]) -> Session:
    if not wish.own_rig:
        rig = Rig.objects.get(uid=wish.rig)
        seats = {Seat(*one[:2]): Seat(*one[2:]) for one in wish.seats}
        return store(archive.session, rig, seats=_whole(seats), loops=dict(wish.loops), files=files)
    theirs = with_pictures(archive.plan)
    copy = replace(with_new_uids(theirs, theirs.rig.name), patch_lists=theirs.patch_lists)
    rig = import_rig(copy)
    pairs = zip(theirs.instruments, copy.instruments, strict=True)
    seats = {Seat(old.uid, seat.part): Seat(new.uid, seat.part) for old, new in pairs for seat in old.seats}
    loops = {old.uid: new.uid for old, new in zip(theirs.loops, copy.loops, strict=True)}
    names = renaming(theirs, copy)
    return store(archive.session, rig, seats=_whole(seats), loops=loops, files=files, renamed_uids=names)


def _whole(seats: Mapping[Seat, Seat]) -> dict[Seat, Seat]:
    """With what stands for each instrument as a whole, by which its takes are known."""
    return {Seat(old.instrument): Seat(new.instrument) for old, new in seats.items()} | dict(seats)
