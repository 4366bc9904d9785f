"""Forms of the rig: they check types; what fits is the core's to say."""

from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import lru_cache

from django import forms
from django.utils.safestring import SafeString, mark_safe

from hypotaxis.core.errors import BadDump
from hypotaxis.core.formats.rigfile import MAX_BYTES
from hypotaxis.core.midi.dumps import USUAL_PAUSE_MS, request_of
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.listening import leading_boxes
from hypotaxis.core.rig.plug import CABLE_KINDS
from hypotaxis.core.rig.ports import PortEnd
from hypotaxis.core.rig.shapes import BY_GROUP, ICONS, SHAPES, is_interface
from hypotaxis.core.rig.values import (
    CONNECTORS,
    IN_DUTIES,
    KINDS,
    LEVELS,
    LINKS,
    OUT_DUTIES,
    Box,
    Cable,
    Delays,
    Route,
    Setup,
    Socket,
)
from hypotaxis.core.studio import AUDIO, JACK, MIDI, STUDIO_NAMES
from hypotaxis.records.choices import Options, SharedChoice
from hypotaxis.records.merging import Merged

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
LEVEL_NAMES = {"": "not noted", "line +4": "line, +4 dBu", "line -10": "line, −10 dBV"}
KIND_NAMES = {"midi": "MIDI", "audio": "audio", "cv": "control voltage", "usb": "USB", "network": "network"}
LOCAL_NAMES = (
    ("", "it has none, or it does not matter"),
    ("on", "on"),
    ("off", "off"),
    ("always on", "always on: cannot be switched off"),
)
CLOCK_NAMES = (("", "it has none"), ("internal", "internal: its own"), ("external", "external: it follows"))
SET_BY_NAMES = (("menu", "a menu"), ("switches", "switches on the back"), ("editor", "an editor program"))


class ChannelsField(forms.CharField):
    """Channels as people write them: "1, 3, 10-12"; empty for none."""

    def clean(self, value):
        text = super().clean(value).replace("–", "-")
        found: set[int] = set()
        for piece in filter(None, (piece.strip() for piece in text.split(","))):
            first, _, last = piece.partition("-")
            if not first.strip().isdecimal() or (last and not last.strip().isdecimal()):
                raise forms.ValidationError(f"“{piece}” is not a channel. Write channels like 1, 3, 10-12.")
            low, high = int(first), int(last or first)
            if not 1 <= low <= high <= 16:
                raise forms.ValidationError(f"“{piece}” is not within the channels 1 to 16.")
            found.update(range(low, high + 1))
        return tuple(sorted(found))

    def prepare_value(self, value):
        return ", ".join(map(str, value)) if isinstance(value, tuple) else value


class RemapField(forms.CharField):
    """Channels that leave as others: "1>3, 2>4"; empty for none."""

    def clean(self, value):
        pairs: dict[int, int] = {}
        for piece in filter(None, (piece.strip() for piece in super().clean(value).split(","))):
            one, mark, other = (part.strip() for part in piece.partition(">"))
            if not (mark and one.isdecimal() and other.isdecimal()):
                raise forms.ValidationError(f"“{piece}” is not a change of channel. Write it like 1>3, 2>4.")
            if not (1 <= int(one) <= 16 and 1 <= int(other) <= 16):
                raise forms.ValidationError(f"“{piece}” is not within the channels 1 to 16.")
            if int(one) in pairs:
                raise forms.ValidationError(f"Channel {one} is changed twice. Keep one of them.")
            pairs[int(one)] = int(other)
        return tuple(sorted(pairs.items()))

    def prepare_value(self, value):
        return ", ".join(f"{one}>{other}" for one, other in value) if isinstance(value, tuple) else value


class BoxForm(forms.Form):
    """Name, note and colour of a box."""

    name = forms.CharField(label="Name", max_length=80, help_text="What you call it, short enough to stand on a label.")
    note = forms.CharField(label="Note", max_length=80, required=False)
    colour = forms.ChoiceField(label="Colour of its tab", choices=COLOURS, required=False)


class AddBoxForm(BoxForm):
    """A new box of a generic shape."""

    shape = forms.ChoiceField(
        label="Kind of box",
        choices=[(group, kinds) for group, kinds in BY_GROUP.items()],
        help_text="Its sockets come with the kind; every one of them can be changed.",
    )
    field_order = ["shape", "name", "note", "colour"]


