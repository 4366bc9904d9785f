"""Rows of the rig. Instruments name sockets by uid without a foreign key: they may point to something gone."""

from django.db import models

from hypotaxis.records.models.base import WithUid


class Rig(WithUid):
    """Everything on the desk. meant: rows of core.plan.Meant; template: kept to start from, never worked on;
    away: put away, not gone."""

    name = models.CharField(max_length=80)
    sample_rate = models.PositiveIntegerField(default=48000)
    buffer = models.PositiveIntegerField(default=256)
    echo = models.BooleanField(default=True)
    leader = models.CharField(max_length=36, blank=True)
    driver = models.CharField(max_length=80, blank=True)
    stamps = models.CharField(max_length=80, blank=True)
    together = models.CharField(max_length=20, default="as it is")
    meant = models.JSONField(default=list, blank=True)
    template = models.BooleanField(default=False)
    away = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["created"]

    def __str__(self) -> str:
        return self.name


class Box(WithUid):
    """Any unit with sockets; setup, delays, following: fields of core.rig.values.Setup and Delays, and of
    core.sync.values.Following."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="boxes")
    name = models.CharField(max_length=80)
    shape = models.CharField(max_length=40)
    note = models.CharField(max_length=80, blank=True)
    colour = models.CharField(max_length=7, blank=True)
    order = models.PositiveIntegerField(default=0)
    by_hand = models.BooleanField(default=False)
    icon = models.CharField(max_length=20, blank=True)
    picture = models.CharField(max_length=70, blank=True)
    identity = models.CharField(max_length=40, blank=True)
    setup = models.JSONField(default=dict, blank=True)
    delays = models.JSONField(default=dict, blank=True)
    following = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["order", "name"]

    def __str__(self) -> str:
        return self.name


class Socket(WithUid):
    """A place to plug in; fields as in core.rig.values.Socket. row: place on its box."""

    box = models.ForeignKey(Box, on_delete=models.CASCADE, related_name="sockets")
    row = models.PositiveIntegerField(default=0)
    label = models.CharField(max_length=80)
    direction = models.CharField(max_length=4)
    kind = models.CharField(max_length=8)
    connector = models.CharField(max_length=12, blank=True)
    thru_of = models.CharField(max_length=80, blank=True)
    separate = models.CharField(max_length=80, blank=True)
    stereo = models.CharField(max_length=80, blank=True)
    both_sides = models.BooleanField(default=False)
    level = models.CharField(max_length=12, blank=True)
    max_dbu = models.FloatField(null=True, blank=True)
    carried_by = models.CharField(max_length=80, blank=True)
    port_name = models.CharField(max_length=80, blank=True)
    system_name = models.CharField(max_length=200, blank=True)
    duty = models.CharField(max_length=40, blank=True)
    clock = models.BooleanField(default=False)
    sending = models.JSONField(null=True, blank=True)

    class Meta:
        ordering = ["row"]

    def __str__(self) -> str:
        return self.label


class Cable(WithUid):
    """Joins two sockets."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="cables")
    source = models.OneToOneField(Socket, on_delete=models.CASCADE, related_name="cable_out")
    target = models.OneToOneField(Socket, on_delete=models.CASCADE, related_name="cable_in")
    kind = models.CharField(max_length=12, blank=True)
    adapter = models.CharField(max_length=80, blank=True)
    length_m = models.FloatField(null=True, blank=True)
    colour = models.CharField(max_length=20, blank=True)
    label = models.CharField(max_length=80, blank=True)

    def __str__(self) -> str:
        return f"{self.source} to {self.target}"


class Route(WithUid):
    """A path inside a box; fields as in core.rig.values.Route. row: place on its box."""

    box = models.ForeignKey(Box, on_delete=models.CASCADE, related_name="routes")
    row = models.PositiveIntegerField(default=0)
    source = models.ForeignKey(Socket, on_delete=models.CASCADE, related_name="routes_out")
    target = models.ForeignKey(Socket, on_delete=models.CASCADE, related_name="routes_in")
    channels = models.JSONField(default=list, blank=True)
    remap = models.JSONField(default=list, blank=True)
    clock = models.BooleanField(default=True)
    gain_db = models.FloatField(default=0.0)

    class Meta:
        ordering = ["row"]

    def __str__(self) -> str:
        return f"{self.source} to {self.target}"


