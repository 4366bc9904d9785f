"""Rows of a session: its tracks, passes and takes."""

from functools import cached_property

from django.db import models

from hypotaxis.core.formats.plain import as_tuples, from_json
from hypotaxis.core.midi.programs import Program
from hypotaxis.core.mixing.desk import Fader, Mixing
from hypotaxis.core.session.handover import Wish
from hypotaxis.core.session.listening import AUDIBLE_DB, Shown
from hypotaxis.core.session.passes import PassSetup, RecordedPart
from hypotaxis.core.session.schedule import Round
from hypotaxis.core.session.standing import Offered, Stretch
from hypotaxis.core.session.takes import start_of
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Lost
from hypotaxis.core.sync.led import LedRun
from hypotaxis.core.timing.doubt import Doubt
from hypotaxis.core.timing.measurement import Measurement
from hypotaxis.core.units import db_to_factor
from hypotaxis.records import audio
from hypotaxis.records.models.base import WithUid
from hypotaxis.records.models.rig import Change, KeptRig, Rig
from hypotaxis.records.models.work import Job


class Session(WithUid):
    """One piece of music. tempos and meters as in core.session.tempo.TempoMap; sections: (tick, name) of named places;
    loop: a core.sync.values.LoopSetting; mix: a core.mixing.desk.Mixing; handover: a core.session.handover.Wish, {}
    before one is changed; pass_typed: how the next pass is asked for, as its form was filled in, valid or not; away:
    put away, not gone."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="sessions")
    name = models.CharField(max_length=80)
    created = models.DateTimeField(auto_now_add=True)
    ticks_per_quarter = models.PositiveIntegerField(default=480)
    tempos = models.JSONField(default=list)
    meters = models.JSONField(default=list)
    end_tick = models.BigIntegerField(default=0)
    sections = models.JSONField(default=list, blank=True)
    loop = models.JSONField(default=dict, blank=True)
    mix = models.JSONField(default=dict, blank=True)
    handover = models.JSONField(default=dict, blank=True)
    pass_typed = models.TextField(blank=True)
    away = models.BooleanField(default=False)
    _tempo: tuple[tuple, TempoMap] | None = None
    """What its tempo map was made from, and the map: it is asked for each track and take."""

    class Meta:
        ordering = ["-created"]

    def __str__(self) -> str:
        return self.name

    @property
    def mixing(self) -> Mixing:
        """What its mix is set to, besides its tracks."""
        return from_json(Mixing, self.mix) if self.mix else Mixing()

    @property
    def handed_over(self) -> Wish:
        """What goes into its archive."""
        return from_json(Wish, self.handover)

    @property
    def tempo_map(self) -> TempoMap:
        """Its tempo and meter changes."""
        held = self.ticks_per_quarter, self.tempos, self.meters
        if not self._tempo or any(one is not other for one, other in zip(self._tempo[0], held, strict=True)):
            self._tempo = held, TempoMap(self.ticks_per_quarter, as_tuples(self.tempos), as_tuples(self.meters))
        return self._tempo[1]


class Tracks(models.QuerySet):
    """Tracks by what has become of them."""

    def shown(self) -> "Tracks":
        """Those that are not put away."""
        return self.filter(away=False).exclude(voice_of__away=True)

    def written(self) -> "Tracks":
        """Of these, those with notes of their own: neither single voices, which play another's, nor effects."""
        return self.shown().filter(voice_of=None, loop_uid="")

    def playing(self) -> "Tracks":
        """Of these, those whose notes are still sent: they are not committed."""
        return self.written().filter(committed=False)


