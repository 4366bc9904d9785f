"""Forms of the rig: they check types; what fits is the core's to say."""

from django import forms

from hypotaxis.core.formats.rigfile import MAX_BYTES
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import ADDABLE, SHAPES
from hypotaxis.core.rig.values import Box

COLOURS = (
    ("", "none"),
    ("#1F7F78", "teal"),
    ("#4A83AB", "blue"),
    ("#7A6B5C", "brown"),
    ("#8B8A22", "olive"),
    ("#4F7F43", "green"),
    ("#6FA8A2", "sea"),
    ("#9A5B8C", "mauve"),
    ("#B4623F", "brick"),
)
CABLE_COLOURS = [("", "not noted")] + [
    (word, word) for word in ("black", "white", "grey", "red", "yellow", "green", "blue", "brown", "purple")
]


class BoxForm(forms.Form):
    """Name, note and colour of a box."""

    name = forms.CharField(label="Name", max_length=80, help_text="What you call it, short enough to stand on a label.")
    note = forms.CharField(label="Note", max_length=80, required=False)
    colour = forms.ChoiceField(label="Colour of its tab", choices=COLOURS, required=False)


class AddBoxForm(BoxForm):
    """A new box of a generic shape."""

    shape = forms.ChoiceField(
        label="Kind of box",
        choices=[(key, SHAPES[key].title) for key in ADDABLE],
        help_text="Its sockets come with the kind.",
    )
    field_order = ["shape", "name", "note", "colour"]


class EditBoxForm(BoxForm):
    """An existing box; an interface's MIDI ports get the owner's short names here."""

    def __init__(self, *args, box: Box, **kwargs) -> None:
        initial = {"name": box.name, "note": box.note, "colour": box.colour}
        super().__init__(*args, initial=initial, **kwargs)
        if box.colour and box.colour not in dict(COLOURS):
            self.fields["colour"].choices = [*COLOURS, (box.colour, box.colour)]
        self.ports = [socket for socket in box.sockets if socket.system_name and socket.kind == "midi"]
        for socket in self.ports:
            self.fields[f"port_{socket.uid}"] = forms.CharField(
                label=f"Your name for {socket.label}",
                max_length=80,
                required=False,
                initial=socket.port_name,
                help_text=f"The studio reports it as “{socket.system_name}”.",
            )

    def port_names(self) -> dict[str, str]:
        """The owner's names by socket uid."""
        return {socket.uid: self.cleaned_data[f"port_{socket.uid}"].strip() for socket in self.ports}


class CableDetailsForm(forms.Form):
    """What can be noted about a cable."""

    length_m = forms.FloatField(label="Length, m", min_value=0.1, max_value=500, required=False)
    colour = forms.ChoiceField(label="Colour of the cable", choices=CABLE_COLOURS, required=False)
    label = forms.CharField(label="Label on the cable", max_length=80, required=False)


class ConnectForm(CableDetailsForm):
    """A new cable between two free sockets, either named first."""

    source = forms.ChoiceField(label="From")
    target = forms.ChoiceField(label="To")
    pair = forms.BooleanField(label="Both sides of a stereo pair, where they are free", required=False, initial=True)
    field_order = ["source", "target", "pair", "length_m", "colour", "label"]

    def __init__(self, *args, plan: Plan, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        groups: dict[str, list[tuple[str, str]]] = {}
        for box, socket in plan.rig.each_socket():
            if plan.rig.cable_at(socket.uid) is None:
                groups.setdefault(box.name, []).append((socket.uid, f"{box.name}: {socket.name}"))
        choices = [("", "choose a free socket"), *groups.items()]
        self.fields["source"].choices = choices
        self.fields["target"].choices = choices
        gone = "This socket is gone or already has its cable. Choose a free one."
        for name in ("source", "target"):
            self.fields[name].error_messages = {"invalid_choice": gone, "required": "Choose a socket."}


RATES = [(rate, f"{rate} Hz") for rate in (44100, 48000, 88200, 96000)]
BUFFERS = [(size, f"{size} samples") for size in (32, 64, 128, 256, 512, 1024, 2048)]


class RigForm(forms.Form):
    """Name of a rig, and the buffer its interface is set to."""

    name = forms.CharField(label="Name of the rig", max_length=80)
    buffer = forms.TypedChoiceField(label="Buffer", choices=BUFFERS, coerce=int)

    def __init__(self, *args, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        now = self.initial.get("buffer", BUFFERS[3][0])
        if now not in dict(BUFFERS):
            self.fields["buffer"].choices = sorted([*BUFFERS, (now, f"{now} samples")])


class NewRigForm(RigForm):
    """A new, empty rig; its sample rate stays, since takes are kept in it."""

    sample_rate = forms.TypedChoiceField(label="Sample rate", choices=RATES, coerce=int)


class RigFileForm(forms.Form):
    """A rig file to read."""

    file = forms.FileField(
        label="Rig file (.json)",
        error_messages={"required": "Choose a rig file first.", "empty": "The rig file is empty."},
    )

    def clean_file(self):
        upload = self.cleaned_data["file"]
        if upload.size > MAX_BYTES:
            raise forms.ValidationError(f"The file has {upload.size / 2**20:.0f} MB; that is no rig.")
        return upload
