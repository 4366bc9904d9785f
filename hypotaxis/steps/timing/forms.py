"""Forms of timing."""

from collections.abc import Sequence
from pathlib import PurePath

from django import forms

from hypotaxis.core.formats import audio, smf
from hypotaxis.core.plan import Plan
from hypotaxis.core.timing.grid import BPM, STEPS
from hypotaxis.core.timing.wish import HITS, TESTS, seconds_of

SIDES = (("auto", "the clearer side"), ("left", "left"), ("right", "right"), ("mix", "both mixed"))


class ChoiceForm(forms.Form):
    """Which notes, and which side of a pair; empty: find out. parts: what a known score offers, as rows of track,
    channel, name and number of notes; without them any number may be typed."""

    track = forms.IntegerField(
        label="Track (empty: find out)",
        min_value=1,
        max_value=999,
        required=False,
        help_text="Counted from 1 in the file, the conductor track included.",
    )
    channel = forms.IntegerField(label="Channel (empty: all)", min_value=1, max_value=16, required=False)
    side = forms.ChoiceField(label="Of a stereo recording take", choices=SIDES, initial="auto", required=False)

    def __init__(self, *args, parts: list | None = None, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        if parts:
            names: dict[int, list[str]] = {}
            for track, _, name, _ in parts:
                names.setdefault(track, []).append(name)
            tracks = [(track, f"track {track}: {', '.join(called)[:60]}") for track, called in names.items()]
            channels = [(channel, f"channel {channel}") for channel in sorted({part[1] for part in parts})]
            self.fields["track"] = _choice("Track", "find out", tracks)
            self.fields["channel"] = _choice("Channel", "all", channels)

    def clean_side(self):
        return self.cleaned_data["side"] or "auto"

    def chosen(self) -> dict:
        """What was chosen, as the services take it."""
        return {name: self.cleaned_data[name] for name in ("track", "channel", "side")}


def _choice(label: str, empty: str, choices: list[tuple[int, str]]) -> forms.TypedChoiceField:
    return forms.TypedChoiceField(
        label=label, choices=[("", empty), *choices], coerce=int, empty_value=None, required=False
    )


class SoundingForm(ChoiceForm):
    """A score and what was recorded while it played."""

    score = forms.FileField(
        label="Score (.mid): what was played to the box",
        required=False,
        error_messages={"empty": "The score is an empty file."},
    )
    step = forms.ChoiceField(
        label="Without notes: a click or clock in the recording",
        choices=[("", "no, there is a score"), *((name, name) for name in STEPS)],
        required=False,
        help_text="A click recorded beside an improvisation (choose its side below), or a sound that a clock drives.",
    )
    bpm = forms.FloatField(label="Its tempo, BPM", min_value=BPM[0], max_value=BPM[1], required=False)
    recording = forms.FileField(
        label="Recording: what came back, from the score’s very beginning",
        help_text="WAV, AIFF, FLAC or Ogg, 8 to 192 kHz, mono or stereo, up to 2 GB and four hours.",
        error_messages={"required": "Choose the recording.", "empty": "The recording is an empty file."},
    )
    name = forms.CharField(
        label="Name of the sounding", max_length=80, required=False, help_text="Empty: the recording’s."
    )
    instrument = forms.ChoiceField(
        label="Of the instrument", required=False, help_text="Its lateness is then kept with it, like any sounding."
    )
    field_order = ["score", "step", "bpm", "recording", "instrument", "name", "track", "channel", "side"]

    def __init__(self, *args, plan: Plan | None = None, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        known = [(one.uid, one.name) for one in (plan.instruments if plan else ())]
        self.fields["instrument"].choices = [("", "none of this rig"), *known]

    def clean_score(self):
        score = self.cleaned_data["score"]
        return score and _not_larger(score, smf.MAX_BYTES, "scores", "Is it an audio file?")

    def clean(self):
        values = super().clean()
        step, score = values.get("step"), values.get("score")
        if not step and not score and "score" not in self.errors:
            self.add_error("score", "Choose the MIDI file that was played, or a click or clock without notes.")
        if step and score:
            self.add_error("step", "A score is chosen as well. Remove the file, or switch the click off.")
        if step and values.get("bpm") is None and "bpm" not in self.errors:
            self.add_error("bpm", "Enter the tempo of the click or clock.")
        return values

    def clean_recording(self):
        return _not_larger(self.cleaned_data["recording"], audio.MAX_BYTES, "recordings", "Cut out a few minutes.")

    def sounding_name(self) -> str:
        """The given name, otherwise the recording's without its ending."""
        return self.cleaned_data["name"].strip() or PurePath(self.cleaned_data["recording"].name).stem or "Untitled"


class TakeForm(forms.Form):
    """A sounding by the studio: what it plays. patches: (uid, name) of sounds that may be called up for it."""

    test = forms.ChoiceField(label="What", choices=list(TESTS.items()))
    hits = forms.TypedChoiceField(
        label="Hits", choices=[(count, f"{count}, {seconds_of(count):.0f} s") for count in HITS], coerce=int
    )
    note = forms.IntegerField(
        label="Note", min_value=5, max_value=127, required=False, help_text="Empty: one that suits the box."
    )
    velocity = forms.IntegerField(label="Velocity", min_value=1, max_value=127)
    patch = forms.ChoiceField(
        label="Sound", required=False, help_text="A percussive one reads best; what is called up now comes back."
    )
    fast = forms.BooleanField(label="Stand-in only: faster", required=False)

    def __init__(self, *args, patches: Sequence[tuple[str, str]] = (), **kwargs) -> None:
        initial = {"test": "hits", "hits": 64, "velocity": 110} | (kwargs.pop("initial", None) or {})
        super().__init__(*args, initial=initial, **kwargs)
        self.fields["patch"].choices = [("", "as it is called up now"), *patches]

    def wish(self) -> dict:
        """Fields of core.timing.wish.Wish; without a note where none was typed."""
        return {name: value for name, value in self.cleaned_data.items() if value is not None}


class TypedForm(forms.Form):
    """A lateness that the owner knows from elsewhere."""

    lateness_ms = forms.FloatField(
        label="Late by, ms (+ late, − early)",
        min_value=-1000,
        max_value=1000,
        required=False,
        help_text="Empty: what was measured counts again.",
    )


class RenameForm(forms.Form):
    """The name of a sounding."""

    name = forms.CharField(label="Name", max_length=80)


def _not_larger(upload, most: int, what: str, likely: str):
    if upload.size > most:
        raise forms.ValidationError(
            f"The file is {upload.size / 2**20:,.0f} MB; {what} up to {most / 2**20:,.0f} MB are read. {likely}"
        )
    return upload