class Track(WithUid):
    """Notes for one part. program, msb, lsb: the sound that is called up at its start, as on the wire; patch_uid: the
    patch it was picked as; part_uid: the instrument's part that plays it, "" = the first. notes and controls: packed
    arrays of core.session.score.NOTE and CONTROL; played: the notes before they were straightened; grid: a
    core.grid.values.Grid, None where it has no patterns; generator: a core.session.generators.Generator;
    generated: how even what a box generated was when it was played in, "" = hands; chosen: (take uid, first bar, last
    bar) that the person let stand; voice_of, voice_notes: of a track of single voices, the track whose notes it plays
    and which of them, so that it has no notes of its own, and its instrument, part and sound are that track's, set
    with them; committed: its takes stand for it, its notes are frozen and no longer sent;
    loop_uid, fed_by, holds_dry: of a track of an effect loop, the loop, the track whose sound is sent
    through it, and whether that is in the return, too; group: under which it is mixed, "" = none; mix: its
    core.mixing.desk.Fader; away: put away, not gone."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="tracks")
    order = models.PositiveIntegerField(default=0)
    name = models.CharField(max_length=80)
    file_channel = models.PositiveSmallIntegerField(default=1)
    instrument_uid = models.CharField(max_length=36, blank=True)
    program = models.PositiveSmallIntegerField(null=True, blank=True)
    msb = models.PositiveSmallIntegerField(null=True, blank=True)
    lsb = models.PositiveSmallIntegerField(null=True, blank=True)
    patch_uid = models.CharField(max_length=36, blank=True)
    part_uid = models.CharField(max_length=36, blank=True)
    armed = models.BooleanField(default=False)
    notes = models.BinaryField(default=bytes)
    controls = models.BinaryField(default=bytes)
    played = models.BinaryField(default=bytes)
    grid = models.JSONField(null=True)
    generator = models.JSONField(null=True)
    generated = models.CharField(max_length=200, blank=True)
    chosen = models.JSONField(default=list, blank=True)
    voice_of = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="voices")
    voice_notes = models.JSONField(default=list, blank=True)
    committed = models.BooleanField(default=False)
    loop_uid = models.CharField(max_length=36, blank=True)
    fed_by = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="effects")
    holds_dry = models.BooleanField(default=False)
    group = models.CharField(max_length=40, blank=True)
    mix = models.JSONField(default=dict, blank=True)
    away = models.BooleanField(default=False)
    objects = Tracks.as_manager()

    class Meta:
        ordering = ["order"]

    def __str__(self) -> str:
        return self.name

    @property
    def is_written(self) -> bool:
        """Whether it has notes of its own, as Tracks.written asks."""
        return self.voice_of_id is None and not self.loop_uid

    @property
    def fader(self) -> Fader:
        """How it is heard in the mix."""
        return from_json(Fader, self.mix) if self.mix else Fader()

    @property
    def choices(self) -> tuple[Stretch, ...]:
        """The bars for which the person chose a take."""
        return tuple(Stretch(*one) for one in self.chosen)

    @property
    def sound(self) -> Program | None:
        """Program and bank as the one thing that is sent; None where nothing is called up."""
        return None if self.program is None else Program(self.program, self.msb, self.lsb)


class PassPlan(WithUid):
    """Passes that are to be recorded one after the other. gap_s: between two; repeat: a pass that fails its check is
    recorded once more; job: the work that runs them; stop_after: it ends when the pass that is recorded has."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="plans")
    first_bar = models.PositiveIntegerField()
    last_bar = models.PositiveIntegerField()
    gap_s = models.FloatField(default=3.0)
    repeat = models.BooleanField(default=True)
    fast = models.BooleanField(default=False)
    fewest = models.BooleanField(default=True)
    job = models.OneToOneField(Job, on_delete=models.SET_NULL, null=True, related_name="pass_plan")
    stop_after = models.BooleanField(default=False)
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["made"]

    def __str__(self) -> str:
        return f"Pass plan of {self.session}"


class PlannedPass(WithUid):
    """One pass of a plan. tracks: uids of those that are recorded in it."""

    plan = models.ForeignKey(PassPlan, on_delete=models.CASCADE, related_name="columns")
    order = models.PositiveIntegerField()
    tracks = models.JSONField(default=list)

    class Meta:
        ordering = ["order"]

    def __str__(self) -> str:
        return f"Planned pass {self.order + 1}"