class Instrument(WithUid):
    """Where a box's notes go and where its sound comes back. Socket uids are kept as text; "" is none.
    parts, further, voices: rows of core.plan.Part, Return and Voice."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="instruments")
    name = models.CharField(max_length=80)
    box_uid = models.CharField(max_length=36, blank=True)
    send_uid = models.CharField(max_length=36, blank=True)
    channel = models.PositiveSmallIntegerField(default=1)
    returns = models.JSONField(default=list, blank=True)
    home_trim_db = models.FloatField(default=0.0)
    given_ms = models.FloatField(null=True, blank=True)
    given_from = models.CharField(max_length=8, blank=True)
    colour = models.CharField(max_length=7, blank=True)
    order = models.PositiveIntegerField(default=0)
    patch_list = models.CharField(max_length=36, blank=True)
    patch = models.CharField(max_length=36, blank=True)
    note_map = models.CharField(max_length=80, blank=True)
    bank_form = models.CharField(max_length=8, default="both")
    gap_ms = models.FloatField(default=20.0)
    middle_c = models.PositiveSmallIntegerField(default=4)
    notes = models.TextField(blank=True)
    group = models.CharField(max_length=40, blank=True)
    shaping = models.JSONField(default=dict, blank=True)
    inverted = models.BooleanField(default=False)
    parts = models.JSONField(default=list, blank=True)
    further = models.JSONField(default=list, blank=True)
    voices = models.JSONField(default=list, blank=True)
    standing = models.JSONField(default=list, blank=True)

    class Meta:
        ordering = ["order", "name"]

    def __str__(self) -> str:
        return self.name


class Loop(WithUid):
    """An effect loop; fields as in core.plan.Loop."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="loops")
    order = models.PositiveIntegerField(default=0)
    name = models.CharField(max_length=80)
    box_uid = models.CharField(max_length=36, blank=True)
    sends = models.JSONField(default=list, blank=True)
    returns = models.JSONField(default=list, blank=True)
    home_trim_db = models.FloatField(default=0.0)
    inverted = models.BooleanField(default=False)
    given_ms = models.FloatField(null=True, blank=True)
    given_from = models.CharField(max_length=8, blank=True)
    colour = models.CharField(max_length=7, blank=True)
    notes = models.TextField(blank=True)

    class Meta:
        ordering = ["order", "name"]

    def __str__(self) -> str:
        return self.name


class KeptRig(models.Model):
    """A rig as it stood when something was recorded. packed: its rig file, compressed; digest: of that text."""

    digest = models.CharField(max_length=64, primary_key=True)
    packed = models.BinaryField()

    def __str__(self) -> str:
        return self.digest[:12]


class Change(models.Model):
    """One step of the journal: what it was, and every row before and after it; session: whose, where it is
    not the rig's. undone: taken back for now."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="changes")
    session = models.ForeignKey("Session", on_delete=models.CASCADE, null=True, related_name="changes")
    made = models.DateTimeField(auto_now_add=True)
    title = models.CharField(max_length=200)
    edits = models.JSONField()
    undone = models.BooleanField(default=False)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return self.title


class FrontPanel(models.Model):
    """Settings of a stand-in box, as if on the box; they do not belong to the plan and know nothing of it. A box that
    is a copy in another rig names under "nature" the box on the desk that it stands for. display_bpm: the tempo that
    its display showed last; memory: what is in its memory, as hexadecimal digits, "" = as delivered."""

    box_uid = models.CharField(max_length=36, primary_key=True)
    settings = models.JSONField(default=dict)
    display_bpm = models.FloatField(null=True)
    memory = models.TextField(blank=True)

    def __str__(self) -> str:
        return self.box_uid


class Tick(models.Model):
    """A step of a rig's start-up list ticked on one day, or a setting on a box with the day it was made."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="ticks")
    key = models.CharField(max_length=120)
    day = models.DateField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["rig", "key", "day"], name="one_tick_a_day")]

    def __str__(self) -> str:
        return f"{self.key} on {self.day}"
