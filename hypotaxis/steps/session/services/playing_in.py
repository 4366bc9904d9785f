"""Playing in: hands play to a click and to the boxes, and what they play becomes notes of a track.

What arrives is stored every second, so that nothing that was played is lost; at the end, or at the next start, it is
laid into the track as one step of the journal.
"""

import time
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from uuid import uuid4

from django.db import transaction

from hypotaxis.core.errors import BadBars, CannotSchedule, StudioTrouble
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.count_in import Beat, ClickTrack, beats, count_in_s
from hypotaxis.core.playing.keys import echo_rules
from hypotaxis.core.playing.played_in import (
    FINEST_MS,
    PlayedIn,
    PlaySetup,
    fine_enough,
    laid_in,
    lines_of,
    parted,
    played_in,
    taken_off,
)
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.session.arrange import Part, Piece, finer, together
from hypotaxis.core.session.passes import OPEN_S, times_in
from hypotaxis.core.session.schedule import LEAD_IN_S, PlayedPart, plan_run
from hypotaxis.core.session.score import no_controls, no_notes
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message, RunSetup, Sound, Written
from hypotaxis.core.units import counted
from hypotaxis.records import journal
from hypotaxis.records.jobs import asked_before, begin, hand_over, running, work
from hypotaxis.records.models import Job, PlayedChunk, PlayIn, Session, Track
from hypotaxis.records.patch_lists import track_calls
from hypotaxis.records.plan import controls_of, load_plan, notes_of
from hypotaxis.records.studio import studio_for
from hypotaxis.steps.session.services.arranging import arrange, piece_of, track_fields

KIND = "playing in"
KEPT_EVERY_S = 1.0
AROUND_S = 0.5
"""What is meant for a time round arrives no earlier than this before it."""


def start_playing(
    session: Session,
    plan: Plan,
    track: Track,
    *,
    first_bar: int,
    last_bar: int,
    count_in: int,
    output: str,
    level_db: float,
    anew: bool,
    take_off: bool,
    fast: bool,
    times: int = 1,
    click: str = "",
    on_page: bool = False,
    token: str = "",
) -> PlayIn:
    """Let the worker play the others and keep what hands play to this track. output: the click's, a socket's uid, "" =
    no click; take_off: what they play to is late, and the keys' way in, are taken off; times: how often the bars go
    round, 0 = until it is stopped. Raises CannotSchedule."""
    if plan.instrument(track.instrument_uid) is None:
        raise CannotSchedule(f"{track.name} has no instrument, so nothing would be heard under the hands. Choose one.")
    ends = [end for end in keys_in(plan.rig) if end.socket.system_name]
    if not ends:
        raise CannotSchedule("No port is played from. Give the port of the keyboard the duty “played from” on Rig.")
    found = plan.rig.find(output)
    tempo = session.tempo_map
    first_s = LEAD_IN_S + count_in_s(tempo, first_bar=first_bar, bars=count_in)
    often = times or times_in(tempo, first_bar, last_bar, OPEN_S)
    bars = {"first_bar": first_bar, "last_bar": last_bar}
    run = plan_run([], tempo, **bars, sample_rate=plan.rig.sample_rate, times=often)
    setup = PlaySetup(
        tempo=tempo,
        first_bar=first_bar,
        last_bar=last_bar,
        count_in=count_in,
        first_s=first_s,
        frames=run.frames + round((first_s - LEAD_IN_S) * run.sample_rate),
        rate=run.sample_rate,
        ports=tuple(end.socket.system_name for end in ends),
        output=found[1].system_name if found else "",
        level_db=level_db,
        anew=anew,
        off_ms=round(taken_off(plan, output).ms, 3) if take_off else 0.0,
        times=often,
        lines=lines_of(plan),
        open_end=not times,
        click=click,
        on_page=on_page,
        fast=fast,
    )
    return _queue(session, track, setup, token)