class Pass(WithUid):
    """One run in real time. accepted: the person let it stand as it is; setup: a core.session.passes.PassSetup;
    meters: peaks by input while it runs; moved: system names of the watched inputs that moved with the notes; lost:
    stretches that did not come, as [first frame, frames]; planned: the pass of a plan that it records; led: a
    core.sync.led.LedRun, of a pass that a box led; tempo: the TempoMap by which it was played; measuring: the work
    that measures its takes and places them, once it is recorded; kept_rig: the rig as it stood then, None of passes
    that were recorded before that was kept."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="passes")
    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="run")
    planned = models.ForeignKey(PlannedPass, on_delete=models.SET_NULL, null=True, related_name="runs")
    measuring = models.OneToOneField(Job, on_delete=models.SET_NULL, null=True, related_name="measured_run")
    kept_rig = models.ForeignKey(KeptRig, on_delete=models.SET_NULL, null=True, related_name="passes")
    number = models.PositiveIntegerField()
    first_bar = models.PositiveIntegerField()
    last_bar = models.PositiveIntegerField()
    fast = models.BooleanField(default=False)
    place = models.BooleanField(default=True)
    setup = models.JSONField(default=dict)
    meters = models.JSONField(default=list)
    moved = models.JSONField(default=list)
    lost = models.JSONField(default=list)
    led = models.JSONField(null=True)
    tempo = models.JSONField(null=True)
    seconds = models.FloatField(default=0)
    accepted = models.BooleanField(default=False)
    started = models.DateTimeField(null=True)

    class Meta:
        ordering = ["number"]

    def __str__(self) -> str:
        return f"Pass {self.number}"

    @property
    def shown(self) -> list[Shown]:
        """Its meters as they stand."""
        return [from_json(Shown, one) for one in self.meters]

    @property
    def gaps(self) -> list[Lost]:
        """The stretches that did not come."""
        return [Lost(*gap) for gap in self.lost]

    @cached_property
    def frozen(self) -> PassSetup:
        """What it is made of; it never changes."""
        return from_json(PassSetup, self.setup)

    @property
    def bars(self) -> tuple[int, int]:
        """The first and the last bar that it holds, as the session counts them today: those asked for, or those that
        its leader reached."""
        led, mine, now = self.led_run, self.tempo_map, self.session.tempo_map
        first, last = (led.first_bar, led.last_bar) if led else (self.first_bar, self.last_bar)
        if mine.meters == now.meters:
            return first, last
        return now.position(mine.bar_tick(first)).bar, now.last_bar(mine.bar_tick(last + 1))

    @cached_property
    def led_run(self) -> LedRun | None:
        """What came of it, where a box led it."""
        return from_json(LedRun, self.led) if self.led else None

    @cached_property
    def tempo_map(self) -> TempoMap:
        """By which it was played: the leader's, where one led it, otherwise what the session's was then. In the ticks
        in which the session counts today."""
        played = from_json(TempoMap, self.tempo) if self.tempo else self.session.tempo_map
        return played.paced(self.session.ticks_per_quarter)

    @property
    def apart(self) -> str:
        """Its tempo in BPM, where that is not the session's; "" where it is."""
        return self.tempo_map.told if self.tempo_map != self.session.tempo_map else ""

    def rounds_of(self, frames: int) -> tuple[Round, ...]:
        """Each time round, in so many frames that were kept; a pass that was led is one, begun when its leader did."""
        led = self.led_run
        return (Round(0, frames, led.first_sample),) if led else self.frozen.every_round


NO_NOTES = "It has no notes of its own: it stands where it arrived, or by a click that was recorded beside it."
"""Why an improvisation is not measured."""


def silent(peak_db: float | None) -> bool:
    """Whether a take with this peak (None: all samples are zero) holds nothing."""
    return peak_db is None or peak_db <= AUDIBLE_DB


def bars_held(bars: tuple[int, int], run_in: int, time_round: int) -> tuple[int, int]:
    """The first and the last bar that a take of a pass over these bars holds; the first time round also those that were
    run in."""
    first, last = bars
    return (first if time_round else first - run_in, last)


def good(*, measured: bool, placed: bool, doubted: bool, accepted: bool) -> bool:
    """Whether a take may stand for its track: measured or placed, and not doubtful unless the person took it as it
    is."""
    return (measured or placed) and (accepted or not doubted)


WAITING = models.Q(measurement__isnull=True, unmeasured="")
"""Of takes: nobody has measured them, or tried to."""


def whether(*all_of: models.Q, **and_of) -> models.Case:
    """Whether rows fulfil all of these, to be told of each."""
    return models.Case(models.When(*all_of, **and_of, then=True), default=False, output_field=models.BooleanField())