class EditBoxForm(Merged, BoxForm):
    """An existing box, with its icon or picture."""

    icon = forms.ChoiceField(label="Icon", choices=[("", "of its kind"), *((i, i) for i in ICONS)], required=False)
    picture = forms.FileField(label="Picture instead (PNG, JPEG, WebP …)", required=False)
    no_picture = forms.BooleanField(label="Take the picture off", required=False)

    def __init__(self, *args, box: Box, **kwargs) -> None:
        initial = {name: getattr(box, name) for name in ("name", "note", "colour", "icon")}
        super().__init__(*args, initial=initial, **kwargs)
        if box.colour and box.colour not in dict(COLOURS):
            self.fields["colour"].choices = [*COLOURS, (box.colour, box.colour)]
        if not box.picture:
            del self.fields["no_picture"]


class SetupForm(Merged, forms.Form):
    """What a box can do and what the plan takes it to be set to."""

    receives = ChannelsField(
        label="Receives on channels", required=False, help_text="Like 1, 3, 10-12. Empty: as its instruments say."
    )
    omni = forms.BooleanField(label="Omni: answers on every channel", required=False)
    transmits = ChannelsField(label="Sends on channels", required=False)
    local = forms.ChoiceField(label="Local control", choices=LOCAL_NAMES, required=False)
    clock = forms.ChoiceField(label="Clock", choices=CLOCK_NAMES, required=False)
    takes_clock = forms.BooleanField(label="Can follow clock", required=False)
    sends_clock = forms.BooleanField(label="Can send clock", required=False)
    takes_time_code = forms.BooleanField(label="Can follow time code", required=False)
    sends_time_code = forms.BooleanField(label="Can send time code", required=False)
    set_by = forms.ChoiceField(label="Its settings are made in", choices=SET_BY_NAMES)
    parts = forms.IntegerField(
        label="Parts", min_value=0, max_value=256, required=False, help_text="Empty: as its kind has."
    )
    lanes = forms.IntegerField(
        label="Lanes of its sequencer",
        min_value=1,
        max_value=256,
        required=False,
        help_text="Rows that drive one sound each. Empty: none, or no limit.",
    )
    polyphony = forms.IntegerField(
        label="Notes it sounds at once", min_value=1, max_value=256, required=False, help_text="Empty: not known."
    )

    def __init__(self, *args, box: Box, **kwargs) -> None:
        super().__init__(*args, initial={name: getattr(box.setup, name) for name in self.base_fields}, **kwargs)
        voices = [socket.separate for socket in box.sockets if socket.separate]
        if voices:
            self.fields["uses"] = forms.MultipleChoiceField(
                label="Separate outs that are switched on",
                choices=[(voice, voice) for voice in voices],
                initial=list(box.setup.uses),
                required=False,
                widget=forms.CheckboxSelectMultiple,
            )
        if box.shape in SHAPES and SHAPES[box.shape].sounds:
            self.fields |= _dump_fields(box)
        if _stores_routings(box):
            self.fields |= _routing_fields(box)
        self.delays_known = _delays_of(box)
        for name, (label, unit) in self.delays_known.items():
            self.fields[name] = forms.FloatField(
                label=f"{label}, {unit}",
                min_value=0,
                max_value=1000 if unit == "ms" else 10_000,
                required=False,
                initial=getattr(box.delays, name),
                help_text="From its data sheet, or measured elsewhere. Empty: not known.",
            )

    def delays(self) -> Delays:
        """What is known of the box's delays."""
        return Delays(**{name: self.cleaned_data[name] for name in self.delays_known})

    def setup(self) -> dict:
        """Fields of core.rig.values.Setup."""
        values = dict(self.cleaned_data)
        if "uses" in values:
            values["uses"] = tuple(values["uses"])
        if "routing" in values:
            # Shown as routers count, kept as the wire does.
            values["routing"] = None if values["routing"] is None else values["routing"] - 1
            values["routing_channel"] = values["routing_channel"] or 1
        if "dump_request" in values:
            values["dump_pause_ms"] = USUAL_PAUSE_MS if values["dump_pause_ms"] is None else values["dump_pause_ms"]
            values["dump_bytes_s"] = values["dump_bytes_s"] or 0
        return {name: value for name, value in values.items() if name in Setup.__dataclass_fields__}


class RequestField(forms.CharField):
    """A request for a dump, as it stands in a handbook; kept as plain hexadecimal bytes."""

    def clean(self, value) -> str:
        text = super().clean(value)
        try:
            return request_of(text).hex(" ").upper() if text else ""
        except BadDump as error:
            raise forms.ValidationError(str(error)) from error


