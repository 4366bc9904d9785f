"""Rows of memories of boxes that are kept with a session."""

from django.db import models

from hypotaxis.core.midi.dumps import messages_in
from hypotaxis.records.models.base import WithUid
from hypotaxis.records.models.session import Session

ASKED, PANEL, FILE = SOURCES = ("asked", "panel", "file")
"""How a dump came: the box was asked, it was sent from its panel, it was read from a file."""


class Dump(WithUid):
    """A box's memory as system exclusive messages. source: one of SOURCES; verified: when the box was asked again and
    held the same."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="dumps")
    box_uid = models.CharField(max_length=36)
    box_name = models.CharField(max_length=80)
    data = models.BinaryField()
    source = models.CharField(max_length=8)
    made = models.DateTimeField(auto_now_add=True)
    verified = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-made"]

    def __str__(self) -> str:
        return f"Memory of {self.box_name}"

    @property
    def messages(self) -> tuple[bytes, ...]:
        """It taken apart."""
        return messages_in(bytes(self.data))