class Takes(models.QuerySet):
    """Takes by what has become of them."""

    def figures(self) -> "Takes":
        """Without their single hits, which are most of what is kept."""
        return self.defer("hits")

    def kept(self) -> "Takes":
        """Those that are not put away."""
        return self.filter(kept=True)

    def measured(self) -> "Takes":
        """Those that are kept and tell a lateness that counts: a doubtful one only when the person took it as it is."""
        counts = models.Q(doubts=[]) | models.Q(accepted=True)
        return self.kept().filter(counts, measurement__isnull=False)

    def waiting(self) -> "Takes":
        """Those that nobody has measured, or tried to."""
        return self.filter(WAITING)


def title_of(track: Track, return_name: str) -> str:
    """What a take is called: its track, and the return it came by where that is not the track's own."""
    return f"{track.name}, {return_name}" if return_name else track.name


class Take(WithUid):
    """What one return delivered in one pass, kept unplaced.

    return_uid, return_name: the further return it came by, empty for the main one; beside: it came by another return
    than the track's own, so it never stands for the track; inverted: its polarity is
    turned where it is handed over. first_sample: session position of the file's first frame as it arrived; placement:
    shift in samples, None while it stands where it arrived; round: of a loop, which time it is, from 0; kept: False
    while it is put away; measurement: a core.timing.measurement.Measurement with its hits beside it, or
    unmeasured: the reason why there is none; borrowed: whose lateness it is placed by, where that is not its own;
    doubts: core.timing.doubt.Doubt values, what it holds that it should not; accepted: the person took it as it is.
    gain_db: added by the person to its home trim; trimmed: the first and the last bar that are left of it, [] = all.
    fitted, fitted_frames, fitted_ppm: the same sound with that drift taken out; it stands instead while it is placed.
    """

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="takes")
    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="takes")
    run = models.ForeignKey(Pass, on_delete=models.CASCADE, related_name="takes")
    number = models.PositiveIntegerField()
    round = models.PositiveIntegerField(default=0)
    made = models.DateTimeField(auto_now_add=True)
    instrument_uid = models.CharField(max_length=36, blank=True)
    instrument_name = models.CharField(max_length=80, blank=True)
    returns_text = models.CharField(max_length=80, blank=True)
    return_uid = models.CharField(max_length=36, blank=True)
    return_name = models.CharField(max_length=80, blank=True)
    beside = models.BooleanField(default=False)
    inverted = models.BooleanField(default=False)
    file = models.CharField(max_length=80)
    sample_rate = models.PositiveIntegerField()
    channels = models.PositiveSmallIntegerField()
    frames = models.BigIntegerField()
    first_sample = models.BigIntegerField()
    home_trim_db = models.FloatField(default=0.0)
    gain_db = models.FloatField(default=0.0)
    trimmed = models.JSONField(default=list, blank=True)
    clipped = models.PositiveIntegerField(default=0)
    peak_db = models.FloatField(null=True)
    complete = models.BooleanField(default=True)
    kept = models.BooleanField(default=True)
    placement = models.IntegerField(null=True)
    measurement = models.JSONField(null=True)
    hits = models.JSONField(default=list)
    unmeasured = models.TextField(blank=True)
    borrowed = models.CharField(max_length=200, blank=True)
    doubts = models.JSONField(default=list)
    accepted = models.BooleanField(default=False)
    fitted = models.CharField(max_length=80, blank=True)
    fitted_frames = models.BigIntegerField(default=0)
    fitted_ppm = models.FloatField(default=0.0)
    objects = Takes.as_manager()

    class Meta:
        ordering = ["-number"]

    def __str__(self) -> str:
        return f"Take {self.number}"

    @property
    def measured(self) -> Measurement | None:
        """What was measured of it."""
        return from_json(Measurement, self.measurement) if self.measurement else None

    @property
    def borrows(self) -> bool:
        """Whether it has no lateness of its own, and nothing instead of it yet."""
        return bool(self.unmeasured) and self.placement is None

    @property
    def doubted(self) -> list[Doubt]:
        """What it holds that it should not."""
        return [from_json(Doubt, one) for one in self.doubts]

    @property
    def doubtful(self) -> bool:
        """Whether it may not be used as a number by itself."""
        return bool(self.doubts) and not self.accepted

    @property
    def gaps(self) -> list[Lost]:
        """What did not come of it, from its file's first frame."""
        if self.run is None or not self.run.lost:
            return []
        start = self.run.rounds_of(self.frames)[self.round].start
        cut = [(max(0, gap.start - start), gap.start + gap.frames - start) for gap in self.run.gaps]
        return [Lost(first, min(end, self.frames) - first) for first, end in cut if first < min(end, self.frames)]

    @property
    def is_reference(self) -> bool:
        """Whether it is the click that was recorded beside its pass."""
        found = self.run.frozen.reference if self.run else None
        return found is not None and self.beside and self.return_uid == found.loop

    @property
    def is_loose(self) -> bool:
        """Whether no notes say where its sound belongs: an improvisation, or an outside sequencer."""
        return self.measurement is None and not self.is_reference and self.unmeasured == NO_NOTES

    @property
    def silent(self) -> bool:
        """Whether nothing is in it."""
        return silent(self.peak_db)

    @property
    def good(self) -> bool:
        """Whether it may stand for its track: measured or placed, and not doubtful."""
        known, placed = self.measurement is not None, self.placement is not None
        return good(measured=known, placed=placed, doubted=bool(self.doubts), accepted=self.accepted)

    @property
    def bars(self) -> tuple[int, int]:
        """The first and the last bar that it holds; the first time round also those that were run in."""
        return bars_held(self.run.bars, self.run.frozen.run_in, self.round)

    @property
    def offered(self) -> Offered:
        """As the rule of what stands sees it."""
        return Offered(str(self.uid), self.number, *self.bars_left, good=self.good, silent=self.silent)

    @property
    def bars_left(self) -> tuple[int, int]:
        """The first and the last bar that are left of it."""
        return tuple(self.trimmed) if self.trimmed else self.bars

    @property
    def factor(self) -> float:
        """What its samples are multiplied by where it is heard or handed over: home trim, gain, polarity."""
        return db_to_factor(self.home_trim_db + self.gain_db) * (-1 if self.inverted else 1)

    @property
    def title(self) -> str:
        """Its track, and the return it came by where that is not the track's own."""
        return title_of(self.track, self.return_name if self.beside else "")

    @property
    def part(self) -> RecordedPart | None:
        """What its pass froze of the track at its start."""
        return self.run.frozen.part_of(str(self.track_id))

    @property
    def lost(self) -> str:
        """What is wrong with the file of the sound that stands, in words; "" where it is there."""
        file, frames = self.sound_file
        return audio.what_is_lost(file, frames=frames, channels=self.channels)

    @property
    def start(self) -> int:
        """Session position of its first frame as it stands; negative before the session's zero."""
        return start_of(self.first_sample, self.placement)

    @property
    def sound_file(self) -> tuple[str, int]:
        """(file, frames) of the sound that stands in the session: with its rate corrected where it is placed so."""
        fits = self.fitted and self.placement is not None
        return (self.fitted, self.fitted_frames) if fits else (self.file, self.frames)


class PlayIn(WithUid):
    """One run in which hands play to a track. wish: a core.playing.played_in.PlaySetup; change: the step of the journal
    that laid what was played into the track; told: what is to be said of it; accepted: the person let it stand; free:
    nothing was to be recorded, and what was played lately is kept to be fetched back."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="played_in")
    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="played_in")
    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="play_in")
    wish = models.JSONField(default=dict)
    change = models.ForeignKey(Change, on_delete=models.SET_NULL, null=True)
    laid = models.BooleanField(default=False)
    told = models.TextField(blank=True)
    accepted = models.BooleanField(default=False)
    free = models.BooleanField(default=False)
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["made"]

    def __str__(self) -> str:
        return f"Played in to {self.track}"


class PlayedChunk(models.Model):
    """What arrived in a second or so of it, as it arrived: [ns of the run, port, bytes] in order of time."""

    play_in = models.ForeignKey(PlayIn, on_delete=models.CASCADE, related_name="chunks")
    messages = models.JSONField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{len(self.messages)} messages"