def _dump_fields(box: Box) -> dict[str, forms.Field]:
    setup = box.setup
    return {
        "dump_request": RequestField(
            label="What asks it for its memory (SysEx)",
            required=False,
            initial=setup.dump_request,
            help_text="As in its handbook, like F0 7D 05 10 F7. Empty: it is sent from its panel.",
        ),
        "dump_pause_ms": forms.FloatField(
            label="Pause between messages sent back, ms",
            min_value=0,
            max_value=10_000,
            required=False,
            initial=setup.dump_pause_ms,
        ),
        "dump_bytes_s": forms.IntegerField(
            label="Bytes a second it bears",
            min_value=0,
            max_value=1_000_000,
            required=False,
            initial=setup.dump_bytes_s or None,
            help_text="Empty: as the wire carries them, 3,125.",
        ),
    }


def _stores_routings(box: Box) -> bool:
    """Whether it is a router of MIDI, which may keep routings and call them up by a program change."""
    return SHAPES[box.shape].icon == "router" if box.shape in SHAPES else False


def _routing_fields(box: Box) -> dict[str, forms.Field]:
    setup = box.setup
    ends = [(one.label, one.label) for one in box.sockets if one.kind == "midi" and one.direction != "out"]
    ends += [(one.label, one.label) for one in box.sockets if one.carried_by and (one.label, one.label) not in ends]
    return {
        "routing": forms.IntegerField(
            label="Stored routing that this rig needs",
            min_value=1,
            max_value=128,
            required=False,
            initial=None if setup.routing is None else setup.routing + 1,
            help_text="As the router counts, from 1; called up by a program change before the sounds. Empty: none.",
        ),
        "routing_by": forms.ChoiceField(
            label="It is called up at", choices=[("", "not noted"), *ends], required=False, initial=setup.routing_by
        ),
        "routing_channel": forms.IntegerField(
            label="on channel", min_value=1, max_value=16, required=False, initial=setup.routing_channel
        ),
    }


def _delays_of(box: Box) -> dict[str, tuple[str, str]]:
    """The delays that a box can have, with label and unit."""
    shape = SHAPES.get(box.shape)
    ways = {(socket.kind, socket.direction) for socket in box.sockets}
    found = {}
    if is_interface(box.shape):
        found["out_ms"] = "Driver and link on the way out", "ms"
        if ("audio", "in") in ways:
            found["converter_samples"] = "Converter", "samples"
            found["driver_samples"] = "Driver on the way home", "samples"
    elif shape and shape.sounds:
        found["reaction_ms"] = "Reaction, from a note to its sound", "ms"
    if not is_interface(box.shape) and any({(kind, "in"), (kind, "out")} <= ways for kind in ("audio", "midi")):
        found["through_ms"] = "From in to out, of what passes through", "ms"
    return found


