"""Rows of a session: its tracks, passes and takes."""

from django.db import models

from hypotaxis.core.midi.programs import Program
from hypotaxis.records.models.base import WithUid
from hypotaxis.records.models.rig import Rig
from hypotaxis.records.models.work import Job


class Session(WithUid):
    """One piece of music. tempos and meters as in core.session.tempo.TempoMap."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="sessions")
    name = models.CharField(max_length=80)
    created = models.DateTimeField(auto_now_add=True)
    ticks_per_quarter = models.PositiveIntegerField(default=480)
    tempos = models.JSONField(default=list)
    meters = models.JSONField(default=list)
    end_tick = models.BigIntegerField(default=0)

    class Meta:
        ordering = ["-created"]

    def __str__(self) -> str:
        return self.name


class Track(WithUid):
    """Notes for one part. program, msb, lsb: the sound that is called up at its start, as on the wire; patch_uid: the
    patch it was picked as; part_uid: the instrument's part that plays it, "" = the first. notes and controls: packed
    arrays of core.session.score.NOTE and CONTROL."""

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

    class Meta:
        ordering = ["order"]

    def __str__(self) -> str:
        return self.name

    @property
    def sound(self) -> Program | None:
        """Program and bank as the one thing that is sent; None where nothing is called up."""
        return None if self.program is None else Program(self.program, self.msb, self.lsb)


class Pass(WithUid):
    """One run in real time. setup: what was armed, frozen at the start; meters: peaks by input while it runs."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="passes")
    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="run")
    number = models.PositiveIntegerField()
    first_bar = models.PositiveIntegerField()
    last_bar = models.PositiveIntegerField()
    fast = models.BooleanField(default=False)
    place = models.BooleanField(default=True)
    setup = models.JSONField(default=dict)
    meters = models.JSONField(default=list)
    seconds = models.FloatField(default=0)
    started = models.DateTimeField(null=True)

    class Meta:
        ordering = ["number"]

    def __str__(self) -> str:
        return f"Pass {self.number}"


class Takes(models.QuerySet):
    """Takes by what has become of them."""

    def kept(self) -> "Takes":
        """Those that are not put away."""
        return self.filter(kept=True)

    def measured(self) -> "Takes":
        """Those that are kept and tell a lateness."""
        return self.kept().filter(lateness__has_key="lateness_ms")


class Take(WithUid):
    """What one return delivered in one pass, kept unplaced.

    way_uid, way_name: the further return it came by, empty for the main one; inverted: its polarity is turned where
    it is handed over. first_sample: session position of the file's first frame as it arrived; placement: shift in
    samples, None while it stands where it arrived; kept: False while it is put away; lateness: the measurement by the
    names of core.timing.lateness.Lateness, or {"error": reason}, with "borrowed" where it is placed by another take's.
    fitted, fitted_frames, fitted_ppm: the same sound with that drift taken out; it stands instead while it is placed.
    """

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="takes")
    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="takes")
    run = models.ForeignKey(Pass, on_delete=models.CASCADE, related_name="takes")
    number = models.PositiveIntegerField()
    made = models.DateTimeField(auto_now_add=True)
    instrument_uid = models.CharField(max_length=36, blank=True)
    instrument_name = models.CharField(max_length=80, blank=True)
    returns_text = models.CharField(max_length=80, blank=True)
    way_uid = models.CharField(max_length=36, blank=True)
    way_name = models.CharField(max_length=80, blank=True)
    inverted = models.BooleanField(default=False)
    file = models.CharField(max_length=80)
    sample_rate = models.PositiveIntegerField()
    channels = models.PositiveSmallIntegerField()
    frames = models.BigIntegerField()
    first_sample = models.BigIntegerField()
    home_trim_db = models.FloatField(default=0.0)
    clipped = models.PositiveIntegerField(default=0)
    peak_db = models.FloatField(null=True)
    complete = models.BooleanField(default=True)
    kept = models.BooleanField(default=True)
    placement = models.IntegerField(null=True)
    lateness = models.JSONField(null=True)
    fitted = models.CharField(max_length=80, blank=True)
    fitted_frames = models.BigIntegerField(default=0)
    fitted_ppm = models.FloatField(default=0.0)
    objects = Takes.as_manager()

    class Meta:
        ordering = ["-number"]

    def __str__(self) -> str:
        return f"Take {self.number}"

    @property
    def title(self) -> str:
        """Its track, and the further return it came by."""
        return f"{self.track.name}, {self.way_name}" if self.way_name else self.track.name

    @property
    def part(self) -> dict:
        """What its pass froze of the track at its start; empty where the pass does not know it."""
        return next((one for one in self.run.setup["parts"] if one["track"] == str(self.track_id)), {})

    @property
    def standing(self) -> tuple[str, int]:
        """(file, frames) of the sound that stands in the session: with its rate corrected where it is placed so."""
        fits = self.fitted and self.placement is not None
        return (self.fitted, self.fitted_frames) if fits else (self.file, self.frames)
