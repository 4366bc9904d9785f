"""Rows of background work."""

from django.db import models

from hypotaxis.records.models.base import WithUid


class Job(WithUid):
    """One piece of background work. request: what was asked for, result: what it found, both as JSON; progress 0–1;
    remaining_s None while unknown; reported: when progress was stored last; token: of the form that asked, so that
    what is sent twice is done once; attempts: how often it was begun."""

    WAITING, RUNNING, DONE = "waiting", "running", "done"
    CANCELLED, FAILED, INTERRUPTED = "cancelled", "failed", "interrupted"
    UNFINISHED = (WAITING, RUNNING)
    STATES = [(state, state) for state in (WAITING, RUNNING, DONE, CANCELLED, FAILED, INTERRUPTED)]

    kind = models.CharField(max_length=20)
    about = models.CharField(max_length=36, blank=True)
    state = models.CharField(max_length=12, choices=STATES, default=WAITING)
    progress = models.FloatField(default=0.0)
    remaining_s = models.FloatField(null=True)
    reported = models.DateTimeField(null=True)
    message = models.TextField(blank=True)
    cancel = models.BooleanField(default=False)
    request = models.JSONField(default=dict)
    result = models.JSONField(default=dict)
    token = models.CharField(max_length=64, null=True, unique=True)  # noqa: DJ001 - many without, none twice
    attempts = models.PositiveSmallIntegerField(default=0)
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["made"]
        # Thousands come together over the years, and a poll asks for the newest of one kind, or for what runs.
        indexes = [
            models.Index(fields=["kind", "about", "made"], name="job_of_kind"),
            models.Index(fields=["state"], name="job_in_state"),
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.state}"

    @property
    def percent(self) -> float:
        """How far it is."""
        return round(self.progress * 100, 1)

    @property
    def finished(self) -> bool:
        return self.state not in self.UNFINISHED