def repeat(row: PlayIn, *, token: str = "") -> PlayIn:
    """Play the same once more; what was played goes, where nothing was done since. Raises CannotSchedule."""
    session = row.session
    if row.change_id and row.change_id == getattr(journal.last_done(session.rig, session), "pk", None):
        journal.undo(session.rig, session)
        session.refresh_from_db()
    setup = from_json(PlaySetup, row.wish)
    if setup.tempo.paced(session.ticks_per_quarter) != session.tempo_map:
        raise CannotSchedule("Tempo or bars have changed since then. Choose Play in, and begin with those of today.")
    return _queue(session, row.track, setup, token)


def _queue(session: Session, track: Track, setup: PlaySetup, token: str) -> PlayIn:
    with transaction.atomic():
        if before := asked_before(token):
            return before.play_in
        if PlayIn.objects.filter(session__rig=session.rig, free=False, job__state__in=Job.UNFINISHED).exists():
            raise CannotSchedule("Somebody plays in already. Stop that, or wait until it is done.")
        job = begin(KIND, about=str(session.uid), token=token)
        row = PlayIn.objects.create(session=session, track=track, job=job, wish=to_json(setup))
    hand_over(job)
    return row


@work(KIND)
def play(job_uid: str) -> None:
    """The task: play, and keep what arrives; however it ends, it is laid into the track."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = PlayIn.objects.select_related("session__rig", "track").get(job_id=job_uid)
        try:
            _play(row, reporter)
        finally:
            lay_in(row)


def _play(row: PlayIn, reporter) -> None:
    plan, setup = load_plan(row.session.rig), from_json(PlaySetup, row.wish)
    reporter.whole_s = setup.frames / setup.rate
    waiting: list[Message] = []
    kept_at = time.monotonic()
    with studio_for(plan) as studio:
        if setup.fast and not studio.hurries:
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        outputs = (setup.output,) if setup.output else ()
        click = ClickTrack(beats_of(setup), rate=studio.sample_rate, level_db=setup.level_db)
        source = _Playing(row, plan, setup, dict.fromkeys(outputs, click))
        rules = echo_rules(plan, plan.instrument(row.track.instrument_uid))
        asked = RunSetup(outputs=outputs, frames=setup.frames, fast=setup.fast, echo=rules)
        try:
            with closing(studio.run(source, asked)) as blocks:
                for block in blocks:
                    came = [one for one in block.received if one.port in setup.ports]
                    waiting += came
                    source.heard += came
                    if time.monotonic() - kept_at >= KEPT_EVERY_S:
                        keep(row, waiting)
                        kept_at = time.monotonic()
                    if reporter.due():
                        here = block.start + len(block.samples)
                        now = PlayNow(here / setup.rate, time.time())
                        Job.objects.filter(uid=reporter.job.uid).update(result=to_json(now))
                        reporter.report(here / setup.frames)
        finally:
            keep(row, waiting)


def keep(row: PlayIn, waiting: list[Message]) -> None:
    """Store what has arrived, and wait for more."""
    if waiting:
        rows = [[one.time_ns, one.port, one.data.hex()] for one in waiting]
        PlayedChunk.objects.create(play_in=row, messages=rows)
        waiting.clear()


@dataclass(frozen=True)
class PlayNow:
    """Where a run is: at_s of it, at a moment of the computer's clock (s since 1970)."""

    at_s: float = 0.0
    when: float = 0.0


def beats_of(setup: PlaySetup) -> list[Beat]:
    """When it clicks, in s of the run."""
    bars = {"first_bar": setup.first_bar, "last_bar": setup.last_bar}
    begins = setup.first_s - 1e-6
    wanted = {"count-in": lambda beat: beat.at_s < begins, "bars": lambda beat: beat.at_s >= begins}
    is_wanted = wanted.get(setup.click, lambda beat: True)
    every = [
        beat
        for number in range(setup.times)
        for beat in beats(
            setup.tempo,
            **bars,
            count_in=setup.count_in if number == 0 else 0,
            first_s=setup.first_s + number * setup.round_s,
        )
    ]
    return [beat for beat in every if is_wanted(beat)]


