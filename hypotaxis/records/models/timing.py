"""Rows of timing."""

from django.db import models

from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.timing.measurement import Comparison, Measurement, Overlay
from hypotaxis.core.timing.wish import Wish
from hypotaxis.records.models.base import WithUid
from hypotaxis.records.models.rig import Rig
from hypotaxis.records.models.work import Job


class Soundings(models.QuerySet):
    """Soundings as they are listed."""

    def figures(self) -> "Soundings":
        """Without what only an opened one shows, which is most of what is kept."""
        return self.defer("hits", "overlay", "parts", "compared")


class Sounding(WithUid):
    """One measurement of a trip's lateness: taken by the studio, or from a recording of one's own.

    rig, instrument_uid, part_uid, return_uid, loop_uid: the trip it belongs to; without one it stands for itself.
    studio: taken by ours; wish: what was played (core.timing.wish.Wish); context: what its lateness depends on, as
    it was then (core.timing.context). score and recording: names of the kept files; score_title, recording_title:
    as the person's files were called; parts: what the score offers, as [track, channel, name, notes]; track,
    channel, side: what was asked for (None, "auto": find out); measurement: a core.timing.measurement.Measurement,
    with its hits beside it, none until measured; overlay: a core.timing.measurement.Overlay; seconds, kind: of the
    recording; notes: in the score; read_track, read_channel: which of it was measured against; compared: a
    core.timing.measurement.Comparison with another sounding, empty until it was asked for.
    """

    name = models.CharField(max_length=80)
    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, null=True, related_name="soundings")
    instrument_uid = models.CharField(max_length=36, blank=True, db_index=True)
    part_uid = models.CharField(max_length=36, blank=True)
    return_uid = models.CharField(max_length=36, blank=True)
    loop_uid = models.CharField(max_length=36, blank=True, db_index=True)
    studio = models.BooleanField(default=False)
    wish = models.JSONField(default=dict)
    context = models.JSONField(default=dict)
    made = models.DateTimeField(auto_now_add=True)
    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="sounding")
    score = models.CharField(max_length=80)
    score_title = models.CharField(max_length=120)
    recording = models.CharField(max_length=80)
    recording_title = models.CharField(max_length=120)
    parts = models.JSONField(default=list)
    track = models.PositiveSmallIntegerField(null=True)
    channel = models.PositiveSmallIntegerField(null=True)
    side = models.CharField(max_length=5, default="auto")
    measurement = models.JSONField(null=True)
    hits = models.JSONField(default=list)
    overlay = models.JSONField(null=True)
    seconds = models.FloatField(default=0.0)
    kind = models.CharField(max_length=8, blank=True)
    notes = models.PositiveIntegerField(default=0)
    read_track = models.PositiveSmallIntegerField(null=True)
    read_channel = models.PositiveSmallIntegerField(null=True)
    compared = models.JSONField(default=dict)
    objects = Soundings.as_manager()

    class Meta:
        ordering = ["-made"]

    def __str__(self) -> str:
        return self.name

    @property
    def measured(self) -> Measurement | None:
        """What was measured."""
        return from_json(Measurement, self.measurement) if self.measurement else None

    @property
    def asked(self) -> Wish:
        """What was played."""
        return from_json(Wish, self.wish)

    @property
    def hits_overlaid(self) -> Overlay | None:
        """Its hits laid over each other."""
        return from_json(Overlay, self.overlay) if self.overlay else None

    @property
    def comparison(self) -> Comparison | None:
        """What it differs from another recording by; None until it was asked for."""
        return from_json(Comparison, self.compared) if self.compared else None
