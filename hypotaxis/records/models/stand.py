"""What the stand view shows, for whoever opens it."""

from django.db import models


class Stand(models.Model):
    """One row. session: uid of what it shows, the one that was recorded or chosen last; sound: "instrument/part" (uids)
    that is tried there; keys: core.playing.stand_keys.StandKey values, which press its buttons."""

    session = models.CharField(max_length=36, blank=True)
    sound = models.CharField(max_length=80, blank=True)
    keys = models.JSONField(default=list)

    def __str__(self) -> str:
        return self.session