class _Playing(Written):
    """What the boxes play meanwhile: every track with an instrument; this one too where it is added to, with what was
    played the times before. heard: what has arrived so far."""

    def __init__(self, row: PlayIn, plan: Plan, setup: PlaySetup, sounds: dict[str, Sound]) -> None:
        self.setup = setup
        self.heard: list[Message] = []
        self._played_to = {"": plan.way_out(row.track.instrument_uid, row.track.part_uid)}
        self._played_to |= {line.instrument: plan.way_out(line.instrument) for line in setup.lines}
        self._round = 0
        self._so_far = {owner: Part(no_notes(), no_controls()) for owner in self._played_to}
        parts = []
        for track in row.session.tracks.playing():
            instrument = plan.instrument(track.instrument_uid)
            end = plan.way_out(track.instrument_uid, track.part_uid)
            if end is None:
                continue
            notes, controls = notes_of(track), controls_of(track)
            if setup.anew and (track.uid == row.track_id or track.instrument_uid in self._played_to):
                notes, controls = no_notes(), no_controls()
            parts.append(PlayedPart(*end, notes, controls, tuple(track_calls(track, instrument)), instrument.gap_ms))
        super().__init__(self._run(parts, setup.times), sounds)
        self.ports |= {way[0] for way in self._played_to.values() if way}

    def _run(self, parts: Sequence[PlayedPart], times: int) -> list[Message]:
        bars = {"first_bar": self.setup.first_bar, "last_bar": self.setup.last_bar}
        written = plan_run(parts, self.setup.tempo, **bars, sample_rate=self.setup.rate, times=times).messages
        later = round((self.setup.first_s - LEAD_IN_S) * 1e9)
        return [replace(one, time_ns=one.time_ns + later) if one.time_ns else one for one in written]

    def messages(self, until_ns: int) -> Sequence[Message]:
        """What leaves before this time; when a time round begins, what was played so far goes round with it."""
        setup = self.setup
        while self._round + 1 < setup.times and until_ns > (setup.first_s + (self._round + 1) * setup.round_s) * 1e9:
            self._round += 1
            if not setup.anew:
                self.add(self._again())
        return super().messages(until_ns)

    def _again(self) -> list[Message]:
        """What was played the times before, for this one. Only the last of them is read anew."""
        setup = self.setup
        begins_ns = (setup.first_s + (self._round - 1) * setup.round_s - AROUND_S) * 1e9
        self.heard = [one for one in self.heard if one.time_ns >= begins_ns]
        by, played = round(self._round * self.setup.round_s * 1e9), []
        for owner, messages in parted(self.heard, setup.lines).items():
            last = _read(setup, setup.tempo, messages, times=self._round).rounds[-1]
            self._so_far[owner] = together(self._so_far[owner], last)
        for owner, way in self._played_to.items():
            if way:
                played.append(PlayedPart(*way, self._so_far[owner].notes, self._so_far[owner].controls))
        once = self._run(played, 1)
        return [replace(one, time_ns=one.time_ns + by) for one in once]


def _read(setup: PlaySetup, tempo: TempoMap, arrived: Sequence[Message], *, times: int) -> PlayedIn:
    """What arrived as notes, in the ticks of this tempo map."""
    first, end = tempo.bar_tick(setup.first_bar), tempo.bar_tick(setup.last_bar + 1)
    return played_in(
        arrived, tempo, zero_ns=setup.zero_ns, first_tick=first, end_tick=end, off_ms=setup.off_ms, times=times
    )


