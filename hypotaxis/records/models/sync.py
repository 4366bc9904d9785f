"""Proofs: how a box really followed, measured on the box itself."""

from functools import cached_property

from django.db import models

from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.sync.proof import Proof as Proved
from hypotaxis.records.models.base import WithUid
from hypotaxis.records.models.rig import Rig
from hypotaxis.records.models.session import Session
from hypotaxis.records.models.work import Job


class Proof(WithUid):
    """One proof of a box. port: uid of the port its clock came from; fast: faster than real time, on the stand-in;
    context: what it depends on, as it was then (steps.sync.proving); result: a core.sync.proof.Proof, None until it
    is there; own_time: it played, and not in the clock's time."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="proofs")
    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="proofs")
    box_uid = models.CharField(max_length=36, db_index=True)
    port = models.CharField(max_length=36)
    fast = models.BooleanField(default=False)
    made = models.DateTimeField(auto_now_add=True)
    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="proof")
    context = models.JSONField(default=dict)
    result = models.JSONField(null=True)
    own_time = models.BooleanField(default=False)

    class Meta:
        ordering = ["-made"]

    def __str__(self) -> str:
        return self.box_uid

    @cached_property
    def proved(self) -> Proved | None:
        """What came of it."""
        return from_json(Proved, self.result) if self.result else None
