"""Forms of the instruments."""

from collections.abc import Sequence

from django import forms

from hypotaxis.core.formats.pasted import MOST_CHARACTERS
from hypotaxis.core.formats.text import MAX_TEXT_BYTES
from hypotaxis.core.midi.programs import BANK_FORMS
from hypotaxis.core.midi.scales import NAMES, SCALES
from hypotaxis.core.midi.shaping import CURVES, HARMONIES, Shaping
from hypotaxis.core.patches.values import Bank
from hypotaxis.core.plan import Instrument, Loop, Part, Plan, Return, Voice
from hypotaxis.core.rig.loops import takes_audio
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.rig.shapes import SHAPES
from hypotaxis.core.rig.trips import host_audio, return_sockets, send_sockets
from hypotaxis.records.merging import Merged

MIDDLE = 60
GONE = "is gone from the rig"


def clean_range(self):
    """Swapped ends of a range of notes are told."""
    values = forms.Form.clean(self)
    if values.get("low", 0) > values.get("high", 127):
        self.add_error("high", "The highest note is below the lowest one. Swap them.")
    return values


class ReturnFields(forms.Form):
    """One input, or a left and a right one."""

    left = forms.ChoiceField(label="Sound comes home on (mono, or left)", required=False)
    right = forms.ChoiceField(label="Right side", required=False, help_text="Leave empty for a mono return.")
    inverted = forms.BooleanField(
        label="Polarity inverted",
        required=False,
        help_text="Turned where it is heard or handed over; takes are kept as they came.",
    )

    def offer_inputs(self, plan: Plan, kept: tuple[str, ...]) -> None:
        """Offer the host's inputs, and what was chosen before even where it is gone."""
        inputs = [(s.uid, plan.rig.socket_text(s.uid)) for _, s in return_sockets(plan.rig)]
        known = dict(inputs)
        inputs += [(uid, f"(an input that {GONE})") for uid in kept if uid not in known]
        self.fields["left"].choices = [("", "none yet"), *inputs]
        self.fields["right"].choices = [("", "none: mono"), *inputs]

    def clean(self):
        values = super().clean()
        if values.get("right") and not values.get("left"):
            self.add_error("left", "A right side needs a left one. Choose the left input, or make it mono.")
        elif values.get("right") and values["right"] == values["left"]:
            self.add_error("right", "Left and right are the same input. For one input leave the right side empty.")
        return values

    def inputs(self) -> tuple[str, ...]:
        """The chosen inputs, left first."""
        return tuple(uid for uid in (self.cleaned_data["left"], self.cleaned_data["right"]) if uid)


class InstrumentForm(Merged, ReturnFields):
    """Where a box's notes go and where its sound comes back. Loose ends are kept and shown, not refused."""

    name = forms.CharField(label="Name", max_length=80)
    box = forms.ChoiceField(label="Box that sounds")
    send = forms.ChoiceField(label="Notes leave by", required=False)
    channel = forms.IntegerField(label="Channel", min_value=1, max_value=16)
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
        self.fields["box"].choices = [("", "choose a box"), *boxes]
        self.fields["send"].choices = [("", "none yet"), *sends]
        self.offer_inputs(plan, instrument.returns if instrument else ())
        self.order_fields(["name", "box", "send", "channel", "left", "right"])
        self.fields["box"].error_messages = {
            "required": "Choose the box that makes the sound.",
            "invalid_choice": "This box is no longer in the rig. Choose another.",
        }
        if instrument:
            kept = {"box": instrument.box, "send": instrument.send}
            for name, uid in kept.items():
                if uid and uid not in dict(self.fields[name].choices):
                    self.fields[name].choices = [*self.fields[name].choices, (uid, f"({name} {GONE})")]


class ReturnForm(Merged, ReturnFields):
    """A further way home."""

    name = forms.CharField(label="What comes home there", max_length=80, help_text="Such as kick, or effects.")
    field_order = ["name", "left", "right", "inverted"]

    def __init__(self, *args, plan: Plan, back: Return, **kwargs) -> None:
        left, right = (*back.inputs, "", "")[:2]
        known = {"name": back.name, "left": left, "right": right, "inverted": back.inverted}
        super().__init__(*args, initial=known, **kwargs)
        self.offer_inputs(plan, back.inputs)


