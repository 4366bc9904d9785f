"""What says whether rows have changed."""

from django.db import models


class Stamp(models.Model):
    """A number that every change to the tables of a subject replaces by chance, whoever makes it: triggers of the
    database do it (records/stamps.py). So the same number means the same rows, also after one
    that was taken back."""

    subject = models.CharField(max_length=10, primary_key=True)
    value = models.BigIntegerField()

    def __str__(self) -> str:
        return f"{self.subject} {self.value}"
