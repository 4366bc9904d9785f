"""Forms of the session."""

from pathlib import PurePath

from django import forms

from hypotaxis.core.formats.smf import MAX_BYTES
from hypotaxis.core.plan import Plan
from hypotaxis.records.merging import Merged
from hypotaxis.records.models import Track


class ScoreForm(forms.Form):
    """A MIDI file to import."""

    score = forms.FileField(
        label="Standard MIDI File (.mid)",
        help_text="Type 0 or 1. Tempo and meter changes are kept; a track with several channels is split by channel.",
        error_messages={
            "required": "Choose a file first.",
            "empty": "The file is empty. Export it again from where it was made.",
        },
    )
    name = forms.CharField(label="Name of the session", max_length=80, required=False, help_text="Empty: the file’s.")

    def clean_score(self):
        upload = self.cleaned_data["score"]
        if upload.size > MAX_BYTES:
            raise forms.ValidationError(
                f"The file is {upload.size / 2**20:.0f} MB; scores up to {MAX_BYTES // 2**20} MB are read. "
                "Is it an audio file?"
            )
        return upload

    def session_name(self) -> str:
        """The given name, otherwise the file's without its ending."""
        return self.cleaned_data["name"].strip() or PurePath(self.cleaned_data["score"].name).stem or "Untitled"


class TrackForm(Merged, forms.Form):
    """A track's instrument, program and arming. The program is shown as the wire counts it, 0–127."""

    instrument_uid = forms.ChoiceField(label="Instrument", required=False)
    program = forms.IntegerField(label="Program 0–127", min_value=0, max_value=127, required=False)
    armed = forms.BooleanField(label="Armed", required=False)

    def __init__(self, *args, track: Track, plan: Plan, **kwargs) -> None:
        self.track, self.kept = track, "/".join(filter(None, (track.instrument_uid, track.part_uid)))
        initial = {"instrument_uid": self.kept, "program": track.program, "armed": track.armed}
        super().__init__(*args, prefix=str(track.uid), initial=initial, **kwargs)
        choices = [("", "no instrument")]
        for one in plan.instruments:
            choices.append((one.uid, one.name))
            choices += [(f"{one.uid}/{part.uid}", f"{one.name}: {part.name}") for part in one.parts]
        if self.kept not in dict(choices):
            choices.append((self.kept, "an instrument or part that is gone"))
        self.fields["instrument_uid"].choices = choices

    def save(self) -> None:
        """Store what changed. A program typed by hand is no longer the picked patch's, and belongs to no bank."""
        chosen, fields = self.cleaned_data, {}
        if chosen["instrument_uid"] != self.kept:
            uid, _, part = chosen["instrument_uid"].partition("/")
            fields |= {"instrument_uid": uid, "part_uid": part}
        if chosen["program"] != self.track.program:
            fields |= {"program": chosen["program"], "patch_uid": "", "msb": None, "lsb": None}
        if chosen["armed"] != self.track.armed:
            fields["armed"] = chosen["armed"]
        if fields:
            Track.objects.filter(uid=self.track.uid).update(**fields)


class PassForm(forms.Form):
    """What a pass records."""

    first_bar = forms.IntegerField(label="from bar", min_value=1)
    last_bar = forms.IntegerField(label="to bar", min_value=1)
    times = forms.IntegerField(label="times", min_value=1, max_value=999, required=False)
    fast = forms.BooleanField(required=False)
    place = forms.BooleanField(required=False)