class LoopForm(Merged, ReturnFields):
    """Audio out to a box, and its return."""

    name = forms.CharField(label="Name", max_length=80)
    box = forms.ChoiceField(label="Box that processes", required=False)
    send_left = forms.ChoiceField(label="Audio leaves by (mono, or left)", required=False)
    send_right = forms.ChoiceField(label="Right side out", required=False, help_text="Leave empty for a mono send.")
    home_trim_db = forms.FloatField(label="Home trim, dB", min_value=-60, max_value=24)
    notes = forms.CharField(label="Notes of yours", max_length=4000, required=False, widget=forms.Textarea)
    field_order = ["name", "box", "send_left", "send_right", "left", "right", "home_trim_db", "inverted", "notes"]

    def __init__(self, *args, plan: Plan, loop: Loop, **kwargs) -> None:
        left, right = (*loop.returns, "", "")[:2]
        send_left, send_right = (*loop.sends, "", "")[:2]
        known = {name: getattr(loop, name) for name in ("name", "box", "home_trim_db", "inverted", "notes")}
        known |= {"left": left, "right": right, "send_left": send_left, "send_right": send_right}
        super().__init__(*args, initial=known, **kwargs)
        self.offer_inputs(plan, loop.returns)
        outs = [(socket.uid, plan.rig.socket_text(socket.uid)) for _, socket in host_audio(plan.rig, "out")]
        outs += [(uid, f"(an output that {GONE})") for uid in loop.sends if uid not in dict(outs)]
        self.fields["send_left"].choices = [("", "none yet"), *outs]
        self.fields["send_right"].choices = [("", "none: mono"), *outs]
        boxes = [(box.uid, box.name) for box in plan.rig.boxes if takes_audio(box)]
        if loop.box and loop.box not in dict(boxes):
            boxes.append((loop.box, f"(a box that {GONE})"))
        self.fields["box"].choices = [("", "none: a cable straight from out to in"), *boxes]

    def clean(self):
        values = super().clean()
        if values.get("send_right") and not values.get("send_left"):
            self.add_error("send_left", "A right side needs a left one. Choose the left output, or make it mono.")
        elif values.get("send_right") and values["send_right"] == values["send_left"]:
            self.add_error("send_right", "Left and right are the same output. For one leave the right side empty.")
        return values

    def sends(self) -> tuple[str, ...]:
        """The chosen outputs, left first."""
        return tuple(uid for uid in (self.cleaned_data["send_left"], self.cleaned_data["send_right"]) if uid)


class PartForm(Merged, forms.Form):
    """A further channel of an instrument."""

    name = forms.CharField(label="Name of the part", max_length=80)
    channel = forms.IntegerField(label="Channel", min_value=1, max_value=16)
    send = forms.ChoiceField(label="Its notes leave by", required=False)
    level = forms.IntegerField(
        label="Level, 0–127",
        min_value=0,
        max_value=127,
        required=False,
        help_text="Controller 7, sent with its sound; empty leaves it as set on the box.",
    )
    pan = forms.IntegerField(
        label="Pan, 0–127",
        min_value=0,
        max_value=127,
        required=False,
        help_text="Controller 10; 64 is the middle, empty leaves it as set on the box.",
    )
    low = forms.IntegerField(label="Lowest note let through", min_value=0, max_value=127)
    high = forms.IntegerField(label="Highest note let through", min_value=0, max_value=127)
    transpose = forms.IntegerField(label="Transposed by semitones", min_value=-60, max_value=60)
    curve = forms.ChoiceField(label="Velocity", choices=CURVES.items())

    def __init__(self, *args, plan: Plan, instrument: Instrument, part: Part, **kwargs) -> None:
        super().__init__(*args, initial={name: getattr(part, name) for name in self.base_fields}, **kwargs)
        sends = [(s.uid, plan.rig.socket_text(s.uid)) for _, s in send_sockets(plan.rig) if s.uid != instrument.send]
        if part.send and part.send not in dict(sends):
            sends.append((part.send, f"(a socket that {GONE})"))
        self.fields["send"].choices = [("", "the same socket as the first part"), *sends]

    clean = clean_range


