"""Rows of what is kept to begin with."""

from django.db import models

from hypotaxis.records.models.base import WithUid


class Template(WithUid):
    """kind: one of core.session.templates.KINDS; content: a value of its class."""

    kind = models.CharField(max_length=12)
    name = models.CharField(max_length=80)
    content = models.JSONField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-made"]

    def __str__(self) -> str:
        return self.name