class SocketForm(Merged, forms.Form):
    """A socket of a box: label, direction, kind, connector, pairing, level."""

    label = forms.CharField(label="Label, as printed on the panel", max_length=80)
    kind = forms.ChoiceField(label="Kind", choices=KIND_NAMES.items())
    direction = forms.ChoiceField(
        label="Direction",
        choices=(("in", "in"), ("out", "out"), ("both", "both (USB, network)")),
        help_text="Seen from the box.",
    )
    connector = forms.ChoiceField(label="Connector", choices=CONNECTORS.items(), required=False)
    stereo = forms.ChoiceField(label="Other side of the pair", required=False)
    both_sides = forms.BooleanField(label="One socket for left and right (TRS stereo)", required=False)
    level = forms.ChoiceField(
        label="Level", choices=[(level, LEVEL_NAMES.get(level, level)) for level in LEVELS], required=False
    )
    max_dbu = forms.FloatField(
        label="Maximum level, dBu",
        min_value=-60,
        max_value=60,
        required=False,
        help_text="From its data sheet. Empty: the usual of its level.",
    )
    thru_of = forms.ChoiceField(label="Thru: repeats in hardware", required=False)
    separate = forms.CharField(
        label="Separate out of the voice",
        max_length=80,
        required=False,
        help_text="A cable here takes this voice out of the main outs.",
    )
    carried_by = forms.ChoiceField(
        label="Port inside the link", required=False, help_text="A MIDI end that the computer sees by USB or network."
    )

    def __init__(self, *args, box: Box, socket: Socket | None = None, **kwargs) -> None:
        names = tuple(self.base_fields)
        initial = {name: getattr(socket, name) for name in names} if socket else {"kind": "audio", "direction": "out"}
        super().__init__(*args, initial=initial, **kwargs)
        others = [other for other in box.sockets if socket is None or other.uid != socket.uid]
        self.taken = {other.label for other in others}
        choices = {
            "stereo": [other.label for other in others if other.kind in ("audio", "cv")],
            "thru_of": [other.label for other in others if other.kind == "midi" and other.direction == "in"],
            "carried_by": [other.label for other in others if other.kind in LINKS],
        }
        for name, labels in choices.items():
            now = initial.get(name)
            labels = labels if not now or now in labels else [*labels, now]
            self.fields[name].choices = [("", "none"), *((label, label) for label in labels)]
            if not labels:
                self.fields[name].widget = forms.HiddenInput()

    def clean_label(self):
        label = self.cleaned_data["label"].strip()
        if label in self.taken:
            raise forms.ValidationError(f"This box has a socket {label} already. Give this one a label of its own.")
        return label

    def clean(self):
        values = super().clean()
        kind, direction = values.get("kind"), values.get("direction")
        if kind in LINKS and direction != "both":
            self.add_error("direction", f"A {KIND_NAMES[kind]} socket goes both ways. Choose both.")
        elif kind in KINDS and kind not in LINKS and direction == "both":
            self.add_error("direction", "Only USB and network go both ways. Choose in or out.")
        if values.get("thru_of") and (kind, direction) != ("midi", "out"):
            self.add_error("thru_of", "A thru is a MIDI out. Change kind and direction, or choose none.")
        if values.get("carried_by") and kind != "midi":
            self.add_error("carried_by", "Only MIDI ends are ports inside a link. Choose none, or make it MIDI.")
        if values.get("stereo") and values.get("both_sides"):
            self.add_error("both_sides", "Either it has another side, or it carries both itself.")
        return values


class CableDetailsForm(forms.Form):
    """What can be noted about a cable."""

    length_m = forms.FloatField(label="Length, m", min_value=0.1, max_value=500, required=False)
    colour = forms.ChoiceField(label="Colour of the cable", choices=CABLE_COLOURS, required=False)
    label = forms.CharField(label="Label on the cable", max_length=80, required=False)
    kind = forms.ChoiceField(label="How it is made", choices=CABLE_KINDS.items(), required=False)

    @staticmethod
    def of(cable: Cable) -> dict:
        """What is noted on a cable, to begin with."""
        return {name: getattr(cable, name) for name in ("length_m", "colour", "label", "kind", "adapter")}


class EditCableForm(Merged, CableDetailsForm):
    """A cable that is there, with what sits between."""

    adapter = forms.CharField(label="Adapter", max_length=80, required=False)


