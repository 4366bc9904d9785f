"""The studio that this computer uses. It belongs to the computer and not to a rig: a rig's file says nothing of it."""

from django.db import models

from hypotaxis.core.studio import STAND_IN


class Studio(models.Model):
    """The choice, and what the studio said last; one row. Pages read it and never open a studio."""

    kind = models.CharField(max_length=20, default=STAND_IN)
    server = models.CharField(max_length=80, blank=True)
    input_device = models.CharField(max_length=200, blank=True)
    """Of system audio; "" = the system's own choice, as 0 below."""
    output_device = models.CharField(max_length=200, blank=True)
    rate = models.PositiveIntegerField(default=0)
    buffer = models.PositiveIntegerField(default=0)
    reported = models.JSONField(null=True)
    """A core.studio.Reported, None = it has not answered."""
    looked = models.DateTimeField(null=True)
    trouble = models.TextField(blank=True)
    """Why it did not answer."""
    last_run = models.JSONField(null=True)
    """A core.studio.RunTold: what the last run says of itself."""

    def __str__(self) -> str:
        return self.kind


class EndName(models.Model):
    """What a studio of real devices calls an end of the desk, as the person matched it."""

    studio = models.CharField(max_length=20)
    socket_uid = models.CharField(max_length=36)
    name = models.CharField(max_length=200)
    key = models.CharField(max_length=200, blank=True)
    """What stays of it when the system names it anew."""

    class Meta:
        constraints = (models.UniqueConstraint(fields=["studio", "socket_uid"], name="one_name_an_end"),)

    def __str__(self) -> str:
        return self.name


class OwnPort(models.Model):
    """A port, input or output of our own that other programs can connect to, as the person named it."""

    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=10)
    direction = models.CharField(max_length=3)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["name"], name="one_port_a_name"),)

    def __str__(self) -> str:
        return self.name
