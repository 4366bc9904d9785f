"""A stand-in box's front panel: its own settings, changed as if on the box, independent of the plan."""

from collections.abc import Sequence
from dataclasses import asdict

from django import forms
from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect, render

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.ports import is_port
from hypotaxis.core.rig.shapes import column_of, is_interface
from hypotaxis.core.rig.values import Box, Rig
from hypotaxis.records.current import in_use
from hypotaxis.records.models import FrontPanel as PanelRow
from hypotaxis.standin.memory import DUMPS
from hypotaxis.standin.units import HEARS, IGNORES, FrontPanel, panel_as_delivered
from hypotaxis.web.studio_startup import front_panels

LEADS = ("leads_bpm", "leads_bars")
NUMBERS = ("program", "swings_ticks")
KEYS = ("local", "played")
MEMORY = ("dumps", "sends_memory")
PATTERN = ("pattern_bars", "ignores", "loses")


class PanelForm(forms.Form):
    """What can be set on the box, and what can go wrong behind it."""

    level_db = forms.FloatField(label="Output level, dB", min_value=-60, max_value=12)
    omni = forms.BooleanField(label="Omni: answers on every channel", required=False)
    hears = forms.ChoiceField(label="Takes notes from", choices=[(name, name) for name in HEARS])
    demo = forms.BooleanField(label="Plays its own demo", required=False)
    local = forms.BooleanField(label="Local control: its own keys sound in it", required=False)
    played = forms.BooleanField(label="Someone plays a phrase on its keys", required=False)
    to_the_click = forms.BooleanField(label="Someone plays on it to the click, as he hears it", required=False)
    sequences = forms.BooleanField(
        label="It steps by itself to the click: sixteenths, and quarters on channel 2", required=False
    )
    steps = forms.BooleanField(label="Its arpeggiator steps through held keys by the clock it hears", required=False)
    pattern_bars = forms.IntegerField(
        label="Bars of its own pattern, played by the clock it hears", min_value=0, max_value=16, required=False
    )
    program = forms.IntegerField(label="Sound it stands on, as on the wire", min_value=0, max_value=127, required=False)
    swings_ticks = forms.IntegerField(
        label="Period of its LFO in clocks, 24 a quarter",
        min_value=0,
        max_value=960,
        required=False,
        help_text="0: none.",
    )
    loses = forms.BooleanField(label="It loses the first clock after a start", required=False)
    leads_bpm = forms.FloatField(
        label="It leads: the tempo of its own clock, BPM",
        min_value=0,
        max_value=300,
        required=False,
        help_text="0: it follows. In each run someone presses its start key.",
    )
    leads_bars = forms.IntegerField(
        label="It is stopped after so many bars of 4/4",
        min_value=0,
        max_value=999,
        required=False,
        help_text="0: never.",
    )
    dumps = forms.ChoiceField(
        label="Lets its memory out",
        choices=[("", "as its kind does"), *((name, name) for name in DUMPS)],
        required=False,
    )
    sends_memory = forms.BooleanField(label="In each run someone sends its memory from its panel", required=False)
    off = forms.BooleanField(label="Switched off", required=False)

    def __init__(self, *args, panel: FrontPanel, rig: Rig, box: Box, wanted: Sequence[int] = (), **kwargs) -> None:
        """wanted: the channels on which the plan sends to it, a part each."""
        kept = (
            "level_db",
            "omni",
            "hears",
            "demo",
            *KEYS,
            "to_the_click",
            "sequences",
            "steps",
            "pattern_bars",
            "loses",
            "off",
            *MEMORY,
            *LEADS,
            *NUMBERS,
        )
        initial = {name: getattr(panel, name) for name in (*kept, *LEADS, *NUMBERS)}
        super().__init__(*args, initial=initial, **kwargs)
        several = len(panel.channels) > 1
        self.parts = [f"channel_{part}" for part in range(1, len(panel.channels) + 1)]
        for part, (name, channel) in enumerate(zip(self.parts, panel.channels, strict=True), start=1):
            label = f"Receive channel, part {part}" if several else "Receive channel"
            self.fields[name] = forms.IntegerField(label=label, min_value=1, max_value=16, initial=channel)
            if part <= len(wanted):
                self.fields[name].help_text = f"The plan sends on {wanted[part - 1]}."
        if wanted and panel.channels:
            self.fields["omni"].help_text = "The plan wants it off, unless it is meant to play what others play."
        hands = column_of(box.shape) == "hands"
        gone = () if hands else ("to_the_click", "sequences")
        if not panel.channels:
            gone += (
                "level_db",
                "omni",
                "hears",
                "steps",
                "pattern_bars",
                "loses",
                *NUMBERS,
                *MEMORY,
                *(() if hands else ("demo",)),
            )
        if is_interface(box.shape) or not _sends(box):
            gone += LEADS
        if hands or not panel.channels or not _has_keys(box):
            gone += KEYS
        for name in gone:
            del self.fields[name]
        if hands:
            self.fields["demo"].label = "Someone plays a phrase on it"
        if panel.channels:
            self._choose("ignores", "What it does not obey", list(IGNORES), panel.ignores)
        self.gains = _inputs_of(box)
        for name, label in self.gains.items():
            self.fields[name] = forms.FloatField(
                label=f"Gain of {label}, dB",
                min_value=-20,
                max_value=60,
                required=False,
                initial=panel.gains.get(label, 0.0),
            )
        self._choose(
            "loose", "Cables that have slipped out", [s.label for s in box.sockets if s.pluggable], panel.loose
        )
        ports = [socket.label for socket in box.sockets if is_port(rig, box, socket)]
        self._choose("taken", "Ports that another program holds", ports, panel.taken)
        self.order_fields(
            [
                "off",
                *self.parts,
                "omni",
                "hears",
                "level_db",
                *self.gains,
                "demo",
                "steps",
                *PATTERN,
                *NUMBERS,
                *MEMORY,
                *LEADS,
                "loose",
                "taken",
            ]
        )

    def _choose(self, name: str, label: str, labels: list[str], chosen: frozenset[str]) -> None:
        if labels:
            self.fields[name] = forms.MultipleChoiceField(
                label=label,
                choices=[(one, one) for one in labels],
                initial=sorted(chosen),
                required=False,
                widget=forms.CheckboxSelectMultiple,
            )

    def settings(self) -> dict:
        """The panel as stored."""
        made = (*self.parts, *self.gains)
        values = {name: value for name, value in self.cleaned_data.items() if name not in made}
        values |= {name: values[name] or 0 for name in (*LEADS, *NUMBERS) if name in values}
        if self.gains:
            values["gains"] = {label: self.cleaned_data[name] or 0.0 for name, label in self.gains.items()}
        return values | {"channels": [self.cleaned_data[name] for name in self.parts]}