class ConnectForm(CableDetailsForm):
    """New cables between two free sockets, either named first."""

    source = forms.ChoiceField(label="From")
    target = forms.ChoiceField(label="To")
    count = forms.TypedChoiceField(
        label="How many",
        coerce=int,
        choices=[
            (1, "this one"),
            (2, "both sides of a stereo pair"),
            (4, "four side by side"),
            (8, "eight side by side"),
            (16, "sixteen side by side"),
        ],
        initial=2,
        help_text="Where sockets run out or are taken, it ends early.",
    )
    field_order = ["source", "target", "count", "length_m", "colour", "label", "kind"]

    def __init__(self, *args, plan: Plan, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        groups: dict[str, list[tuple[str, str]]] = {}
        for box, socket in plan.rig.each_socket():
            if socket.pluggable and plan.rig.cable_at(socket.uid) is None:
                groups.setdefault(box.name, []).append((socket.uid, f"{box.name}: {socket.name}"))
        choices = [("", "choose a free socket"), *groups.items()]
        self.fields["source"].choices = choices
        self.fields["target"].choices = choices
        gone = "This socket is gone or already has its cable. Choose a free one."
        for name in ("source", "target"):
            self.fields[name].error_messages = {"invalid_choice": gone, "required": "Choose a socket."}


class RouteForm(Merged, forms.Form):
    """What a route inside a box lets pass."""

    channels = ChannelsField(
        label="Channels that pass", required=False, help_text="Like 1, 3, 10-12. Empty: all sixteen."
    )
    remap = RemapField(label="Channels that change", required=False, help_text="Like 1>3: what comes on 1 leaves on 3.")
    clock = forms.BooleanField(label="Clock and start keys pass", required=False)
    gain_db = forms.FloatField(label="Gain, dB", min_value=-80, max_value=80)

    def __init__(self, *args, route: Route, kind: str, **kwargs) -> None:
        super().__init__(*args, initial={name: getattr(route, name) for name in self.base_fields}, **kwargs)
        for name in ("channels", "remap", "clock") if kind == "audio" else ("gain_db",):
            del self.fields[name]


def _end_first(name: str) -> str:
    """A reported name with what tells it from others in front, since there is little room."""
    device, mark, end = name.partition(": ")
    return f"{end} · {device}" if mark else name


@lru_cache(8)
def _reported(names: tuple[str, ...], fields: int, direction: str) -> Options:
    """What so many ends of a direction can be matched to; one and the same as long as it is."""
    return Options((("", "nothing"), *((name, _end_first(name)) for name in names)), fields, f"reported-{direction}")


@lru_cache(2048)
def _row_of(socket: Socket, duties: tuple[str, ...], reported: Options) -> forms.Form:
    """The fields of one end, to be shown: made and written once as long as nothing of it changes."""
    row, label = forms.Form(), socket.label
    row.lasting = True
    row.fields[f"name_{socket.uid}"] = forms.CharField(
        max_length=80, required=False, initial=socket.port_name, label=f"Your name for {label}"
    )
    if duties:
        row.fields[f"duty_{socket.uid}"] = forms.ChoiceField(
            choices=[("", "not said yet"), *((duty, duty) for duty in duties)],
            required=False,
            initial=socket.duty,
            label=f"Duty of {label}",
        )
    match = SharedChoice(required=False, initial=socket.system_name, label=f"Reported as, for {label}")
    gone = () if socket.system_name in reported else ((socket.system_name, _end_first(socket.system_name)),)
    match.offer(reported, gone)
    row.fields[f"match_{socket.uid}"] = match
    return row


class EndsForm(Merged, forms.Form):
    """Which reported end each socket is, and what it is called; unlike other forms it is drawn as rows."""

    duties: Mapping[str, tuple[str, ...]] = {"in": (), "out": ()}
    """What the ends of each direction can be for."""
    stored = {"name": "port_name", "duty": "duty", "match": "system_name"}
    """Field of a row → the socket's."""

    def __init__(self, *args, ends: Sequence[PortEnd], reported: Mapping[str, Iterable[str]], **kwargs) -> None:
        """reported: the names of each direction."""
        super().__init__(*args, **kwargs)
        self.ends = ends
        counts = Counter(end.direction for end in ends)
        names = {direction: tuple(dict.fromkeys(reported[direction])) for direction in counts}
        self.reported = {one: _reported(names[one], many, one) for one, many in counts.items()}
        self._rows = [_row_of(one.socket, self.duties[one.direction], self.reported[one.direction]) for one in ends]
        for row in self._rows:
            self.fields |= row.fields

    def rows(self) -> list[tuple[PortEnd, list[forms.BoundField]]]:
        """Each end with its fields."""
        shown = ((self if self.is_bound else row, row.fields) for row in self._rows)
        return [(end, [form[name] for name in names]) for end, (form, names) in zip(self.ends, shown, strict=True)]

    @property
    def offered(self) -> SafeString:
        """What the page holds for the lists of reported names."""
        return mark_safe("".join(one.held for one in self.reported.values()))

    def clean(self):
        values = super().clean()
        seen: dict[tuple[str, str], PortEnd] = {}
        for end in self.ends:
            field = f"match_{end.socket.uid}"
            name = values.get(field, "")
            first = seen.setdefault((name, end.direction), end) if name else end
            if first is not end:
                self.add_error(field, f"“{name}” is matched to {first.socket.label} already. Choose another.")
        return values

    def changes(self) -> dict[str, dict]:
        """Fields by socket uid."""
        return {
            end.socket.uid: {
                stored: self.cleaned_data[f"{name}_{end.socket.uid}"].strip()
                for name, stored in self.stored.items()
                if f"{name}_{end.socket.uid}" in self.fields
            }
            for end in self.ends
        }


class PortsForm(EndsForm):
    """Every port's name, duty and match."""

    duties = {"in": IN_DUTIES, "out": OUT_DUTIES}


class MeantForm(forms.Form):
    """Why a finding is meant to be so."""

    reason = forms.CharField(label="It is meant to be so, because", max_length=300)


RATES = [(rate, f"{rate} Hz") for rate in (44100, 48000, 88200, 96000)]
BUFFERS = [(size, f"{size} samples") for size in (32, 64, 128, 256, 512, 1024, 2048)]


class NamedRigForm(forms.Form):
    """Name of a rig, and the buffer its interface is set to."""

    name = forms.CharField(label="Name of the rig", max_length=80)
    buffer = forms.TypedChoiceField(label="Buffer", choices=BUFFERS, coerce=int)

    def __init__(self, *args, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        now = self.initial.get("buffer", BUFFERS[3][0])
        if now not in dict(BUFFERS):
            self.fields["buffer"].choices = sorted([*BUFFERS, (now, f"{now} samples")])


class RigForm(Merged, NamedRigForm):
    """A rig that is there: also its rate, driver, echo and leader. kept_rates: of the takes in its sessions."""

    sample_rate = forms.TypedChoiceField(label="Sample rate", choices=RATES, coerce=int)
    driver = forms.CharField(
        label="Kind of driver",
        max_length=80,
        required=False,
        help_text="In your own words; lateness changes with it.",
    )
    stamps = forms.CharField(label="Time stamps of messages come from", max_length=80, required=False)
    echo = forms.BooleanField(
        label="Echo: the host passes what is played on to the selected instrument", required=False
    )
    leader = forms.ChoiceField(label="Whose clock all follow", required=False)

    def __init__(self, *args, plan: Plan, kept_rates: Collection[int] = (), **kwargs) -> None:
        super().__init__(*args, **kwargs)
        heard = leading_boxes(plan.rig)
        boxes = [(box.uid, box.name) for box in plan.rig.boxes if box.setup.sends_clock or box.uid in heard]
        self.fields["leader"].choices = [("", "the host's"), *boxes]
        self.kept_rates = kept_rates
        if plan.rig.sample_rate not in dict(RATES):
            self.fields["sample_rate"].choices = [*RATES, (plan.rig.sample_rate, f"{plan.rig.sample_rate} Hz")]

    def clean_sample_rate(self):
        rate = self.cleaned_data["sample_rate"]
        others = sorted(set(self.kept_rates) - {rate})
        if others:
            raise forms.ValidationError(
                f"There are takes at {others[0]} Hz in this rig, and all takes of a session share one rate. Copy the "
                f"rig, and set the copy to {rate} Hz."
            )
        return rate


class NewRigForm(NamedRigForm):
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
            raise forms.ValidationError(f"The file is {upload.size / 2**20:.0f} MB: too large for a rig.")
        return upload


class StudioForm(forms.Form):
    """Which studio this computer uses. devices: (inputs, outputs) that system audio can be had from."""

    kind = forms.ChoiceField(choices=tuple(STUDIO_NAMES.items()))
    server = forms.CharField(
        label="Name of the server",
        max_length=80,
        required=False,
        help_text="Empty: the one that is called “default”, as most are.",
    )
    input_device = forms.ChoiceField(label="Records from", required=False)
    output_device = forms.ChoiceField(label="Plays to", required=False)
    rate = forms.TypedChoiceField(
        label="Sample rate", coerce=int, empty_value=0, required=False, choices=[("", "as it is set"), *RATES]
    )
    buffer = forms.TypedChoiceField(
        label="Buffer", coerce=int, empty_value=0, required=False, choices=[("", "as usual"), *BUFFERS]
    )

    def __init__(self, *args, devices: tuple[Collection[str], Collection[str]] = ((), ()), **kwargs) -> None:
        super().__init__(*args, **kwargs)
        for name, offered in zip(("input_device", "output_device"), devices, strict=True):
            kept = self.initial.get(name) or ""
            names = dict.fromkeys([*offered, *([kept] if kept else [])])
            self.fields[name].choices = [("", "the system's choice"), *((one, one) for one in names)]

    def clean_server(self) -> str:
        """The name of a JACK server; nothing else has one."""
        return self.cleaned_data["server"] if self.cleaned_data.get("kind") == JACK else ""


class OwnPortForm(forms.Form):
    """A port, input or output of our own that other programs can connect to."""

    name = forms.RegexField(
        r"^[\w .+-]+$",
        max_length=40,
        label="Your name for it",
        error_messages={"invalid": "Use letters, digits, spaces and . + - _ only: other programs show the name."},
    )
    what = forms.ChoiceField(
        label="What it takes",
        choices=(
            (f"{MIDI} in", "MIDI that another program plays in"),
            (f"{MIDI} out", "MIDI that another program gets"),
            (f"{AUDIO} in", "audio that another program plays in (JACK)"),
            (f"{AUDIO} out", "audio that another program gets (JACK)"),
        ),
    )
