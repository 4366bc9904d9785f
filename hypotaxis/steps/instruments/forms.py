"""Forms of the instruments."""

from django import forms

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.shapes import SHAPES
from hypotaxis.core.rig.trips import return_sockets, send_sockets

MIDDLE = 60
GONE = "is gone from the rig"


class InstrumentForm(forms.Form):
    """Where a box's notes go and where its sound comes back. Loose ends are kept and shown, not refused."""

    name = forms.CharField(label="Name", max_length=80)
    box = forms.ChoiceField(label="Box that sounds")
    send = forms.ChoiceField(label="Notes leave by", required=False)
    channel = forms.IntegerField(label="Channel", min_value=1, max_value=16)
    left = forms.ChoiceField(label="Sound comes home on (mono, or left)", required=False)
    right = forms.ChoiceField(label="Right side", required=False, help_text="Leave empty for a mono return.")
    home_trim_db = forms.FloatField(
        label="Home trim, dB",
        min_value=-60,
        max_value=24,
        help_text="Applied when the return is heard or handed over; takes are kept as they came.",
    )

    def __init__(self, *args, plan: Plan, instrument: Instrument | None = None, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        boxes = [(b.uid, b.name) for b in plan.rig.boxes if b.shape in SHAPES and SHAPES[b.shape].sounds]
        sends = [(s.uid, plan.rig.socket_text(s.uid)) for _, s in send_sockets(plan.rig)]
        returns = [(s.uid, plan.rig.socket_text(s.uid)) for _, s in return_sockets(plan.rig)]
        self.fields["box"].choices = [("", "choose a box"), *boxes]
        self.fields["send"].choices = [("", "none yet"), *sends]
        self.fields["left"].choices = [("", "none yet"), *returns]
        self.fields["right"].choices = [("", "none: mono"), *returns]
        self.fields["box"].error_messages = {
            "required": "Choose the box that makes the sound.",
            "invalid_choice": "This box is gone from the rig. Choose another.",
        }
        if instrument:
            kept = {"box": instrument.box, "send": instrument.send}
            kept |= dict(zip(("left", "right"), instrument.returns, strict=False))
            for name, uid in kept.items():
                if uid and uid not in dict(self.fields[name].choices):
                    self.fields[name].choices = [*self.fields[name].choices, (uid, f"({name} {GONE})")]

    def clean(self):
        values = super().clean()
        if values.get("right") and not values.get("left"):
            self.add_error("left", "A right side needs a left one. Choose the left input, or make it mono.")
        elif values.get("right") and values["right"] == values["left"]:
            self.add_error("right", "Left and right are the same input. For one input leave the right side empty.")
        return values

    def returns(self) -> tuple[str, ...]:
        """The chosen inputs, left first."""
        return tuple(uid for uid in (self.cleaned_data["left"], self.cleaned_data["right"]) if uid)


class TryOutForm(forms.Form):
    """One note to play."""

    note = forms.IntegerField(label="Note, 0–127 (60 is middle C)", min_value=0, max_value=127, initial=MIDDLE)
    velocity = forms.IntegerField(label="Velocity, 1–127", min_value=1, max_value=127, initial=100)
    length_s = forms.FloatField(label="Length, s", min_value=0.05, max_value=5, initial=0.6)
    fast = forms.BooleanField(label="Stand-in faster than real time", required=False)
