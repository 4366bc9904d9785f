"""Forms of sync: they check types; what makes sense is the core's to say."""

from fractions import Fraction

from django import forms

from hypotaxis.core.rig.values import Box, Socket
from hypotaxis.core.sync.divisions import QUARTERS, division_of
from hypotaxis.core.sync.misstep import TICKS_A_SIXTEENTH
from hypotaxis.core.sync.timecode import RATES
from hypotaxis.core.sync.values import BY, OBEYS, OSCILLATOR, PACES, PLAYS, WRAPS, Following, LoopSetting, Sending
from hypotaxis.core.units import CLOCKS_A_QUARTER
from hypotaxis.records.merging import Merged

WRAP_NAMES = {
    "nothing": "nothing",
    "start": "start again",
    "position": "stop, song position, continue",
}
PLAY_NAMES = {"": "nothing: it only answers notes"} | {name: name for name in PLAYS}
TIME_CODES = [
    ("", "none"),
    *((name, f"{name} frames a second{', drop' if RATES[name].drop else ''}") for name in RATES),
]
MOST_SIXTEENTHS = 16 * 4096


class LoopForm(Merged, forms.Form):
    """Which bars are played in a loop; without a length the song is played once."""

    first_bar = forms.IntegerField(label="from bar", min_value=1, max_value=100_000)
    bars = forms.IntegerField(label="bars", min_value=1, max_value=100_000, required=False)
    times = forms.IntegerField(label="times", min_value=2, max_value=999)
    begin_bar = forms.IntegerField(label="begun at bar", min_value=1, max_value=100_000)

    def __init__(self, *args, last_bar: int, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        self.last_bar = last_bar

    def clean(self):
        values = super().clean()
        end = (values.get("first_bar") or 1) + (values.get("bars") or 1) - 1
        if end > self.last_bar and "first_bar" in values:
            self.add_error(
                "bars" if values.get("bars") else "first_bar",
                f"The song ends with bar {self.last_bar}, and the loop would reach to bar {end}.",
            )
        return values

    def setting(self) -> LoopSetting:
        """The loop as it was typed; the run begins at the loop or before it."""
        values = self.cleaned_data
        return LoopSetting(**values | {"begin_bar": min(values["begin_bar"], values["first_bar"])})


class PortForm(Merged, forms.Form):
    """What a port sends to boxes that follow."""

    shift_ms = forms.FloatField(label="Shift, ms", min_value=-200, max_value=200, required=False)
    compensate = forms.BooleanField(label="so that its sound stands on the bar", required=False)
    wrap = forms.ChoiceField(label="At the wrap", choices=[(name, WRAP_NAMES[name]) for name in WRAPS])
    always = forms.BooleanField(label="clock runs also while the song stands", required=False)
    keys = forms.BooleanField(label="start, continue and stop", required=False)
    position = forms.BooleanField(label="song position", required=False)
    time_code = forms.ChoiceField(label="Time code", choices=TIME_CODES, required=False)
    offset = forms.IntegerField(label="frame at bar 1", min_value=0, max_value=24 * 3600 * 30, required=False)

    def __init__(self, *args, port: Socket, **kwargs) -> None:
        kept = port.sending or Sending()
        initial = {name: getattr(kept, name) for name in self.base_fields}
        super().__init__(*args, initial=initial, prefix=port.uid, **kwargs)
        self.fields["shift_ms"].widget.attrs["aria-label"] = f"Shift of {port.name}, ms"

    def sending(self) -> Sending:
        """What is sent."""
        values = self.cleaned_data
        return Sending(**values | {"shift_ms": values["shift_ms"] or 0.0, "offset": values["offset"] or 0})


class BoxForm(Merged, forms.Form):
    """What a box makes of the clock it hears. a_bar: ticks of a bar, 24 a quarter, in which its length is shown."""

    plays = forms.ChoiceField(
        label="By its clock goes", choices=[(name, PLAY_NAMES[name]) for name in PLAY_NAMES], required=False
    )
    bars = forms.IntegerField(label="Its length, bars", min_value=0, max_value=4096, required=False)
    sixteenths = forms.IntegerField(label="and sixteenths", min_value=0, max_value=MOST_SIXTEENTHS, required=False)
    division = forms.ChoiceField(
        label="Or a division", choices=[("", "none"), *((name, name) for name in QUARTERS)], required=False
    )
    pace = forms.ChoiceField(
        label="It counts", choices=zip(PACES, ("as the host", "half: 8 bars here, 4 there", "double"), strict=True)
    )
    by = forms.ChoiceField(
        label="It takes its clock from",
        choices=[("", "wherever it comes"), *((name, name) for name in BY)],
        required=False,
    )
    obeys = forms.MultipleChoiceField(
        label="It obeys", choices=[(name, name) for name in OBEYS], widget=forms.CheckboxSelectMultiple, required=False
    )
    restarts = forms.BooleanField(label="It obeys start also while it runs", required=False)
    time_code = forms.ChoiceField(label="It is set to time code of", choices=TIME_CODES, required=False)

    def __init__(self, *args, box: Box, a_bar: Fraction, **kwargs) -> None:
        kept, self.a_bar = box.following, a_bar
        bars, sixteenths, division = _length_of(kept, a_bar)
        initial = {"bars": bars, "sixteenths": sixteenths, "division": division}
        initial |= {name: getattr(kept, name) for name in ("plays", "pace", "by", "restarts", "time_code")}
        super().__init__(*args, initial=initial | {"obeys": list(kept.obeys)}, **kwargs)

    def following(self) -> Following:
        """What it makes of the clock."""
        values = self.cleaned_data
        if values["division"]:
            length = QUARTERS[values["division"]] * CLOCKS_A_QUARTER
        else:
            length = (values["bars"] or 0) * self.a_bar + (values["sixteenths"] or 0) * TICKS_A_SIXTEENTH
        kept = {name: values[name] for name in ("plays", "pace", "by", "restarts", "time_code")}
        return Following(**kept, obeys=tuple(values["obeys"]), length_ticks=round(length) or None)


def _length_of(kept: Following, a_bar: Fraction) -> tuple[int | None, int | None, str]:
    """(bars, sixteenths, division) of a length."""
    if kept.length_ticks is None:
        return None, None, ""
    if kept.plays == OSCILLATOR and (name := division_of(kept.length_ticks)):
        return None, None, name
    bars = kept.length_ticks // a_bar
    return int(bars), int((kept.length_ticks - bars * a_bar) / TICKS_A_SIXTEENTH), ""