def _has_keys(box: Box) -> bool:
    """Whether it is played as well as it sounds."""
    return any(one.duty.startswith("played from") for one in box.sockets)


def _sends(box: Box) -> bool:
    """Whether it has a MIDI out of its own, by which it could lead."""
    return any((one.kind, one.direction) == ("midi", "out") and not one.thru_of for one in box.sockets)


def _inputs_of(box: Box) -> dict[str, str]:
    """Names of the fields for the gains of an interface's audio inputs, with the inputs' labels."""
    sockets = box.sockets if is_interface(box.shape) else ()
    labels = [socket.label for socket in sockets if (socket.kind, socket.direction) == ("audio", "in")]
    return {f"gain_{number}": label for number, label in enumerate(labels)}


def panel(request, uid):
    """The front panel of one stand-in box."""
    box = in_use(request).plan.rig.box(str(uid))
    if box is None or box.shape == "host":
        raise Http404
    now = front_panels().get(box.uid, panel_as_delivered(box))
    plan = in_use(request).plan
    came_from = plan.instrument(request.GET.get("for", ""))
    form = PanelForm(request.POST or None, panel=now, rig=plan.rig, box=box, wanted=_wanted(plan, box))
    if request.method == "POST" and form.is_valid():
        kept = PanelRow.objects.filter(box_uid=box.uid).first()
        settings = _plain(now) | (kept.settings if kept else {}) | form.settings()
        PanelRow.objects.update_or_create(box_uid=box.uid, defaults={"settings": settings})
        messages.success(request, f"{box.name} is set, as if on the box. The plan knows nothing of it.")
        if came_from:
            return redirect("instruments:open", uid=came_from.uid)
        return redirect("front-panel", uid=uid)
    display = PanelRow.objects.filter(box_uid=box.uid).values_list("display_bpm", flat=True).first()
    context = {"box": box, "form": form, "came_from": came_from, "display": display}
    if request.headers.get("X-Fragment"):
        return render(request, "web/includes/display.html", context)
    return render(request, "web/front_panel.html", context)


def _wanted(plan: Plan, box: Box) -> list[int]:
    """The channels on which the plan sends to a box, in the order of its instruments and their parts."""
    return list(dict.fromkeys(seat.channel for one in plan.instruments if one.box == box.uid for seat in one.seats))


def _plain(panel: FrontPanel) -> dict:
    return {name: sorted(value) if isinstance(value, frozenset) else value for name, value in asdict(panel).items()}
