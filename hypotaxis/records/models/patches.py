"""Rows of patch lists. They belong to no rig: a list serves every rig in which its box stands."""

from django.db import models

from hypotaxis.core.midi.programs import wire_told
from hypotaxis.records.models.base import WithUid


class PatchList(WithUid):
    """Named sounds of a box. form: display numbers, a key of core.patches.numbers.FORMS; banks: rows of Bank;
    note_maps: rows of NoteMap."""

    name = models.CharField(max_length=80)
    form = models.CharField(max_length=10, blank=True)
    banks = models.JSONField(default=list)
    note_maps = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Patch(WithUid):
    """A sound; fields as in core.patches.values.Patch. favourite; used: when it was last called up; checked: when the
    owner heard that name and sound belong together."""

    # Before `list`, which is the builtin no longer from there on.
    controls = models.JSONField(default=list)
    list = models.ForeignKey(PatchList, on_delete=models.CASCADE, related_name="patches")
    row = models.PositiveIntegerField()
    name = models.CharField(max_length=120)
    number = models.CharField(max_length=12, blank=True)
    bank = models.PositiveIntegerField(default=0)
    msb = models.PositiveSmallIntegerField(null=True, blank=True)
    lsb = models.PositiveSmallIntegerField(null=True, blank=True)
    program = models.PositiveSmallIntegerField(null=True, blank=True)
    category = models.CharField(max_length=80, blank=True)
    favourite = models.BooleanField(default=False)
    used = models.DateTimeField(null=True, blank=True)
    checked = models.DateField(null=True, blank=True)

    class Meta:
        ordering = ["row"]
        indexes = [models.Index(fields=["list", "row"])]

    def __str__(self) -> str:
        return self.name

    @property
    def wire_told(self) -> str:
        """The numbers that call it up."""
        return wire_told(self.program, self.msb, self.lsb)