class StandingForm(Merged, forms.Form):
    """Lines from which an instrument is always played. A row without a port is left out."""

    MORE = 2
    as_one = True

    def __init__(self, *args, plan: Plan, instrument: Instrument, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        ports = [(end.socket.uid, plan.rig.socket_text(end.socket.uid)) for end in keys_in(plan.rig)]
        ports += [(uid, f"(a port that {GONE})") for uid, _ in instrument.standing if uid not in dict(ports)]
        self.count = len(instrument.standing) + self.MORE
        for number in range(self.count):
            port, channel = instrument.standing[number] if number < len(instrument.standing) else ("", 0)
            self.fields[f"port_{number}"] = forms.ChoiceField(
                label="Always played from", choices=[("", "none"), *ports], required=False, initial=port
            )
            self.fields[f"channel_{number}"] = forms.TypedChoiceField(
                label="on channel",
                choices=[(0, "all"), *((one, str(one)) for one in range(1, 17))],
                coerce=int,
                initial=channel,
            )

    def lines(self) -> tuple[tuple[str, int], ...]:
        """The chosen lines, each once."""
        values = self.cleaned_data
        rows = ((values[f"port_{number}"], values[f"channel_{number}"]) for number in range(self.count))
        return tuple(dict.fromkeys(row for row in rows if row[0]))


class VoicesForm(Merged, forms.Form):
    """Which note plays which sound, and where that comes home. Rows without a name are left out. The page shows one
    empty row at a time, so that a whole kit can be typed in one go."""

    MORE = 32
    as_one = True

    def __init__(self, *args, instrument: Instrument, rows: Sequence[Voice], **kwargs) -> None:
        super().__init__(*args, **kwargs)
        homes = [("", "main"), *((back.uid, back.name) for back in instrument.further)]
        self.count = min(len(rows) + self.MORE, 128)
        for number in range(self.count):
            row = rows[number] if number < len(rows) else None
            self.fields[f"note_{number}"] = forms.IntegerField(
                label=f"Note of row {number + 1}",
                min_value=0,
                max_value=127,
                required=False,
                initial=row.note if row else None,
            )
            self.fields[f"name_{number}"] = forms.CharField(
                label=f"Voice of row {number + 1}", max_length=80, required=False, initial=row.name if row else ""
            )
            self.fields[f"home_{number}"] = forms.ChoiceField(
                label=f"Way home of row {number + 1}",
                choices=homes,
                required=False,
                initial=row.home if row and row.home in dict(homes) else "",
            )

    def rows(self) -> list[tuple]:
        """The three fields of each row."""
        return [tuple(self[f"{name}_{number}"] for name in ("note", "name", "home")) for number in range(self.count)]

    def clean(self):
        values = super().clean()
        seen: dict[int, int] = {}
        for number in range(self.count):
            note, name = values.get(f"note_{number}"), values.get(f"name_{number}")
            if name and note is None and f"note_{number}" not in self.errors:
                self.add_error(f"note_{number}", f"{name} needs a note, 0 to 127.")
            elif name and note in seen:
                self.add_error(f"note_{number}", f"Note {note} is in row {seen[note] + 1} already.")
            elif name and note is not None:
                seen[note] = number
        return values

    def voices(self) -> list[Voice]:
        """The rows that have a name."""
        values = self.cleaned_data
        return [
            Voice(note=values[f"note_{n}"], name=values[f"name_{n}"].strip(), home=values[f"home_{n}"])
            for n in range(self.count)
            if values[f"name_{n}"].strip()
        ]


class SoundsForm(Merged, forms.Form):
    """How an instrument's sounds are called up, named and noted."""

    bank_form = forms.ChoiceField(label="Bank select that its box wants", choices=BANK_FORMS.items())
    gap_ms = forms.FloatField(
        label="Gap after a change of sound, ms",
        min_value=0,
        max_value=2000,
        help_text="Notes that follow a change too closely are swallowed by some boxes.",
    )
    note_map = forms.ChoiceField(label="Names of its notes", required=False)
    middle_c = forms.TypedChoiceField(label="Its box writes note 60 as", choices=((4, "C4"), (3, "C3")), coerce=int)
    group = forms.CharField(
        label="Group", max_length=40, required=False, help_text="Instruments of one group stand together."
    )
    notes = forms.CharField(label="Notes of yours", max_length=4000, required=False, widget=forms.Textarea)

    def __init__(self, *args, instrument: Instrument, maps: list[str], **kwargs) -> None:
        super().__init__(*args, initial={name: getattr(instrument, name) for name in self.base_fields}, **kwargs)
        names = list(dict.fromkeys([*maps, *([instrument.note_map] if instrument.note_map else [])]))
        self.fields["note_map"].choices = [("", "none: keys"), *((name, name) for name in names)]


class ShapingForm(Merged, forms.Form):
    """What becomes of notes that are played."""

    low = forms.IntegerField(label="Lowest note let through", min_value=0, max_value=127)
    high = forms.IntegerField(label="Highest note let through", min_value=0, max_value=127)
    transpose = forms.IntegerField(label="Transposed by semitones", min_value=-60, max_value=60)
    curve = forms.ChoiceField(label="Velocity", choices=CURVES.items())
    harmony = forms.ChoiceField(label="Harmony", choices=HARMONIES.items(), required=False)
    root = forms.TypedChoiceField(label="Key", choices=list(enumerate(NAMES)), coerce=int)
    scale = forms.ChoiceField(label="Scale", choices=[(name, name) for name in SCALES])

    def __init__(self, *args, shaping: Shaping, **kwargs) -> None:
        super().__init__(*args, initial={name: getattr(shaping, name) for name in self.base_fields}, **kwargs)

    clean = clean_range


class PatchFileForm(forms.Form):
    """A patch list as a file, or as text from a manual."""

    file = forms.FileField(label="File: name document (XML), table (CSV, TSV), ProgramList (JSON)", required=False)
    text = forms.CharField(
        label="Or text pasted from a manual",
        required=False,
        widget=forms.Textarea(attrs={"rows": 10}),
        strip=False,
        max_length=MOST_CHARACTERS,
    )

    def clean(self):
        values = super().clean()
        if not values.get("file") and not (values.get("text") or "").strip() and not self.errors:
            raise forms.ValidationError("Choose a file, or paste the list.")
        if values.get("file") and values["file"].size > MAX_TEXT_BYTES:
            self.add_error("file", f"The file is {values['file'].size / 2**20:.0f} MB: too large for a list of names.")
        return values

    def is_pasted(self) -> bool:
        return not self.cleaned_data["file"]

    def data_to_read(self) -> bytes:
        if self.is_pasted():
            return self.cleaned_data["text"].encode()
        return self.cleaned_data["file"].read()

    def title(self) -> str:
        """What the list may be called: the file's name without its ending."""
        return "" if self.is_pasted() else self.cleaned_data["file"].name.rpartition(".")[0]


class BankNumbersForm(forms.Form):
    """A list's name and its banks' numbers, as they are confirmed."""

    title = forms.CharField(label="Name of the list", max_length=80)

    def __init__(self, *args, banks: Sequence[Bank], title: str, **kwargs) -> None:
        super().__init__(*args, initial={"title": title}, **kwargs)
        self.count = len(banks)
        for place, bank in enumerate(banks):
            for part in ("msb", "lsb"):
                self.fields[f"{part}_{place}"] = forms.IntegerField(
                    label=f"{part.upper()} of {bank.name or 'the list'}",
                    min_value=0,
                    max_value=127,
                    required=False,
                    initial=getattr(bank, part),
                )

    def rows(self) -> list[tuple]:
        """The two fields of each bank."""
        return [(self[f"msb_{place}"], self[f"lsb_{place}"]) for place in range(self.count)]

    def numbers(self) -> list[tuple[int | None, int | None]]:
        """(MSB, LSB) of each bank."""
        values = self.cleaned_data
        return [(values[f"msb_{place}"], values[f"lsb_{place}"]) for place in range(self.count)]


class TryOutForm(forms.Form):
    """One note to play."""

    note = forms.IntegerField(label="Note, 0–127", min_value=0, max_value=127, initial=MIDDLE)
    velocity = forms.IntegerField(label="Velocity, 1–127", min_value=1, max_value=127, initial=100)
    length_s = forms.FloatField(label="Length, s", min_value=0.05, max_value=5, initial=0.6)
    hold_s = forms.TypedChoiceField(
        label="Meters hold their peak", choices=((0, "until reset"), (2, "2 s"), (5, "5 s")), coerce=int, required=False
    )
    aim_db = forms.IntegerField(label="Reference mark, dBFS", min_value=-60, max_value=0, required=False, initial=-12)
    fast = forms.BooleanField(label="Stand-in faster than real time", required=False)