@transaction.atomic
def lay_in(row: PlayIn) -> None:
    """Lay what has arrived into the track. Safe to repeat."""
    row.refresh_from_db()
    if row.laid:
        return
    setup, session = from_json(PlaySetup, row.wish), row.session
    piece = fine(piece_of(session))
    tempo = setup.tempo.paced(piece.tempo.ticks_per_quarter)
    first, end = tempo.bar_tick(setup.first_bar), tempo.bar_tick(setup.last_bar + 1)
    arrived = [
        Message(at, port, bytes.fromhex(data)) for chunk in row.chunks.all() for at, port, data in chunk.messages
    ]
    plan = load_plan(session.rig)
    parts, new, marks, told = dict(piece.parts), {}, {}, []
    for owner, messages in sorted(({"": []} | parted(arrived, setup.lines)).items()):
        found = _read(setup, tempo, messages, times=setup.times)
        came = found.whole(anew=setup.anew)
        track = _Aim.of(row, plan, owner, len(new))
        told += [_told(track.name, setup, came), *found.told]
        if found.even:
            marks[track.uid] = f"Generated at a box: {found.even.told}"
            told.append(f"It was a box that generated them, {found.even.told}: they cannot be taken apart afterwards.")
        if len(came.notes) or len(came.controls):
            was = parts.get(track.uid, Part(no_notes(), no_controls()))
            parts[track.uid] = laid_in(was, came, first_tick=first, end_tick=end, anew=setup.anew)
            new |= {track.uid: track.fields} if track.fields else {}
    row.laid = True
    row.told = " ".join(told)
    changed = [uid for uid in parts if parts[uid] is not piece.parts.get(uid)]
    if changed:
        told_of = {uid: {"generated": marks.get(uid, "")} for uid in changed if setup.anew or uid in marks}
        new = {uid: new.get(uid, {}) | told_of.get(uid, {}) for uid in changed}
        row.change = arrange(session, f"Played in to {row.track.name}", replace(piece, parts=parts), new)
    row.save(update_fields=["laid", "told", "change"])


@dataclass(frozen=True)
class _Aim:
    """A track that is played to. fields: of one that is not there yet."""

    uid: str
    name: str
    fields: dict | None = None

    @classmethod
    def of(cls, row: PlayIn, plan: Plan, owner: str, behind: int) -> "_Aim":
        """The track of an instrument (uid), the chosen one where it is "" or the chosen one's own."""
        if owner in ("", row.track.instrument_uid):
            return cls(str(row.track_id), row.track.name)
        there = row.session.tracks.playing().filter(instrument_uid=owner).first()
        if there:
            return cls(str(there.uid), there.name)
        instrument = plan.instrument(owner)
        if instrument is None:
            # It has gone since: nothing that was played is lost.
            return cls(str(row.track_id), row.track.name)
        fields = track_fields(row.session, instrument, "", behind=behind) | {"session_id": str(row.session_id)}
        return cls(str(uuid4()), fields["name"], fields)


def _told(name: str, setup: PlaySetup, part: Part) -> str:
    if not len(part.notes):
        return f"Nothing was played to {name} in bars {setup.first_bar} to {setup.last_bar}."
    off = f", {setup.off_ms:.1f} ms taken off" if setup.off_ms else ", as they arrived"
    bars = f"bars {setup.first_bar} to {setup.last_bar}"
    return f"{counted(len(part.notes), 'note')} played in to {name}, {bars}{off}."


def fine(piece: Piece, finest_ms: float = FINEST_MS) -> Piece:
    """A piece whose ticks are fine enough for hands, or so fine, as far as they can be made so."""
    try:
        while not fine_enough(piece.tempo, finest_ms):
            piece = finer(piece)
    except BadBars:
        pass
    return piece


def lay_in_rescued() -> None:
    """At the start of the worker: what was played when the program died is laid into its track."""
    for row in PlayIn.objects.filter(laid=False).exclude(job__state__in=Job.UNFINISHED):
        lay_in(row)
